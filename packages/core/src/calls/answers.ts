/** For how long answers are remembered, in milliseconds, and most characters of all. */
const rememberMs = 600_000;
const maxChars = 16_777_216;
/** What an answer takes beside its text, in characters. */
const ownChars = 300;

interface Remembered {
  readonly answer: Promise<string>;
  chars: number;
  readonly atMs: number;
}

/** The answers to calls that have a key, under way and given, so that one that comes again gets the first. */
export class Answers {
  readonly #now: () => number;
  readonly #all = new Map<string, Remembered>();
  #chars = 0;

  /** @param now - a clock that never jumps, in milliseconds */
  constructor(now: () => number) {
    this.#now = now;
  }

  get(key: string): Promise<string> | undefined {
    const found = this.#all.get(key);
    return found === undefined || this.#now() - found.atMs > rememberMs ? undefined : found.answer;
  }

  /** Remembers an answer from now on. One that fails is forgotten: the call may be made again. */
  add(key: string, answer: Promise<string>): void {
    const added: Remembered = { answer, chars: ownChars, atMs: this.#now() };
    this.#forget(key);
    this.#all.set(key, added);
    this.#chars += ownChars;
    answer.then(
      (text) => {
        if (this.#all.get(key) !== added) return;
        added.chars += text.length;
        this.#chars += text.length;
        this.#makeRoom();
      },
      () => {
        if (this.#all.get(key) === added) this.#forget(key);
      },
    );
    this.#makeRoom();
  }

  #makeRoom(): void {
    for (const [key, { atMs }] of this.#all) {
      if (this.#chars <= maxChars && this.#now() - atMs <= rememberMs) return;
      this.#forget(key);
    }
  }

  #forget(key: string): void {
    const found = this.#all.get(key);
    if (found === undefined) return;
    this.#all.delete(key);
    this.#chars -= found.chars;
  }
}
