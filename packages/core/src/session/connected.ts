import {
  type ChannelName,
  defined,
  type Ending,
  GUEST_PREFIX,
  type Json,
  type Place,
  type Problem,
  type RemovedPush,
} from '@nine-bells/wire';
import type { Identity } from '../model/access.js';
import type { BlockList } from '../model/block.js';
import type { Frame } from '../model/frame.js';
import type { SessionInfo } from '../model/info.js';
import type { EndSilence, Silence } from '../model/moderation.js';
import type { Link } from '../ports/link.js';

/** A session on its connection, as far as the rest of the engine looks into it. */
export interface ConnectedSession {
  /** The session's id. */
  readonly session: string;
  readonly user: string;
  readonly who: Identity;
  /** The status of the session, whatever the channel. */
  readonly status: Json | undefined;
  /** The channel that the client has in view. */
  readonly looking: ChannelName | undefined;
  /** The channels that it has entered. */
  readonly channels: readonly ChannelName[];
  isIn(channel: ChannelName): boolean;
  /** How far the client has said that it has received a channel. */
  gotOf(channel: ChannelName): Place | undefined;
  /** Ends its stay in a channel, and tells it. */
  expel(channel: ChannelName, told: Omit<RemovedPush, 'on' | 'channel'>): void;
  /** Tells it that it may not write, or may again. */
  silenced(action: Silence | EndSilence): void;
  push(frame: Frame): void;
  /** Whom its user keeps away; absent: not read yet. */
  readonly blocks: BlockList | undefined;
  blocksChanged(list: BlockList): void;
  /** Looks again at what its user may do: it leaves channels where the user may no longer be, and says so to the client. */
  decideAgain(): void;
}

/** A connection, as far as the rest of the engine looks into it. */
export interface OpenConnection {
  readonly link: Link;
  readonly address: string | undefined;
  /** When it was opened, in milliseconds since the epoch. */
  readonly sinceMs: number;
  readonly waitingBytes: number;
  readonly roundTripMs: number | undefined;
  /** Absent before hello. */
  readonly client: ConnectedSession | undefined;
  push(frame: Frame): void;
  /** Ends it from this side. */
  close(code: number, reason: string, ending: Ending): void;
  /** Ends it because its user was signed out or banned. */
  signOut(why: Problem): void;
  /** Ends it because its token was revoked. */
  revoke(why: Problem): void;
  /** Bans may have been missed: looks whether it may still be here. */
  lookAgain(): void;
}

const none: ReadonlySet<OpenConnection> = new Set();

/** The connections of this instance, and whose they are. */
export class Connected implements Iterable<OpenConnection> {
  readonly #all = new Set<OpenConnection>();
  /** By user, to find and to count them; without guests, who have few connections each. */
  readonly #byUser = new Map<string, Set<OpenConnection>>();
  readonly #changed: (user: string, left?: boolean) => void;

  /** @param changed - called when a connection of a user has begun, or has ended; `left`: with a goodbye */
  constructor(changed: (user: string, left?: boolean) => void) {
    this.#changed = changed;
  }

  get size(): number {
    return this.#all.size;
  }

  [Symbol.iterator](): Iterator<OpenConnection> {
    return this.#all.values();
  }

  add(connection: OpenConnection): void {
    this.#all.add(connection);
  }

  /** The connection has said hello. */
  welcomed(connection: OpenConnection, { user, guest }: Identity): void {
    if (guest) return;
    const all = this.#byUser.get(user) ?? new Set();
    this.#byUser.set(user, all.add(connection));
    this.#changed(user);
  }

  /** The connection has ended, perhaps with a goodbye; returns `false` if it was removed before. */
  remove(connection: OpenConnection, left: boolean): boolean {
    if (!this.#all.delete(connection)) return false;
    const user = connection.client?.user ?? '';
    const all = this.#byUser.get(user);
    all?.delete(connection);
    if (all?.size === 0) this.#byUser.delete(user);
    if (all !== undefined) this.#changed(user, left);
    return true;
  }

  /** The connections of a user who is signed in. */
  of(user: string): ReadonlySet<OpenConnection> {
    return this.#byUser.get(user) ?? none;
  }

  /** The sessions of a user who is signed in. */
  clientsOf(user: string): readonly ConnectedSession[] {
    return [...this.of(user)].flatMap(({ client }) => client ?? []);
  }

  /** The sessions of all users who are signed in. */
  get clients(): readonly ConnectedSession[] {
    return [...this.#byUser.values()].flatMap((all) => [...all].flatMap(({ client }) => client ?? []));
  }

  /** The sessions of a user, guests too. */
  allClientsOf(user: string): readonly ConnectedSession[] {
    return [...this.#all].flatMap(({ client }) => (client?.user === user ? client : []));
  }

  /** What users may do has changed: it is decided again for all their sessions. */
  decideAgain(users: readonly string[]): void {
    const [user] = users;
    if (user !== undefined && users.length === 1 && !user.startsWith(GUEST_PREFIX)) {
      for (const client of this.clientsOf(user)) client.decideAgain();
      return;
    }
    const wanted = new Set(users);
    for (const { client } of this.#all) if (client !== undefined && wanted.has(client.user)) client.decideAgain();
  }

  /** Pushes a frame to all sessions of a user; returns how many there are. */
  push(user: string, frame: Frame): number {
    const all = this.of(user);
    for (const connection of all) connection.push(frame);
    return all.size;
  }

  /** Bytes that wait for all connections, in their queues and in their transports. */
  get waitingBytes(): number {
    let bytes = 0;
    for (const connection of this.#all) bytes += connection.waitingBytes;
    return bytes;
  }

  /** How many connections there are, by transport. */
  get transports(): ReadonlyMap<string, number> {
    const all = new Map<string, number>();
    for (const { link } of this.#all) all.set(link.transport, (all.get(link.transport) ?? 0) + 1);
    return all;
  }

  /** The sessions that have a connection. */
  sessions(instance: string): readonly SessionInfo[] {
    const all: SessionInfo[] = [];
    for (const connection of this.#all) {
      const { client, link } = connection;
      if (client === undefined) continue;
      const { who } = client;
      all.push({
        session: client.session,
        instance,
        user: who.user,
        ...defined({ name: who.name }),
        guest: who.guest,
        observer: who.observer === true,
        ...(who.workbench === undefined ? {} : { workbench: true }),
        transport: link.transport,
        ...defined({ remote: link.remote }),
        sinceMs: connection.sinceMs,
        channels: client.channels,
        waitingBytes: connection.waitingBytes,
        ...(connection.roundTripMs === undefined ? {} : { roundTripMs: Math.round(connection.roundTripMs) }),
      });
    }
    return all;
  }
}
