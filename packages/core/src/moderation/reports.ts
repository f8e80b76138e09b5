import {
  type Author,
  type ChannelName,
  type Cursor,
  defined,
  formatCursor,
  type Json,
  type Place,
  refusal,
} from '@nine-bells/wire';
import type { Hooks } from '../hooks/hooks.js';
import { copyOfMessage } from '../model/hook.js';
import type { MessageReport, ReportWish } from '../model/messageReport.js';
import type { Actor } from '../model/moderation.js';
import type { Clock } from '../ports/clock.js';
import type { Ids } from '../ports/ids.js';
import type { LogReader, ReportStore } from '../ports/stores.js';
import type { ChannelRules, RuleMatch } from '../rules/channelRule.js';

export interface ReportsHost {
  readonly clock: Clock;
  readonly ids: Ids;
  readonly store: ReportStore;
  readonly rules: ChannelRules;
  readonly logOf: (match: RuleMatch) => LogReader;
  readonly hooks: Hooks;
}

/** What a user finds wrong. */
export interface ReportedMessage {
  readonly channel: ChannelName;
  readonly place: Place;
  readonly by: Author;
  readonly reason?: string | undefined;
}

/**
 * Most reports that may be open: of signed-in users, of guests (who come as often as they like, and are not to crowd the others
 * out), and of one user.
 */
export const maxOpenReports = { users: 10_000, guests: 1_000, each: 100 } as const;

/** Messages that users report, for moderators to work off. */
export class Reports {
  readonly #host: ReportsHost;

  constructor(host: ReportsHost) {
    this.#host = host;
  }

  /**
   * Keeps a report of a message. Idempotent: a user reports a message once.
   *
   * @returns its id
   * @throws {ProblemError} `no-such-channel`; `bad-cursor` if there is no such message; `busy` if too many are open; `unavailable`
   */
  async report({ channel, place, by, reason }: ReportedMessage): Promise<string> {
    const { clock, ids, store, rules, logOf, hooks } = this.#host;
    const match = rules.require(channel);
    const next = { ...place, number: place.number + 1 };
    const { messages } = await logOf(match).before(channel, next, { messages: 1, bytes: 1 });
    const [logged] = messages;
    if (logged?.place.number !== place.number || logged.place.volume !== place.volume)
      throw refusal('bad-cursor', 'the channel has no such message', { where: '/cursor' });
    const cursor: Cursor = formatCursor(place);
    const { message } = logged;
    const draft = { id: ids.moderation(), channel, cursor, message, by, atMs: clock.now(), ...defined({ reason }) };
    const { id, repeated } = await store.report(draft, {
      all: by.guest ? maxOpenReports.guests : maxOpenReports.users,
      each: maxOpenReports.each,
    });
    if (!repeated) {
      const { atMs, ...rest } = { ...draft, at: new Date(draft.atMs).toISOString() };
      const { by: _, key: __, data: ___, mentions: ____, ...bare } = message;
      const bareText = JSON.stringify({ ...rest, message: { ...bare, data: null } });
      const copy = { of: copyOfMessage(channel, place.number), bareText };
      hooks.happened('reported', rest as unknown as Json, channel, copy);
    }
    return id;
  }

  list(wish: ReportWish): Promise<readonly MessageReport[]> {
    return this.#host.store.reports(wish);
  }

  /** A report, whether or not it is open. */
  byId(id: string): Promise<MessageReport | undefined> {
    return this.#host.store.reportById(id);
  }

  /**
   * Ends a report: something was done, or nothing is to be done.
   *
   * @throws {ProblemError} `bad-value` if there is no such open report; `unavailable`
   */
  async end(id: string, by: Actor, note?: string): Promise<MessageReport> {
    const ended = await this.#host.store.endReport(id, { by, atMs: this.#host.clock.now(), ...defined({ note }) });
    if (ended === undefined) throw refusal('no-such-id', 'no report of this id is open');
    return ended;
  }
}
