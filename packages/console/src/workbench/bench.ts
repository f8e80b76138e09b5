import { type Backend, BackendError } from '@nine-bells/client/backend';
import { DrillClient } from '@nine-bells/drills/client';
import { drillText, type RecordedClient } from '@nine-bells/drills/write';
import type { Json } from '@nine-bells/wire';
import { browserNetwork } from './browserNetwork.js';
import { type Members, Recorder } from './recorder.js';

export type Transport = 'websocket' | 'stream' | 'poll';

/** A client to be added. */
export interface ClientWish {
  readonly name: string;
  readonly transport: Transport;
  /** Absent: a guest, or the holder of `token`. */
  readonly user?: MadeUp;
  readonly token?: string;
  /** Lifetime of its tokens in milliseconds; default an hour. */
  readonly tokenMs?: number;
}
export interface MadeUp {
  readonly id: string;
  readonly name?: string;
  readonly roles: readonly string[];
  readonly claims: Members;
}

/** A client of the workbench, as it is shown. */
export interface Shown {
  readonly wish: ClientWish;
  readonly isOpen: boolean;
  readonly isPaused: boolean;
  readonly loses: 'replies' | 'pushes' | 'nothing';
  /** Of each frame, in milliseconds. */
  readonly delay: { readonly least: number; readonly most: number };
  /** The session, once it has said hello. */
  readonly session?: string;
  readonly user?: string;
  /** Why it is not connected. */
  readonly why?: string;
}

/** An act that can be done again. */
export interface Done {
  readonly number: number;
  readonly clients: readonly string[];
  readonly verb: string;
  readonly members: Members;
  /** Text sent as it is, in place of a request. */
  readonly raw?: string;
}

/** How long an answer may take, in milliseconds. */
const withinMs = 10_000;
const mostDone = 50;
/** Ids of requests written by hand, away from those of the client. */
const firstRawId = 1_000_000;

interface One {
  readonly client: DrillClient;
  shown: Shown;
}

/** The clients of the workbench, and all that was done with them. */
export class Bench {
  readonly recorder = new Recorder();
  /** The same objects until something changes. */
  clients: readonly Shown[] = [];
  done: readonly Done[] = [];
  readonly #backend: Backend;
  readonly #url: string;
  readonly #all = new Map<string, One>();
  /** Those that were removed: what they did stays in the drill. */
  readonly #gone = new Map<string, One>();
  readonly #listeners = new Set<() => void>();
  readonly #startMs = performance.now();
  #number = 0;
  #rawId = firstRawId;

  constructor(backend: Backend, url: string) {
    this.#backend = backend;
    this.#url = url;
  }

  readonly subscribe = (listener: () => void): (() => void) => {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  };

