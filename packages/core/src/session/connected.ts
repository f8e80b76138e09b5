import type { Frame } from '../model/frame.js';
import type { SessionInfo } from '../model/info.js';
import type { Client } from './client.js';
import type { Connection } from './connection.js';

const nobody: ReadonlySet<Connection> = new Set();

/** The connections of this instance, and whose they are. */
export class Connected implements Iterable<Connection> {
  readonly #all = new Set<Connection>();
  /** To find those of a user, and to count them; guests are few to a user, and not here. */
  readonly #byUser = new Map<string, Set<Connection>>();
  readonly #changed: (user: string) => void;

  /** @param changed - a user has one connection more, or one less */
  constructor(changed: (user: string) => void) {
    this.#changed = changed;
  }

  get size(): number {
    return this.#all.size;
  }

  [Symbol.iterator](): Iterator<Connection> {
    return this.#all.values();
  }

  add(connection: Connection): void {
    this.#all.add(connection);
  }

  /** It has said who it is. */
  welcomed(connection: Connection): void {
    const { user, guest } = (connection.client as Client).who;
    if (guest) return;
    const all = this.#byUser.get(user) ?? new Set();
    this.#byUser.set(user, all.add(connection));
    this.#changed(user);
  }

  /** It has ended; `false` if it was not there any more. */
  remove(connection: Connection): boolean {
    if (!this.#all.delete(connection)) return false;
    const user = connection.client?.user ?? '';
    const all = this.#byUser.get(user);
    all?.delete(connection);
    if (all?.size === 0) this.#byUser.delete(user);
    if (all !== undefined) this.#changed(user);
    return true;
  }

  /** Those of a user who is signed in. */
  of(user: string): ReadonlySet<Connection> {
    return this.#byUser.get(user) ?? nobody;
  }

  /** The clients of a user who is signed in. */
  clientsOf(user: string): readonly Client[] {
    return [...this.of(user)].flatMap(({ client }) => client ?? []);
  }

  /** The clients of a user, guests too. */
  allClientsOf(user: string): readonly Client[] {
    return [...this.#all].flatMap(({ client }) => (client?.user === user ? client : []));
  }

  /** Pushes a frame to all sessions of a user; how many there are. */
  push(user: string, frame: Frame): number {
    const all = this.of(user);
    for (const connection of all) connection.push(frame);
    return all.size;
  }

  /** Bytes that wait for all together, in their queues and in their transports. */
  get waitingBytes(): number {
    let bytes = 0;
    for (const connection of this.#all) bytes += connection.waitingBytes;
    return bytes;
  }

  /** How many there are, by what carries them. */
  get transports(): ReadonlyMap<string, number> {
    const all = new Map<string, number>();
    for (const { link } of this.#all) all.set(link.transport, (all.get(link.transport) ?? 0) + 1);
    return all;
  }

  /** The sessions that have one. */
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
        ...(who.name === undefined ? {} : { name: who.name }),
        guest: who.guest,
        oversight: who.oversight === true,
        transport: link.transport,
        ...(link.remote === undefined ? {} : { remote: link.remote }),
        sinceMs: connection.sinceMs,
        channels: client.channels,
        waitingBytes: connection.waitingBytes,
        ...(connection.roundTripMs === undefined ? {} : { roundTripMs: Math.round(connection.roundTripMs) }),
      });
    }
    return all;
  }
}
