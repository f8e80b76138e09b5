import type { Access } from '../access/access.js';
import type { Channels } from '../channel/channels.js';
import type { Fanout } from '../delivery/fanout.js';
import type { SessionInfo } from '../model/info.js';
import type { Publisher } from '../record/publisher.js';
import type { Connected } from '../session/connected.js';

export interface StatsHost {
  readonly instance: string;
  readonly access: Access;
  readonly channels: Channels;
  readonly connected: Connected;
  readonly fanout: Fanout;
  readonly publisher: Publisher;
}

/** What this instance has open and waiting now. */
export class Stats {
  readonly #host: StatsHost;

  constructor(host: StatsHost) {
    this.#host = host;
  }

  get connections(): number {
    return this.#host.connected.size;
  }

  /** Connections, by transport. */
  get transports(): ReadonlyMap<string, number> {
    return this.#host.connected.transports;
  }

  /** The sessions that have a connection. */
  get sessions(): readonly SessionInfo[] {
    return this.#host.connected.sessions(this.#host.instance);
  }

  /** Channels that a client here has entered. */
  get enteredChannels(): number {
    return this.#host.channels.entered;
  }

  /** Channels entered, or left a moment ago. */
  get openChannels(): number {
    return this.#host.channels.size;
  }

  /** Characters of the latest messages of channels, held ready for clients that come back. */
  get heldChars(): number {
    return this.#host.channels.heldChars;
  }

  /** Messages waiting for their place in a channel's order. */
  get backlog(): number {
    return this.#host.publisher.waiting;
  }

  /** Bytes that wait for all connections, in their queues and in their transports. */
  get waitingBytes(): number {
    return this.#host.connected.waitingBytes;
  }

  /** Bytes handed to transports, and hails that found no room, since the start. */
  get written(): { readonly bytes: number; readonly hailsDropped: number } {
    const { bytesOut, hailsDropped } = this.#host.fanout;
    return { bytes: bytesOut, hailsDropped };
  }

  /** Decisions since the start, by act. */
  get decisions(): Access['decisions'] {
    return this.#host.access.decisions;
  }
}
