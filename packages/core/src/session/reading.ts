import { TokenBucket } from '../lib/tokenBucket.js';
import type { Link } from '../ports/link.js';
import type { SessionHost } from './host.js';

/** Frames of more characters than this are paid for by their size. */
export const largeChars = 4_096;
/** A large pulse costs so many times more: its list of cursors is read for nothing that the client waits for. */
const largePulseCost = 7;

/** When a connection is read from: not while acts wait, nor while it owes time for what it has sent. */
export class Reading {
  readonly #host: SessionHost;
  readonly #link: Link;
  /** Whether so many acts wait that nothing more is read. */
  readonly #isBusy: () => boolean;
  #received: TokenBucket | undefined;
  #paused = false;
  /** Nothing is read for a while, whether or not acts wait. */
  #rests = false;

  constructor(host: SessionHost, link: Link, isBusy: () => boolean) {
    this.#host = host;
    this.#link = link;
    this.#isBusy = isBusy;
  }

  /** Charges a large frame that has come in. */
  received(chars: number): void {
    this.restFor(this.#spend(chars));
  }

  /** Charges a large pulse, beyond its frame. */
  pulsed(chars: number): void {
    this.restFor(this.#spend(chars * largePulseCost));
  }

  /** Reads nothing for so many milliseconds. */
  restFor(ms: number): void {
    if (ms <= 0 || this.#rests) return;
    this.#rests = true;
    this.pause();
    // More exact than the timer wheel: frames that have gathered in the meantime are read in one turn.
    this.#host.clock.setTimer(ms, () => {
      this.#rests = false;
      if (!this.#isBusy()) this.resume();
    });
  }

  pause(): void {
    if (this.#paused) return;
    this.#paused = true;
    this.#link.pause();
  }

  /** The acts that waited have been done. */
  resume(): void {
    if (!this.#paused || this.#rests) return;
    this.#paused = false;
    this.#link.resume();
  }

  /** Returns for how long nothing more is to be read, in milliseconds. */
  #spend(chars: number): number {
    const { options, clock } = this.#host;
    const now = clock.monotonic();
    this.#received ??= new TokenBucket(options.received, now);
    return this.#received.spend(options.received, now, chars);
  }
}
