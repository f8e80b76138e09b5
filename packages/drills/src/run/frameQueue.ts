import type { Json } from '@nine-bells/wire';

/** A queued frame that no step has taken yet. */
export interface Waiting {
  readonly frame: Json & object;
}

/** Something that receives frames, and waits for those that a step expects. */
export interface FrameSource {
  readonly name: string;
  /** Queued frames, oldest first. */
  readonly waiting: readonly Waiting[];
  take(taken: Waiting): void;
  /** Calls `look` now and after each frame, until it returns a value or the time limit passes. */
  until<T>(look: () => T | undefined, withinMs: number): Promise<T | undefined>;
}

/** Maximum number of queued frames; the oldest are dropped. */
const maxWaiting = 100_000;

/** Frames that have arrived, until a step takes them. */
export class FrameQueue {
  #waiting: Waiting[] = [];
  readonly #looking = new Set<() => void>();

  get waiting(): readonly Waiting[] {
    return this.#waiting;
  }

  /** Queues a frame. Call `changed` afterwards. */
  push(frame: Json & object): void {
    this.#waiting.push({ frame });
    if (this.#waiting.length > maxWaiting) this.#waiting.shift();
  }

  take(taken: Waiting): void {
    this.#waiting = this.#waiting.filter((each) => each !== taken);
  }

  /** Lets all who wait look again. */
  changed(): void {
    for (const look of [...this.#looking]) look();
  }

  until<T>(look: () => T | undefined, withinMs: number): Promise<T | undefined> {
    const found = look();
    if (found !== undefined || withinMs <= 0) return Promise.resolve(found);
    return new Promise((resolve) => {
      const done = (value: T | undefined): void => {
        clearTimeout(timer);
        this.#looking.delete(again);
        resolve(value);
      };
      const again = (): void => {
        const now = look();
        if (now !== undefined) done(now);
      };
      const timer = setTimeout(() => done(undefined), withinMs);
      this.#looking.add(again);
    });
  }
}
