import { type Author, type ChannelName, problem } from '@nine-bells/wire';
import { type Access, type Explanation, mayNotBegin, type Ruling, type Visitor } from '../access/access.js';
import type { Channels } from '../channel/channels.js';
import type { Inboxes } from '../inbox/inboxes.js';
import type { Act } from '../model/access.js';
import type { ActivityReader } from '../ports/activity.js';
import type { Report } from '../ports/report.js';
import { type ChannelRules, type RuleMatch, usersOf } from '../rules/channelRule.js';

export interface DirectChannelsHost {
  readonly rules: ChannelRules;
  readonly channels: Channels;
  readonly access: Access;
  readonly inboxes: Inboxes;
  readonly activity: ActivityReader;
  readonly report: Report;
  /** Who of some users has blocked another. */
  readonly blocking: (other: string, users: readonly string[]) => Promise<ReadonlySet<string>>;
}

/** Channels between users: who may begin one, and who learns of what is written there. */
export class DirectChannels {
  readonly #host: DirectChannelsHost;

  constructor(host: DirectChannelsHost) {
    this.#host = host;
  }

  /** What their names begin with, if there are any. */
  get prefix(): string | undefined {
    const pattern = this.#host.rules.all.find(({ direct }) => direct)?.pattern;
    return pattern?.slice(0, pattern.lastIndexOf('/') + 1);
  }

  /** One that has a message has begun; for others the act `direct` is decided for each of the other users. */
  mayBegin(match: RuleMatch, visitor: Visitor): Ruling | Promise<Ruling> {
    const begun = this.#host.channels.get(match.channel)?.head;
    return begun !== undefined && begun.number > 0 ? {} : this.#decideToBegin(match, visitor);
  }

  /** To enter, publish or hail in one that has not begun, it must be allowed to begin. */
  async explained(act: Act, explanation: Explanation, visitor: Visitor): Promise<Explanation> {
    const { channel, allowed } = explanation;
    if (!allowed || channel === undefined || act === 'read' || visitor.who.observer) return explanation;
    const match = this.#host.rules.match(channel);
    if (!match?.rule.direct || usersOf(match) === undefined) return explanation;
    const { problem: refused } = await this.mayBegin(match, visitor);
    return refused === undefined ? explanation : { ...explanation, allowed: false, problem: refused };
  }

  /** Those who are not there learn of a message by a notice, one for each channel. */
  tellParties(match: RuleMatch, by: Author | undefined): void {
    const { channel } = match;
    this.#tell(match, channel, by).catch((error: unknown) =>
      this.#host.report(error, { event: 'direct-notice-failed', channel }),
    );
  }

  async #tell(match: RuleMatch, channel: ChannelName, by: Author | undefined): Promise<void> {
    const others = (usersOf(match) ?? []).filter((user) => user !== by?.user);
    const { users } = await this.#host.activity.activityOf(others, channel);
    const absent = others.filter((user) => users.get(user)?.isIn !== true);
    if (absent.length === 0) return;
    await this.#host.inboxes.notify({
      isOwn: true,
      users: absent,
      title: by === undefined ? 'There is a message for you' : `${by.name ?? by.user} wrote to you`,
      key: `direct ${channel}`,
      data: { channel, ...(by && { from: by.user }) },
      heardOf: { channel, isMention: false },
      ...(by && { from: by.user }),
    });
  }

  async #decideToBegin(match: RuleMatch, visitor: Visitor): Promise<Ruling> {
    const { channels, access, inboxes, blocking } = this.#host;
    if ((await channels.logOf(match).head(match.channel)).number > 0) return {};
    const { user } = visitor.who;
    const others = (usersOf(match) ?? []).filter((each) => each !== user);
    const blockers = await blocking(user, others);
    for (const other of others) {
      if (blockers.has(other)) return { problem: mayNotBegin(visitor.who, other) };
      const ruling = await access.decideAbout('direct', other, visitor);
      if (ruling.problem !== undefined) return ruling;
      if (!(await inboxes.isKnown(other)))
        return { problem: problem('bad-value', `the service has never met ${other}`, { where: '/channel' }) };
    }
    return {};
  }
}
