import { type Author, type ChannelName, defined, formatCursor, refusal, type Mentions as Wish } from '@nine-bells/wire';
import type { Inboxes } from '../inbox/inboxes.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { Draft, LoggedMessage, OwnDraft, Place } from '../model/message.js';
import type { Report } from '../ports/report.js';
import type { LogReader } from '../ports/stores.js';
import type { RuleMatch } from '../rules/channelRule.js';
import type { Entrants } from './mayEnter.js';

/** Most users whom one message notifies, by all that it mentions. */
const maxNotified = 1_000;

/** When to try again to take back notices, in milliseconds, and how often. */
const againMs = 1_000;
const mostTries = 60;

export interface MentionsHost {
  readonly wheel: TimerWheel;
  readonly entrants: Pick<Entrants, 'of'>;
  readonly inboxes: Pick<Inboxes, 'notify' | 'retract' | 'usersWith'>;
  readonly logOf: (match: RuleMatch) => LogReader;
  readonly report: Report;
}

/** What a message mentions, checked. */
export interface Mentioning {
  readonly mentioning?: NonNullable<OwnDraft['mentioning']>;
  /** What was left out. */
  readonly notMentioned?: Wish;
}

/** Mentions of users and roles in messages: those who may enter the channel are notified. */
export class Mentions {
  readonly #host: MentionsHost;
  /** The notices that are being written, by channel. */
  readonly #telling = new Map<ChannelName, Promise<void>>();

  constructor(host: MentionsHost) {
    this.#host = host;
  }

  /**
   * Checks whom a message mentions: left out are users who may not enter, or are not known, and roles that no user has.
   *
   * @param areThere - as in `Entrants.of`, of users that are named
   * @throws {ProblemError} `bad-value` where the rule has no mentions; `too-large`, `unavailable`
   */
  async check(match: RuleMatch, { users = [], roles = [] }: Wish, areThere = false): Promise<Mentioning> {
    const { rule } = match;
    if (users.length + roles.length === 0) return {};
    if (!rule.hasMentions)
      throw refusal('bad-value', `channels of the rule ${rule.pattern} have no mentions`, { where: '/mentions' });
    const wanted = [...new Set(users)].filter((user) => !user.startsWith('guest:'));
    const named = await this.#host.entrants.of(match, wanted, areThere);
    const meant = new Set(named);
    const found: string[] = [];
    for (const role of new Set(roles)) {
      const all = await this.#usersWith(match, role);
      for (const user of all) meant.add(user);
      if (all.length > 0) found.push(role);
    }
    if (meant.size > maxNotified) throw tooMany();
    const left = {
      users: users.filter((user) => !named.includes(user)),
      roles: roles.filter((role) => !found.includes(role)),
    };
    const notMentioned = wishOf(left);
    const mentions = wishOf({ users: named, roles: found });
    return defined({ notMentioned, mentioning: mentions && { mentions, mentioned: [...meant] } });
  }

  /** A message has its place: whom it mentions learns of it, by one notice for each channel, that of the last mention. */
  tell(match: RuleMatch, { place }: LoggedMessage, { by, mentioned = [] }: Draft): void {
    const users = mentioned.filter((user) => user !== by?.user);
    if (users.length === 0) return;
    const { channel } = match;
    // One after another: so the notice that stays is that of the last one.
    const told = (this.#telling.get(channel) ?? Promise.resolve())
      .then(() => this.#notify(match, place, by, users))
      .then(
        // It may have been taken back before its notices were there.
        () => this.#again(channel, () => this.#retractIfGone(match, place, { users })),
        (error: unknown) => this.#host.report(error, { event: 'mention-notice-failed', channel }),
      )
      .finally(() => {
        if (this.#telling.get(channel) === told) this.#telling.delete(channel);
      });
    this.#telling.set(channel, told);
  }

  /** A message is taken back: its notices go. */
  takeBack({ channel, place, message }: LoggedMessage): void {
    const { mentions } = message;
    if (mentions !== undefined) void this.#again(channel, () => this.#retract(channel, place, mentions));
  }

  /** Takes the notices of a message back if the store has withdrawn it. Looks a moment later: a commit may still be under way. */
  takeBackIfGone(match: RuleMatch, { place, message: { mentions } }: LoggedMessage): void {
    const { channel } = match;
    if (mentions === undefined) return;
    const act = (): Promise<void> => this.#retractIfGone(match, place, mentions);
    this.#host.wheel.after(againMs, () => void this.#again(channel, act));
  }

  async #notify(match: RuleMatch, place: Place, by: Author | undefined, users: readonly string[]): Promise<void> {
    const { channel } = match;
    await this.#host.inboxes.notify({
      isOwn: true,
      users,
      title: `${by === undefined ? 'You are mentioned' : `${by.name ?? by.user} mentioned you`} in ${channel}`,
      key: keyOf(channel),
      data: { channel, cursor: formatCursor(place), ...(by && { from: by.user }) },
      unlessLooking: channel,
      holdWhileBusy: true,
      heardOf: { channel, isMention: true },
      ...(by && { from: by.user }),
    });
  }

  async #retractIfGone(match: RuleMatch, place: Place, mentions: Wish): Promise<void> {
    const { channel } = match;
    const { volume, number } = place;
    const before = { volume, number: number - 1 };
    const { messages } = await this.#host.logOf(match).since(channel, before, { messages: 1, bytes: 1 });
    const now = messages.find((each) => each.isMessage && each.place.number === number);
    if (now?.message.withdrawn) await this.#retract(channel, place, mentions);
  }

  async #retract(channel: ChannelName, place: Place, { users = [], roles = [] }: Wish): Promise<void> {
    const { inboxes } = this.#host;
    const all = new Set(users);
    for (const role of roles) for (const user of await inboxes.usersWith(role)) all.add(user);
    for (const user of all) await inboxes.retract(user, keyOf(channel), formatCursor(place));
  }

  /** Does something that the store may refuse just now, until it is done or was tried often enough. */
  async #again(channel: ChannelName, act: () => Promise<void>, triesLeft = mostTries): Promise<void> {
    try {
      await act();
    } catch (error) {
      this.#host.report(error, { event: 'mention-withdrawal-failed', channel });
      if (triesLeft > 1) this.#host.wheel.after(againMs, () => void this.#again(channel, act, triesLeft - 1));
    }
  }

  async #usersWith(match: RuleMatch, role: string): Promise<readonly string[]> {
    const { inboxes, entrants } = this.#host;
    const all = await inboxes.usersWith(role);
    if (all.length > maxNotified) throw tooMany();
    return entrants.of(match, all);
  }
}

/** The key of the notice of a channel. */
function keyOf(channel: ChannelName): string {
  return `mention ${channel}`;
}

function wishOf({
  users,
  roles,
}: {
  readonly users: readonly string[];
  readonly roles: readonly string[];
}): Wish | undefined {
  if (users.length + roles.length === 0) return undefined;
  return { ...(users.length > 0 && { users }), ...(roles.length > 0 && { roles }) };
}

function tooMany(): Error {
  return refusal('too-large', `a message mentions at most ${maxNotified} users, by their roles or by name`, {
    where: '/mentions',
  });
}
