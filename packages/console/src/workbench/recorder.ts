import type { SeenFrame } from '@nine-bells/drills/client';
import type { RecordedClient, RecordedEvent } from '@nine-bells/drills/write';
import type { Json, Problem, Verb } from '@nine-bells/wire';

/** A frame as it went over a connection. */
export interface Passed {
  /** Since the workbench was opened, in milliseconds. */
  readonly atMs: number;
  readonly text: string;
  /** How: pushed, found in the reply after a broken connection, or dropped by a simulated fault. */
  readonly how: 'pushed' | 'recovered' | 'lost';
}

/** A request of a client, and its reply. */
export interface ActRow {
  readonly kind: 'act';
  readonly number: number;
  readonly atMs: number;
  readonly client: string;
  readonly verb: string;
  readonly members: Members;
  readonly text: string;
  readonly reply?: Passed;
  readonly problem?: Problem;
}
/** What the service pushed: the same to several clients is one row. */
export interface PushRow {
  readonly kind: 'push';
  readonly number: number;
  readonly atMs: number;
  readonly on: string;
  readonly frame: Members;
  readonly arrivals: Map<string, Passed>;
  /** Who was connected then. */
  readonly there: ReadonlySet<string>;
  /** It is old enough: a client that has not received it by now will not. */
  readonly isSettled: boolean;
}
/** A connection that ended, a fault, an act of the application, text that is no request. */
export interface NoteRow {
  readonly kind: 'note';
  readonly number: number;
  readonly atMs: number;
  /** Absent: the application. */
  readonly client?: string;
  readonly words: string;
  readonly text?: string;
  readonly isBad?: boolean;
}
export type Row = ActRow | PushRow | NoteRow;
export type Members = Readonly<Record<string, Json>>;

/** Most rows that are kept. */
const mostRows = 2_000;
/** Most events that are kept for a drill; the first are dropped. */
const mostHappened = 10_000;
/** Frames without an id are the same if their text is, within this time, in milliseconds. */
const togetherMs = 1_000;
/** How long a push may take from the first client to the last, in milliseconds. */
const settleMs = 700;
/** Pushes that become expectations of a drill unless all are asked for. */
const telling = new Set(['message', 'hail', 'notice', 'removed', 'gap']);
/** Types of the service's own notes in a channel. */
const notes = new Set<Json | undefined>(['joined', 'left']);

type Mutable<T> = { -readonly [K in keyof T]: T[K] };
/** An event with the row of a push, so that those who did not get it can be found. */
type Happened = { readonly event: Mutable<RecordedEvent>; readonly row?: PushRow };

/** All that passed at the clients of the workbench, in one order. */
export class Recorder {
  /** The same object until something changes. */
  rows: readonly Row[] = [];
  #next: Row[] = [];
  #number = 0;
  #isTelling = false;
  readonly #happened: Happened[] = [];
  readonly #listeners = new Set<() => void>();
  /** Requests without a reply, by client and id. */
  readonly #open = new Map<string, { readonly row: ActRow; readonly event: Mutable<RecordedEvent> | undefined }>();
  readonly #there = new Set<string>();
  /** Those whose connection a fault ends. */
  readonly #isEnding = new Set<string>();
  /** Those that a fault lets connect again. */
  readonly #comesBack = new Set<string>();
  /** Channels that a client has had to do with. */
  readonly #met = new Map<string, Set<string>>();

  readonly subscribe = (listener: () => void): (() => void) => {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  };

  /** Empties the sheet. What happened stays, for a drill. */
  clear(): void {
    this.#next = [];
    this.#tell();
  }

  /** A client's connection is open, or has ended. */
  isThere(client: string, isThere: boolean): void {
    if (isThere) this.#there.add(client);
    else this.#there.delete(client);
  }

