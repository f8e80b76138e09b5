import type { Author, ChannelName } from '@nine-bells/wire';
import type { ChannelFeature, FeatureChannel } from '../channel/feature.js';
import type { Membership } from '../model/info.js';
import type { Table } from '../model/memberTable.js';
import type { PresenceRule } from '../model/presenceRule.js';
import type { Signal } from '../model/signal.js';
import { Presence } from './presence.js';
import { Tables, type TablesHost } from './tables.js';

/** What the presence of a channel needs from that of all channels. */
export interface ChannelPresenceHost {
  now(): number;
  after(delayMs: number, act: () => void): () => void;
  /** A member has come, perhaps with a session that has had a connection before, or has gone for good. */
  noted(channel: FeatureChannel, change: 'joined' | 'left', author: Author, isBack: boolean): void;
  /** The last member that this instance shows is gone. */
  emptied(channel: ChannelName): void;
  /** A member that an ended instance showed has not come back. */
  abandoned(channel: FeatureChannel, instanceId: string, author: Author): void;
  closed(channel: ChannelName): void;
  /** What the tables of members need; absent where there are no other instances. */
  readonly tables: Omit<TablesHost, 'own' | 'take' | 'replace'> | undefined;
}

/** Who is in one channel, on all instances. */
export class ChannelPresence implements ChannelFeature {
  readonly channel: FeatureChannel;
  readonly members: Presence;
  readonly #tables: Tables | undefined;
  readonly #host: ChannelPresenceHost;

  constructor(channel: FeatureChannel, rule: PresenceRule, host: ChannelPresenceHost) {
    this.channel = channel;
    this.#host = host;
    this.members = new Presence(channel.name, rule, {
      now: host.now,
      after: host.after,
      tell: (frame) => channel.tell(frame),
      noted: (change, author, isBack) => host.noted(channel, change, author, isBack),
      empty: () => host.emptied(channel.name),
      changed: (change) => this.#tables?.changed(change),
      abandoned: (instanceId, author) => host.abandoned(channel, instanceId, author),
    });
    if (host.tables !== undefined)
      this.#tables = new Tables(channel.name, {
        ...host.tables,
        own: () => this.members.table,
        take: (home, change) => this.members.hear(home, change),
        replace: (home, entries) => this.members.replace(home, entries),
      });
  }

  get keepsOpen(): boolean {
    return !this.members.isEmptyHere;
  }

  /** The sessions that this instance shows, for the others. */
  get table(): Table {
    return this.#tables?.own ?? { number: 0, entries: this.members.table };
  }

  membershipOf(user: string): Membership | undefined {
    const member = this.members.member(user);
    return member === undefined ? undefined : { channel: this.channel.name, member };
  }

  ready(): Promise<void> | undefined {
    return this.#tables?.ready();
  }

  receive(signal: Signal): void {
    if ('table' in signal) this.#tables?.hear(signal);
  }

  signalsMissed(): void {
    this.#tables?.remind();
    void this.#tables?.pull();
  }

  /** Reminds the other instances of this one's table, if `reminds`, and asks those that were not heard of for long. */
  look(reminds: boolean): void {
    this.#tables?.look(reminds);
  }

  instanceGone(instanceId: string): void {
    this.#tables?.forget(instanceId);
    this.members.abandon(instanceId);
  }

  close(): void {
    this.members.close();
    this.#tables?.close();
    this.#host.closed(this.channel.name);
  }
}
