import type { ChannelName, EnterWish, Json } from '@nine-bells/wire';
import type { Channel } from '../channel/channel.js';
import type { Identity } from '../model/access.js';
import { authorOf } from '../model/author.js';
import type { Session } from './sessions.js';

/** The channels where a session is shown as there, by its present connection. */
export class Stays {
  readonly #session: Session;
  readonly #left: (channel: Channel) => void;
  /** Made with the first: most of many thousand connections may have none. */
  #channels: Map<ChannelName, Channel> | undefined;

  /** @param left - called with a channel where the session is not shown any more */
  constructor(session: Session, left: (channel: Channel) => void) {
    this.#session = session;
    this.#left = left;
  }

  has(name: ChannelName): boolean {
    return this.#channels?.has(name) === true;
  }

  /**
   * Shows the session as there, or with `quiet` not. Gives the list of who is, as JSON text that begins with a comma; empty
   * where it is not shown.
   */
  enter(channel: Channel, who: Identity, { quiet, status }: EnterWish, data: Json | undefined): string {
    const { presence, name } = channel;
    if (presence === undefined) return '';
    const session = this.#session;
    session.lingers?.delete(name);
    if (quiet || who.oversight) this.leave(name);
    else {
      const { id, generation } = session;
      presence.enter({ session: id, generation, author: authorOf(who), status: status ?? session.status, data });
      this.#channels ??= new Map();
      this.#channels.set(name, channel);
    }
    return `,${presence.listText}`;
  }

  leave(name: ChannelName): void {
    const channel = this.#channels?.get(name);
    if (channel === undefined) return;
    this.#channels?.delete(name);
    this.#gone(channel);
  }

  leaveAll(): void {
    for (const name of [...(this.#channels?.keys() ?? [])]) this.leave(name);
  }

  /** Says something else of the session, in one channel or in all. */
  setStatus(status: Json, only: ChannelName | undefined): void {
    for (const [name, { presence }] of this.#channels ?? [])
      if (only === undefined || name === only) presence?.setStatus(this.#session.id, this.#session.user, status);
  }

  /** The connection broke: the session is still shown where it was, for the grace. */
  linger(): void {
    const session = this.#session;
    for (const [name, channel] of this.#channels ?? []) {
      channel.presence?.lost(session.id, session.user);
      session.lingers ??= new Map();
      session.lingers.set(name, channel);
    }
    this.#channels = undefined;
  }

  /** Channels where the session was still shown from before, and which hello has not named, are left. */
  lingerNoMore(): void {
    for (const channel of this.#session.lingers?.values() ?? []) this.#gone(channel);
    this.#session.lingers = undefined;
  }

  #gone(channel: Channel): void {
    channel.presence?.leave(this.#session.id, this.#session.user);
    this.#left(channel);
  }
}