  get #now(): number {
    return performance.now() - this.#startMs;
  }

  /** Adds a client and connects it. */
  async add(wish: ClientWish): Promise<void> {
    const { name, user, token, tokenMs } = wish;
    const fresh = async (about: MadeUp): Promise<string> => {
      const { id, ...more } = about;
      const forMs = tokenMs === undefined ? {} : { forMs: tokenMs };
      return (await this.#backend.workbenchToken({ user: id, ...more, ...forMs })).token;
    };
    const client = new DrillClient({
      name,
      url: this.#url,
      transport: wish.transport,
      token: token !== undefined ? async () => token : user === undefined ? undefined : () => fresh(user),
      network: browserNetwork,
      now: () => this.#now,
      onSeen: (frame) => {
        this.recorder.seen(name, frame);
        if (frame.direction === 'link') this.#changed(name);
      },
    });
    const delay = { least: 0, most: 0 };
    this.#all.set(name, { client, shown: { wish, isOpen: false, isPaused: false, loses: 'nothing', delay } });
    await this.connect(name);
  }

  remove(name: string): void {
    const one = this.#all.get(name);
    if (one === undefined) return;
    if (one.client.isOpen) this.close(name);
    this.recorder.isThere(name, false);
    this.#all.delete(name);
    this.#gone.set(name, one);
    this.#tell();
  }

  /** Ends everything: the page is left. */
  end(): void {
    for (const { client } of this.#all.values()) client.close();
  }

  async connect(name: string): Promise<void> {
    const one = this.#all.get(name);
    if (one === undefined || one.client.isOpen) return;
    let why: string | undefined;
    try {
      const reply = await one.client.connect(withinMs);
      why = reply.problem === undefined ? undefined : (reply.problem.detail ?? reply.problem.title);
    } catch (error) {
      why = (error as Error).message;
    }
    this.#changed(name, why === undefined ? {} : { why });
  }

  /** A second connection of the same user. */
  async secondDevice(name: string): Promise<void> {
    const wish = this.#all.get(name)?.shown.wish;
    if (wish !== undefined) await this.add({ ...wish, name: this.freeName(name) });
  }

  freeName(wanted: string): string {
    const isTaken = (name: string): boolean => this.#all.has(name) || this.#gone.has(name);
    if (!isTaken(wanted)) return wanted;
    let n = 2;
    while (isTaken(`${wanted}-${n}`)) n += 1;
    return `${wanted}-${n}`;
  }

  // ------------------------------------------------------------------------------------------------- acts

  /** Sends a request of each of these clients. */
  act(clients: readonly string[], verb: string, members: Members): void {
    this.#noted({ clients, verb, members });
    // The sheet shows the answer, and the end of a connection.
    for (const name of clients)
      void this.#all
        .get(name)
        ?.client.request(verb, members, withinMs)
        .catch(() => {});
  }

  /** Sends text as it is. A request without an id gets one, so that its reply is known again. */
  raw(clients: readonly string[], text: string): void {
    this.#noted({ clients, verb: '', members: {}, raw: text });
    for (const name of clients)
      try {
        this.#all.get(name)?.client.send(withId(text, () => ++this.#rawId));
      } catch {
        // It is not connected: its column says so.
      }
  }

  /** Publishes as the application. */
  async publish(draft: Members & { channel: string; data: Json }): Promise<void> {
    this.#noted({ clients: [], verb: 'publish', members: draft });
    const answered = this.recorder.application(draft);
    try {
      const answer = await this.#backend.publish(draft as never);
      answered(this.#now, answer as unknown as Json);
    } catch (error) {
      const code = error instanceof BackendError ? (error.problem?.code ?? 'failed') : 'failed';
      answered(this.#now, (error as Error).message, code);
    }
  }

  again({ clients, verb, members, raw }: Done): void {
    if (raw !== undefined) this.raw(clients, raw);
    else if (clients.length === 0) void this.publish(members as never);
    else this.act(clients, verb, members);
  }

  // ----------------------------------------------------------------------------------------------- network

  cut(name: string): void {
    this.#fault(name, 'cut', true, true);
    this.#all.get(name)?.client.cut();
  }

  close(name: string): void {
    this.#fault(name, 'close', true, true);
    this.#all.get(name)?.client.close();
  }

  async offline(name: string, ms: number): Promise<void> {
    this.#fault(name, 'offline', `${ms / 1000}s`, true);
    this.recorder.comesBack(name);
    this.#all.get(name)?.client.cut();
    await new Promise((resolve) => setTimeout(resolve, ms));
    await this.connect(name);
  }

  pause(name: string, isPaused: boolean): void {
    this.#fault(name, isPaused ? 'pause' : 'resume', true, false);
    const client = this.#all.get(name)?.client;
    if (isPaused) client?.pause();
    else client?.resume();
    this.#changed(name, { isPaused });
  }

  lose(name: string, loses: Shown['loses']): void {
    this.#fault(name, 'lose', loses, false);
    this.#all.get(name)?.client.lose(loses);
    this.#changed(name, { loses });
  }

  delay(name: string, least: number, most: number): void {
    this.#fault(name, 'delay', least === most ? `${least}ms` : `${least}ms to ${most}ms`, false);
    const one = this.#all.get(name);
    if (one !== undefined) one.client.delay = { least, most };
    this.#changed(name, { delay: { least, most } });
  }

  /** Comes over another transport from now on. */
  async transport(name: string, transport: Transport): Promise<void> {
    const one = this.#all.get(name);
    if (one === undefined) return;
    if (one.client.isOpen) this.cut(name);
    one.client.transport = transport;
    one.shown = { ...one.shown, wish: { ...one.shown.wish, transport } };
    await this.connect(name);
  }

  #fault(name: string, word: string, value: Json, endsConnection: boolean): void {
    const isOpen = this.#all.get(name)?.client.isOpen ?? false;
    this.recorder.fault(name, this.#now, word, value, endsConnection && isOpen);
  }

  // ------------------------------------------------------------------------------------------------- drill

  /** What was done and seen, as a drill. */
  drill(name: string, all: boolean): string {
    const users: Record<string, { name?: string; roles?: readonly string[]; claims?: Members }> = {};
    const clients = [...this.#all.values(), ...this.#gone.values()].map(
      ({ shown: { wish, user: signedIn } }): RecordedClient => {
        const { user } = wish;
        const id = user?.id ?? (wish.token === undefined ? undefined : signedIn);
        if (id !== undefined)
          users[id] = {
            ...(user?.name === undefined ? {} : { name: user.name }),
            ...(user?.roles.length ? { roles: user.roles } : {}),
            ...(Object.keys(user?.claims ?? {}).length > 0 ? { claims: user?.claims ?? {} } : {}),
          };
        return { name: wish.name, transport: wish.transport, ...(id === undefined ? {} : { user: id }) };
      },
    );
    return drillText({ name, users, clients, events: this.recorder.events(clients, all) });
  }

  #noted(done: Omit<Done, 'number'>): void {
    this.#number += 1;
    this.done = [{ number: this.#number, ...done }, ...this.done].slice(0, mostDone);
    this.#tell();
  }

  #changed(name: string, change: Partial<Shown> = {}): void {
    const one = this.#all.get(name);
    if (one === undefined) return;
    const { isOpen, welcome } = one.client;
    const { why: _, ...before } = one.shown;
    const known = welcome === undefined ? {} : { session: welcome.session, user: welcome.user };
    one.shown = { ...before, ...known, ...change, isOpen };
    this.recorder.isThere(name, isOpen);
    this.#tell();
  }

  #tell(): void {
    this.clients = [...this.#all.values()].map(({ shown }) => shown);
    for (const listener of this.#listeners) listener();
  }
}

function withId(text: string, next: () => number): string {
  try {
    const frame = JSON.parse(text) as Json;
    const isRequest = typeof frame === 'object' && frame !== null && !Array.isArray(frame) && 'do' in frame;
    return isRequest && !('id' in frame) ? JSON.stringify({ id: next(), ...frame }) : text;
  } catch {
    return text;
  }
}
