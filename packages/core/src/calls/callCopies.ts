import type { Call } from '../model/call.js';

/** How long calls of a name are kept after someone has asked for them, in milliseconds. */
const watchedMs = 60_000;
/** Most calls of one name, and most characters of data of all, that are kept. */
const maxCopies = 100;
const maxChars = 1_048_576;

/** A call that has passed, for those who forward it to a machine of their own. */
export interface CallCopy {
  /** When it passed, in microseconds since 1970; no two of an instance have the same. */
  readonly number: number;
  readonly call: Call;
}

interface Watched {
  untilMs: number;
  readonly copies: CallCopy[];
  chars: number;
}

/** The latest calls, by name; only of those that someone forwards. */
export class CallCopies {
  readonly #now: () => number;
  readonly #watched = new Map<string, Watched>();
  #last = 0;

  /** @param now - milliseconds since 1970 */
  constructor(now: () => number) {
    this.#now = now;
  }

  note(call: Call): void {
    if (this.#watched.size === 0) return;
    const watched = this.#watched.get(call.name);
    if (watched === undefined) return;
    const now = this.#now();
    if (now > watched.untilMs) {
      this.#watched.delete(call.name);
      return;
    }
    this.#last = Math.max(now * 1000, this.#last + 1);
    watched.copies.push({ number: this.#last, call });
    watched.chars += charsOf(call);
    while (watched.copies.length > maxCopies || watched.chars > maxChars)
      watched.chars -= charsOf((watched.copies.shift() as CallCopy).call);
  }

  /** The kept calls of a name behind a number. From now on its calls are kept, for a minute. */
  after(name: string, number: number): readonly CallCopy[] {
    const watched = this.#watched.get(name) ?? { untilMs: 0, copies: [], chars: 0 };
    watched.untilMs = this.#now() + watchedMs;
    this.#watched.set(name, watched);
    return watched.copies.filter((each) => each.number > number);
  }
}

function charsOf({ data }: Call): number {
  return JSON.stringify(data).length;
}
