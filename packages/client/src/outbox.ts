import type { Json, Problem, Published } from '@nine-bells/wire';
import { LineError } from './lineError.js';
import type { RequestMembers } from './requests.js';
import { TypedTarget } from './typedTarget.js';
import { defaultOutboxBounds, type OutboxBounds, type PublishOptions } from './types.js';

export interface OutboxEvents {
  /** Messages have come, were sent, or have gone: acknowledged, refused or cancelled. */
  change: { readonly waiting: number };
}

/** A message of yours that the service has not acknowledged yet. */
export interface Outgoing {
  readonly channel: string;
  readonly data: Json;
  readonly key: string;
  /** When it was published (milliseconds since the epoch, by this machine's clock). */
  readonly sinceMs: number;
  /** It is on its way, and may have arrived. */
  readonly sent: boolean;
  /** Why the service did not take it yet, if it said so; it is tried again by itself. */
  readonly problem: Problem | undefined;
  /** Takes it back, unless it is on its way; says whether it did. */
  cancel(): boolean;
}

/** What an outbox needs of its line. */
export interface OutboxHost {
  /** Whether something can be sent now. */
  ready(): boolean;
  send(request: RequestMembers & { readonly do: 'publish' }, answered: (answer: Published | LineError) => void): void;
}

/** Messages under way at a time, so that a refusal for haste meets few of them. */
const maxWindow = 32;

class Letter implements Outgoing {
  sent = false;
  problem: Problem | undefined;
  readonly sinceMs = Date.now();
  readonly chars: number;

  constructor(
    readonly channel: string,
    readonly data: Json,
    readonly options: Omit<PublishOptions, 'signal'> & { readonly key: string },
    readonly resolve: (published: Published) => void,
    readonly reject: (error: LineError) => void,
    readonly takeBack: (letter: Letter) => boolean,
  ) {
    this.chars = JSON.stringify(data ?? null).length;
  }

  get key(): string {
    return this.options.key;
  }

  cancel(): boolean {
    return !this.sent && this.takeBack(this);
  }
}

/** A channel whose messages the service could not take. One of them is under way at a time until none is left. */
interface Trouble {
  /** When to try again (milliseconds since the epoch). */
  untilMs: number;
  isUnderWay: boolean;
}

/**
 * What one has published and the service has not acknowledged: in the order of the calls, over broken connections, each
 * sent again with its key until there is an answer.
 *
 * @example
 * line.outbox.addEventListener('change', ({ detail }) => showWaiting(detail.waiting));
 * for (const each of line.outbox.messages) each.cancel();
 */
export class Outbox extends TypedTarget<OutboxEvents> {
  readonly #host: OutboxHost;
  readonly #bounds: OutboxBounds;
  /** By the order in which they were published. */
  readonly #letters = new Set<Letter>();
  /** The same list until it changes. */
  #list: readonly Outgoing[] | undefined;
  #chars = 0;
  #underWay = 0;
  #window = maxWindow;
  #pausedUntil = 0;
  /** By channel: an obstacle in one channel must not hold up the others. */
  readonly #troubles = new Map<string, Trouble>();
  #timer: ReturnType<typeof setTimeout> | undefined;

  /** @internal Made by the line. */
  constructor(host: OutboxHost, bounds: Partial<OutboxBounds> = {}) {
    super();
    this.#host = host;
    this.#bounds = { ...defaultOutboxBounds, ...bounds };
  }

  /** What waits, oldest first. */
  get messages(): readonly Outgoing[] {
    this.#list ??= [...this.#letters];
    return this.#list;
  }

  // ------------------------------------------------------------------------------------ called by the line

  /** @internal */
  publish(
    channel: string,
    data: Json,
    { signal, ...options }: PublishOptions & { readonly key: string },
  ): Promise<Published> {
    return new Promise((resolve, reject) => {
      const letter = new Letter(channel, data, options, resolve, reject, (each) =>
        this.#settle(each, () => reject(cancelled())),
      );
      if (signal?.aborted) {
        reject(cancelled());
        return;
      }
      // One that is alone may be as large as it likes: the service says what it takes.
      const full = this.#letters.size > 0 && this.#chars + letter.chars > this.#bounds.chars;
      if (full || this.#letters.size >= this.#bounds.messages) {
        reject(new LineError('outbox-full', `${this.#letters.size} messages wait already; nothing was sent`));
        return;
      }
      signal?.addEventListener('abort', () => letter.cancel());
      this.#letters.add(letter);
      this.#chars += letter.chars;
      this.#sendOn();
      this.#changed();
    });
  }