  /** A frame was sent or received. */
  seen(client: string, { atMs, direction, text }: SeenFrame): void {
    const frame = parsed(text);
    if (direction === 'link') {
      this.#add({ kind: 'note', number: ++this.#number, atMs, client, words: text });
      const code = Number(/\((\d+)/.exec(text)?.[1] ?? 0);
      if (!this.#isEnding.delete(client) && code > 0) this.#note({ event: { type: 'ended', client, code } });
    } else if (direction === 'sent') this.#sent(client, atMs, text, frame);
    else if (frame !== undefined && typeof frame.re === 'number') this.#answered(client, atMs, text, frame, direction);
    else if (frame !== undefined && typeof frame.on === 'string') {
      if (frame.on !== 'pulse')
        this.#arrived(client, { atMs, text, how: direction === 'lost' ? 'lost' : 'pushed' }, frame);
    } else this.#add({ kind: 'note', number: ++this.#number, atMs, client, words: text, text });
  }

  /** A network fault is simulated, as a step of a drill says it. */
  fault(client: string, atMs: number, word: string, value: Json, endsConnection: boolean): void {
    if (endsConnection) this.#isEnding.add(client);
    this.#note({ event: { type: 'network', client, word, value } });
    this.#add({
      kind: 'note',
      number: ++this.#number,
      atMs,
      client,
      words: `${word}${value === true ? '' : `: ${value}`}`,
    });
  }

  /** The application publishes. What it returns is called with the answer, and with the code of a refusal. */
  application(publish: Members & { channel: string }): (atMs: number, answer: Json, refused?: string) => void {
    const event: Mutable<Extract<RecordedEvent, { type: 'application' }>> = { type: 'application', publish };
    // Before its pushes, which may arrive before the answer.
    this.#note({ event });
    return (atMs, answer, refused) => {
      if (refused !== undefined) event.refused = refused;
      const text = JSON.stringify(answer);
      const words = `publish ${publish.channel}${refused === undefined ? '' : `: ${refused}`}`;
      this.#add({ kind: 'note', number: ++this.#number, atMs, words, text, isBad: refused !== undefined });
    };
  }

