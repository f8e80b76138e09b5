import { LINE_PATH, LINE_SUBPROTOCOL } from '@nine-bells/wire';
import { record, type Tally } from './figures.js';
import { LeanSocket } from './leanSocket.js';

/** The member that a load adds to the data of what it publishes: when it was to be sent, in ms since the epoch. */
export const timeMember = 'sentAtMs';
const timeMark = Buffer.from(`"${timeMember}":`);
const messageStart = Buffer.from('{"on":"message"');
const replyStart = Buffer.from('{"re":');
const removedStart = Buffer.from('{"on":"removed"');
/** The beginning of a push in which its channel and cursor stand, in bytes. */
const headBytes = 400;

export const nowMs = (): number => performance.timeOrigin + performance.now();

/** How far a client has got in a channel. */
interface Reached {
  volume: string;
  number: number;
}

/** The hooks that all clients of a generator share. */
export interface LoadHost {
  readonly url: string;
  readonly tally: Tally;
  /** Whether ended connections are failures; at the end they are not. */
  isOver: boolean;
  /** The latest message that was published in each channel, by the replies. */
  readonly published: Map<string, Reached>;
  /** Messages that a client did not get, though it got later ones. */
  lost: number;
}

/** A client of a load: as little as it can be, since there are thousands. It does not reconnect. */
export class LoadClient {
  readonly #host: LoadHost;
  readonly #socket: LeanSocket;
  readonly #reached = new Map<string, Reached>();
  /** Requests without a reply: when they were to be sent, in ms since the epoch. */
  readonly #open = new Map<
    number,
    {
      readonly atMs: number;
      readonly enters?: boolean;
      readonly channel?: string;
      readonly settle?: (isDone: boolean) => void;
    }
  >();
  #id = 0;
  #opened: (() => void) | undefined;
  #settleFirst: ((isOpen: boolean) => void) | undefined;
  isOpen = false;

  constructor(host: LoadHost) {
    this.#host = host;
    this.#socket = new LeanSocket(`${host.url}${LINE_PATH}`, LINE_SUBPROTOCOL, {
      opened: () => this.#opened?.(),
      text: (bytes, start, end) => this.#heard(bytes, start, end),
      closed: () => this.#ended(),
    });
  }

  /** Counts the requests that have no reply yet as unanswered. */
  #giveUp(): void {
    this.#host.tally.counts.unanswered += this.#open.size;
    for (const { settle } of this.#open.values()) settle?.(false);
    this.#open.clear();
  }

  /** Requests without a reply. */
  get pending(): number {
    return this.#open.size;
  }

  get reached(): ReadonlyMap<string, Reached> {
    return this.#reached;
  }

  /** Resolves when hello has been answered; false if it was refused or the connection failed. */
  open(token: string | undefined): Promise<boolean> {
    const startMs = nowMs();
    return new Promise((resolve) => {
      this.#settleFirst = resolve;
      this.#opened = () => {
        this.request('hello', token === undefined ? {} : { token }, startMs, (isDone) => {
          this.isOpen = isDone;
          if (isDone) record(this.#host.tally.times.connect, nowMs() - startMs);
          resolve(isDone);
        });
      };
    });
  }

  /** Sends a request that was due at a time. Its reply is counted; `settle` is told whether it was done. */
  request(verb: string, members: object, dueAtMs: number, settle?: (isDone: boolean) => void): void {
    if (!this.#socket.isOpen) {
      this.#host.tally.counts.unanswered += 1;
      settle?.(false);
      return;
    }
    this.#id += 1;
    const enters = verb === 'enter';
    const { channel } = members as { channel?: string };
    if (verb === 'leave' && channel !== undefined) this.#reached.delete(channel);
    this.#open.set(this.#id, {
      atMs: dueAtMs,
      ...(enters ? { enters } : {}),
      ...(verb === 'publish' && channel !== undefined ? { channel } : {}),
      ...(settle === undefined ? {} : { settle }),
    });
    this.#socket.send(JSON.stringify({ do: verb, id: this.#id, ...members }));
  }

  close(): void {
    this.#giveUp();
    this.#socket.close();
  }

  /** Hot: each delivery of the load comes through here. */
  #heard(bytes: Buffer, start: number, end: number): void {
    if (starts(bytes, start, messageStart)) {
      const { tally } = this.#host;
      tally.counts.received += 1;
      const at = bytes.indexOf(timeMark, start);
      if (at >= 0 && at < end) {
        const from = at + timeMark.length;
        record(tally.times.delivery, nowMs() - Number.parseFloat(bytes.toString('latin1', from, from + 20)));
      }
      this.#counts(bytes.toString('latin1', start, Math.min(start + headBytes, end)));
    } else if (starts(bytes, start, replyStart)) this.#answered(bytes.toString('utf8', start, end));
    // What comes in a channel after that is not for it.
    else if (starts(bytes, start, removedStart))
      this.#reached.delete(between(bytes.toString('latin1', start, end), '"channel":"'));
  }

  /** Counts what is missing between this message and the one before in its channel. */
  #counts(head: string): void {
    const channel = between(head, '"channel":"');
    const [volume = '', number = ''] = between(head, '"cursor":"').split(':');
    this.#moved(channel, volume, Number(number));
  }

  #moved(channel: string, volume: string, number: number): void {
    const reached = this.#reached.get(channel);
    if (reached === undefined) return;
    if (reached.volume === volume && number > reached.number + 1) this.#host.lost += number - reached.number - 1;
    if (reached.volume !== volume || number > reached.number) {
      reached.volume = volume;
      reached.number = number;
    }
  }

  #answered(text: string): void {
    const { tally } = this.#host;
    const reply = JSON.parse(text) as { re: number; problem?: { code: string }; channel?: string; cursor?: string };
    const request = this.#open.get(reply.re);
    if (request === undefined) return;
    this.#open.delete(reply.re);
    if (reply.problem !== undefined) tally.refused(reply.problem.code);
    else if (request.enters && reply.channel !== undefined && reply.cursor !== undefined) {
      const [volume = '', number = ''] = reply.cursor.split(':');
      this.#reached.set(reply.channel, { volume, number: Number(number) });
    } else if (request.channel !== undefined && reply.cursor !== undefined)
      notePublished(this.#host.published, request.channel, reply.cursor);
    if (request.settle === undefined) record(tally.times.reply, nowMs() - request.atMs);
    request.settle?.(reply.problem === undefined);
  }

  #ended(): void {
    if (!this.#host.isOver) this.#host.tally.counts.failed += 1;
    this.isOpen = false;
    this.#giveUp();
    this.#settleFirst?.(false);
  }
}

/** Notes how far a channel has got, by the cursor of what was published in it. */
export function notePublished(published: Map<string, Reached>, channel: string, cursor: string): void {
  const [volume = '', number = ''] = cursor.split(':');
  if (Number(number) > (published.get(channel)?.number ?? 0))
    published.set(channel, { volume, number: Number(number) });
}

function starts(bytes: Buffer, at: number, start: Buffer): boolean {
  for (let index = 0; index < start.length; index++) if (bytes[at + index] !== start[index]) return false;
  return true;
}

/** The text between a mark and the next quotation mark. Names of channels and cursors have no escapes. */
function between(text: string, mark: string): string {
  const from = text.indexOf(mark) + mark.length;
  return from < mark.length ? '' : text.slice(from, text.indexOf('"', from));
}
