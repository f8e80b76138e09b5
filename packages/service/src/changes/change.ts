/** Who relies on what a configuration says: those who publish, call or set, and those who enter, read or are sent events. */
export type Party = 'publishers' | 'listeners';

/** A difference between two configurations that others may notice. */
export interface Change {
  /** Whom it breaks; empty: it only adds. */
  readonly breaks: readonly Party[];
  /** What it is about, such as `race/:race/chat` or `service`. */
  readonly where: string;
  /** Such as `type finish: /boat is required now`. */
  readonly what: string;
}

/** Gathers changes of one part of a configuration. */
export class Changes {
  readonly all: Change[] = [];
  readonly #where: string;

  constructor(where: string) {
    this.#where = where;
  }

  add(what: string, ...breaks: readonly Party[]): void {
    this.all.push({ breaks, where: this.#where, what });
  }
}

/** What breaks those on whom narrower data is imposed, and those who get wider data. */
export const narrowed = 'publishers';
export const widened = 'listeners';
