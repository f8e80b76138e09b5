import type { ChannelName, EnterWish, Json } from '@nine-bells/wire';
import type { Identity } from '../model/access.js';
import { authorOf } from '../model/author.js';
import type { ChannelPresence } from '../presence/channelPresence.js';
import type { RuleMatch } from '../rules/channelRule.js';
import type { SessionHost } from './host.js';
import type { Session } from './sessions.js';

/** The channels that show a session as a member, by its present connection. */
export class Stays {
  readonly #session: Session;
  readonly #host: Pick<SessionHost, 'bans' | 'channels' | 'contracts' | 'presences'>;
  /** Made with the first: most of many thousand connections may have none. */
  #shown: Map<ChannelName, ChannelPresence> | undefined;

  constructor(session: Session, host: Pick<SessionHost, 'bans' | 'channels' | 'contracts' | 'presences'>) {
    this.#session = session;
    this.#host = host;
  }

  has(name: ChannelName): boolean {
    return this.#shown?.has(name) === true;
  }

  /** Shows the session as a member, unless it wishes `quiet`. Gives the list of members, as JSON text that begins with a comma. */
  enter(presence: ChannelPresence, who: Identity, { quiet, status }: EnterWish, data: Json | undefined): string {
    const session = this.#session;
    const { name } = presence.channel;
    session.lingers?.delete(name);
    if (quiet || who.observer) this.leave(name);
    else {
      const { id, generation } = session;
      presence.members.enter({
        session: id,
        generation,
        author: authorOf(who),
        status: status ?? this.#ownStatus(presence),
        hidesStatus: this.#host.bans.silenceOf(session.user, name) !== undefined,
        data,
      });
      this.#shown ??= new Map();
      this.#shown.set(name, presence);
    }
    return `,${presence.members.listText}`;
  }

  /** The status that the session has everywhere, unless the channel's contract does not have it so. */
  #ownStatus({ channel }: ChannelPresence): Json | undefined {
    const { status } = this.#session;
    return status === undefined || this.#host.contracts.statusFits(channel.match, status) ? status : undefined;
  }

  /** The rules of the channels that show the session: of one, or of all. */
  *matches(only: ChannelName | undefined): Iterable<RuleMatch> {
    for (const [name, { channel }] of this.#shown ?? []) if (only === undefined || name === only) yield channel.match;
  }

  leave(name: ChannelName): void {
    const presence = this.#shown?.get(name);
    if (presence === undefined) return;
    this.#shown?.delete(name);
    this.#gone(presence);
  }

  leaveAll(): void {
    for (const name of [...(this.#shown?.keys() ?? [])]) this.leave(name);
  }

  /** Sets the session's status, in one channel or in all. */
  setStatus(status: Json, only: ChannelName | undefined): void {
    for (const [name, { members }] of this.#shown ?? [])
      if (only === undefined || name === only) members.setStatus(this.#session.id, this.#session.user, status);
  }

  /** Hides the status in channels where the user is silenced. */
  hideStatuses(): void {
    const { id, user } = this.#session;
    for (const [name, { members }] of this.#shown ?? [])
      if (this.#host.bans.silenceOf(user, name) !== undefined) members.setStatus(id, user, undefined);
  }

  /** The connection has ended: the session is still shown where it was, for the grace; a short one after a goodbye. */
  linger(left: boolean): void {
    const session = this.#session;
    for (const [name, presence] of this.#shown ?? []) {
      presence.members.lost(session.id, session.user, left);
      session.lingers ??= new Set();
      session.lingers.add(name);
    }
    this.#shown = undefined;
  }

  /** Leaves the channels where the session was still shown from before, and that hello has not named. */
  lingerNoMore(): void {
    for (const name of this.#session.lingers ?? []) {
      const presence = this.#host.presences.get(name);
      if (presence !== undefined) this.#gone(presence);
    }
    this.#session.lingers = undefined;
  }

  #gone({ members, channel }: ChannelPresence): void {
    members.leave(this.#session.id, this.#session.user);
    this.#host.channels.left(channel.name);
  }
}
