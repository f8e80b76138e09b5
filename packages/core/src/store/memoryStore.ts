import type { ChannelName } from '@nine-bells/wire';
import type { Appended, Draft, LogSlice, Place, ReadLimit } from '../logbook/logbook.js';
import { RecentLog } from '../logbook/recentLog.js';
import { type AuditEntry, type InForce, keepsOut, type Measure } from '../measures/measure.js';
import type { Ids, KeptChannel, Store } from '../ports.js';

const unbounded = { messages: Number.MAX_SAFE_INTEGER, forMs: Number.MAX_SAFE_INTEGER };

/** A store that forgets everything with its process. For tests and simulation. */
export class MemoryStore implements Store {
  readonly #ids: Ids;
  readonly #logs = new Map<ChannelName, RecentLog>();
  readonly #measures: Measure[] = [];

  constructor(ids: Ids) {
    this.#ids = ids;
  }

  async append(channel: ChannelName, draft: Draft): Promise<Appended> {
    return this.#log(channel).append(draft, unbounded);
  }

  async head(channel: ChannelName): Promise<Place> {
    return this.#log(channel).head;
  }

  async since(channel: ChannelName, after: Place, limit: ReadLimit): Promise<LogSlice> {
    return this.#log(channel).since(after, limit);
  }

  async before(channel: ChannelName, before: Place | undefined, limit: ReadLimit): Promise<LogSlice> {
    return this.#log(channel).before(before, limit);
  }

  async channels(after: string, limit: number): Promise<readonly KeptChannel[]> {
    return [...this.#logs]
      .filter(([channel, log]) => channel > after && log.head.number > 0)
      .map(([channel, log]) => ({ channel, head: log.head }))
      .sort((a, b) => (a.channel < b.channel ? -1 : 1))
      .slice(0, limit);
  }

  async take(measure: Measure): Promise<void> {
    this.#measures.push(measure);
  }

  async inForce(atMs: number): Promise<InForce> {
    const lifted = new Set(this.#measures.flatMap((each) => (each.did === 'lift' ? [each.ban] : [])));
    return {
      keepingOut: this.#measures
        .filter(keepsOut)
        .filter(({ id, untilMs }) => !lifted.has(id) && (untilMs === undefined || untilMs > atMs)),
      cutoffs: this.#measures.flatMap((each) =>
        each.did === 'sign-out' || each.did === 'revoke-tokens' ? [{ user: each.user, beforeMs: each.atMs }] : [],
      ),
    };
  }

  async audit(before: number | undefined, limit: number): Promise<readonly AuditEntry[]> {
    return this.#measures
      .map((measure, index) => ({ ...measure, number: index + 1 }))
      .filter(({ number }) => before === undefined || number < before)
      .slice(-limit)
      .reverse();
  }

  #log(channel: ChannelName): RecentLog {
    let log = this.#logs.get(channel);
    if (log === undefined) {
      log = new RecentLog(channel, this.#ids.volume(), 0);
      this.#logs.set(channel, log);
    }
    return log;
  }
}