  /** @internal The line can send again. */
  opened(): void {
    this.#sendOn();
    if (this.#letters.size > 0) this.#changed();
  }

  /** @internal The connection broke: whatever was under way is sent again on the next one. */
  interrupted(): void {
    this.#underWay = 0;
    for (const trouble of this.#troubles.values()) trouble.isUnderWay = false;
    for (const letter of this.#letters) letter.sent = false;
    // Not in this turn: the line is between two states.
    if (this.#letters.size > 0) queueMicrotask(() => this.#changed());
  }

  /** @internal The line is closed for good. */
  close(error: LineError): void {
    clearTimeout(this.#timer);
    const letters = [...this.#letters];
    this.#letters.clear();
    for (const { reject } of letters) reject(error);
    if (letters.length > 0) this.#changed();
  }

  #sendOn(): void {
    if (!this.#host.ready()) return;
    const now = Date.now();
    let nextMs = this.#pausedUntil;
    if (nextMs <= now) {
      nextMs = Number.POSITIVE_INFINITY;
      for (const letter of this.#letters) {
        if (this.#underWay >= this.#window) break;
        if (letter.sent) continue;
        const trouble = this.#troubles.get(letter.channel);
        if (trouble === undefined || (trouble.untilMs <= now && !trouble.isUnderWay)) this.#send(letter, trouble);
        else if (trouble.untilMs > now) nextMs = Math.min(nextMs, trouble.untilMs);
      }
    }
    clearTimeout(this.#timer);
    if (nextMs !== Number.POSITIVE_INFINITY) this.#timer = setTimeout(() => this.#sendOn(), nextMs - now);
  }

  #send(letter: Letter, trouble: Trouble | undefined): void {
    const { channel, data, options } = letter;
    letter.sent = true;
    letter.problem = undefined;
    this.#underWay += 1;
    if (trouble !== undefined) trouble.isUnderWay = true;
    this.#host.send({ do: 'publish', channel, data, ...options }, (answer) => {
      this.#underWay -= 1;
      const had = this.#troubles.get(channel);
      if (had !== undefined) had.isUnderWay = false;
      if (!(answer instanceof LineError)) this.#settle(letter, () => letter.resolve(answer));
      else if (isPassing(answer)) this.#sendLater(letter, answer);
      else this.#settle(letter, () => letter.reject(answer));
      this.#sendOn();
    });
  }

  /** The service cannot take it just now: the rest of the channel waits too, so that the order is kept as far as possible. */
  #sendLater(letter: Letter, { code, problem }: LineError): void {
    letter.sent = false;
    letter.problem = problem;
    const untilMs = Date.now() + (problem?.retryAfterMs ?? 1_000) * (1 + Math.random() / 2);
    if (allChannelsCodes.has(code)) {
      this.#window = 1;
      this.#pausedUntil = Math.max(this.#pausedUntil, untilMs);
    }
    const trouble = this.#troubles.get(letter.channel);
    if (trouble === undefined) this.#troubles.set(letter.channel, { untilMs, isUnderWay: false });
    else trouble.untilMs = Math.max(trouble.untilMs, untilMs);
    this.#changed();
  }

  /** Whether it was still there. */
  #settle(letter: Letter, tell: () => void): boolean {
    if (!this.#letters.delete(letter)) return false;
    this.#chars -= letter.chars;
    if (this.#letters.size === 0) this.#window = maxWindow;
    if (this.#troubles.has(letter.channel) && ![...this.#letters].some(({ channel }) => channel === letter.channel))
      this.#troubles.delete(letter.channel);
    tell();
    this.#changed();
    return true;
  }

  #changed(): void {
    this.#list = undefined;
    this.emit('change', { waiting: this.#letters.size });
  }
}

/**
 * Refusals that another try may not meet. A message is never given up for a failure of the service (`internal`): it may have
 * been published all the same, and its key tells.
 */
const passingCodes: ReadonlySet<string> = new Set([
  'busy',
  'unavailable',
  'ask-failed',
  'rate-limited',
  'draining',
  'internal',
]);

/** Refusals that are of the session or the instance, whatever the channel. */
const allChannelsCodes: ReadonlySet<string> = new Set(['rate-limited', 'draining']);

/** Whether another try may succeed where this one was refused. */
export function isPassing({ code }: { readonly code: string }): boolean {
  return passingCodes.has(code);
}

function cancelled(): LineError {
  return new LineError('cancelled', 'it was taken back before it was sent');
}
