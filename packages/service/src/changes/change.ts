/** Parties that rely on a configuration: clients and applications that publish, call or set, and those that enter, read or receive events. */
export type Party = 'publishers' | 'listeners';

/** A difference between two configurations. */
export interface Change {
  /** Parties that it breaks; empty for an addition. */
  readonly breaks: readonly Party[];
  /** Subject, such as `race/:race/chat` or `service`. */
  readonly where: string;
  /** Description, such as `type finish: /boat is required now`. */
  readonly what: string;
}

/** Collects the changes of one part of a configuration. */
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

/** The parties that narrower and wider data break. */
export const narrowed = 'publishers';
export const widened = 'listeners';