  /** What happened, for a drill. */
  events(clients: readonly RecordedClient[], all: boolean): RecordedEvent[] {
    const rows = new Map(this.#next.map((row) => [row.number, row]));
    const last = new Map<number, number>();
    for (const [index, { row }] of this.#happened.entries()) if (row !== undefined) last.set(row.number, index);
    return this.#happened.flatMap(({ event, row }, index) => {
      if (row === undefined) return [event as RecordedEvent];
      if (!all && (!telling.has(row.on) || notes.has(row.frame.type))) return [];
      const events = [event as RecordedEvent];
      const now = rows.get(row.number);
      if (row.on === 'message' && now?.kind === 'push' && last.get(row.number) === index)
        for (const { name } of clients)
          if (isMissing(now, name) && this.#met.get(name)?.has(String(row.frame.channel)))
            events.push({ type: 'got none', client: name, frame: row.frame });
      return events;
    });
  }

  #sent(client: string, atMs: number, text: string, frame: Members | undefined): void {
    const { do: verb, id, ...members } = frame ?? {};
    if (verb === 'pulse' && id === undefined) return;
    if (typeof verb !== 'string') {
      this.#note({ event: { type: 'sent', client, text } });
      this.#add({ kind: 'note', number: ++this.#number, atMs, client, words: text, text });
      return;
    }
    const row: ActRow = { kind: 'act', number: ++this.#number, atMs, client, verb, members, text };
    for (const channel of channelsOf(members)) this.#meets(client, channel);
    const event: Mutable<RecordedEvent> =
      verb === 'hello'
        ? { type: 'connected', client }
        : { type: 'act', client, verb: verb as Verb, members, isAnswered: false };
    // `offline` connects again by itself.
    const isAgain = verb === 'hello' && this.#comesBack.delete(client);
    if (!isAgain) this.#note({ event });
    if (typeof id === 'number') this.#open.set(`${client} ${id}`, { row, event: isAgain ? undefined : event });
    this.#add(row);
  }

  /** The client's next hello belongs to a fault that is noted already. */
  comesBack(client: string): void {
    this.#comesBack.add(client);
  }

  #answered(client: string, atMs: number, text: string, frame: Members, direction: SeenFrame['direction']): void {
    const key = `${client} ${frame.re}`;
    const open = this.#open.get(key);
    if (open === undefined) return;
    this.#open.delete(key);
    const { row, event } = open;
    const problem = frame.problem as Problem | undefined;
    if (event !== undefined && direction !== 'lost') {
      if (event.type === 'act') event.isAnswered = true;
      if (problem !== undefined) (event as { refused?: string }).refused = problem.code;
    }
    if (row.verb === 'hello' || row.verb === 'enter') {
      const entered = row.verb === 'enter' ? [frame] : ((frame.entered as Members[] | undefined) ?? []);
      for (const each of entered)
        for (const message of (each.messages as Members[] | undefined) ?? [])
          this.#arrived(
            client,
            { atMs, text: JSON.stringify(message), how: 'recovered' },
            { on: 'message', ...message },
          );
    }
    const reply: Passed = { atMs, text, how: direction === 'lost' ? 'lost' : 'pushed' };
    this.#replace({ ...row, reply, ...(problem === undefined ? {} : { problem }) });
  }

  #arrived(client: string, passed: Passed, frame: Members): void {
    const known = this.#rowOf(client, passed, frame);
    if (known === undefined && passed.how === 'recovered') return;
    const row: PushRow = known ?? {
      kind: 'push',
      number: ++this.#number,
      atMs: passed.atMs,
      on: String(frame.on),
      frame,
      arrivals: new Map(),
      there: new Set(this.#there),
      isSettled: false,
    };
    if (row.arrivals.has(client) && row.arrivals.get(client)?.how !== 'lost') return;
    row.arrivals.set(client, passed);
    if (passed.how !== 'lost') this.#note({ event: { type: 'got', client, frame }, row });
    if (known !== undefined) this.#replace(row);
    else {
      this.#add(row);
      setTimeout(() => this.#settle(row.number), settleMs);
    }
  }

  #settle(number: number): void {
    const row = this.#next.find((each) => each.number === number);
    if (row?.kind === 'push') this.#replace({ ...row, isSettled: true });
  }

  /** The row of the same push at other clients. */
  #rowOf(client: string, { atMs, text }: Passed, frame: Members): PushRow | undefined {
    for (let index = this.#next.length - 1; index >= 0; index--) {
      const row = this.#next[index] as Row;
      if (row.kind !== 'push') continue;
      if (frame.id !== undefined) {
        if (row.frame.id === frame.id && row.on === frame.on) return row;
      } else {
        if (atMs - row.atMs > togetherMs) return undefined;
        if (row.frame.id === undefined && !row.arrivals.has(client) && [...row.arrivals.values()][0]?.text === text)
          return row;
      }
    }
    return undefined;
  }

  #note(happened: Happened): void {
    this.#happened.push(happened);
    if (this.#happened.length > mostHappened) this.#happened.splice(0, mostHappened / 10);
  }

  #meets(client: string, channel: string): void {
    const met = this.#met.get(client) ?? new Set();
    this.#met.set(client, met.add(channel));
  }

  #add(row: Row): void {
    this.#next.push(row);
    if (this.#next.length > mostRows) this.#next.splice(0, mostRows / 10);
    this.#tell();
  }

  /** A row that changes becomes a new object, so that it is drawn again. */
  #replace(row: ActRow | PushRow): void {
    const index = this.#next.findIndex(({ number }) => number === row.number);
    if (index >= 0) this.#next[index] = { ...row };
    this.#tell();
  }

  #tell(): void {
    if (this.#isTelling) return;
    this.#isTelling = true;
    // Many frames become one drawing.
    setTimeout(() => {
      this.#isTelling = false;
      this.rows = [...this.#next];
      for (const listener of this.#listeners) listener();
    }, 30);
  }
}

/** Whether a push reached others, and not this client, though it was connected. */
export function isMissing({ isSettled, there, arrivals }: PushRow, client: string): boolean {
  return isSettled && there.has(client) && !arrivals.has(client);
}

function parsed(text: string): Members | undefined {
  try {
    const value = JSON.parse(text) as Json;
    return typeof value === 'object' && value !== null && !Array.isArray(value) ? (value as Members) : undefined;
  } catch {
    return undefined;
  }
}

function channelsOf({ channel, enter }: Members): string[] {
  const entered = Array.isArray(enter) ? enter.map((each) => String((each as Members).channel)) : [];
  return typeof channel === 'string' ? [channel, ...entered] : entered;
}
