import type { BoardRecord, BoardSnapshot } from '@nine-bells/core';
import type { Json } from '@nine-bells/wire';

/** The value that a simulated client sets, with its condition and the session that holds the entry. */
export interface SetValue {
  readonly by: string;
  readonly n: number;
  readonly if?: { readonly absent: true } | { readonly unchangedSince: number; readonly volume: string };
  readonly held?: string;
}

/** Every change of every board, in order, by channel and volume. */
export class BoardTruth {
  readonly #logs = new Map<string, BoardRecord[]>();
  changes = 0;

  /** Changes that took effect. @throws {Error} if they do not follow, or a condition did not hold */
  add(channel: string, volume: string, after: number, records: readonly BoardRecord[]): void {
    const log = this.#log(channel, volume);
    if (after !== log.length) throw new Error(`${channel} ${volume}: changes after ${after} follow ${log.length}`);
    for (const record of records) {
      this.#checkCondition(channel, volume, record);
      log.push(record);
      this.changes += 1;
    }
  }

  /** A board was made from what was saved. */
  restored(channel: string, { volume, number, records }: BoardSnapshot): void {
    const log = this.#log(channel, volume);
    if (log.length > 0 || number !== records.length) return;
    log.push(...records);
  }

  /** The board at a number. */
  at(channel: string, volume: string, number: number): ReadonlyMap<string, Json> {
    const state = new Map<string, Json>();
    for (const { entry, value } of this.#log(channel, volume).slice(0, number))
      if (value === undefined) state.delete(entry);
      else state.set(entry, value);
    return state;
  }

  recordAt(channel: string, volume: string, number: number): BoardRecord | undefined {
    return this.#log(channel, volume)[number - 1];
  }

  length(channel: string, volume: string): number {
    return this.#log(channel, volume).length;
  }

  #checkCondition(channel: string, volume: string, { entry, value }: BoardRecord): void {
    const condition = (value as unknown as SetValue | undefined)?.if;
    if (condition === undefined) return;
    const log = this.#log(channel, volume);
    const at = log.findLastIndex((each) => each.entry === entry);
    // The board itself sets a value anew when its holder comes back.
    if (at >= 0 && JSON.stringify(log[at]?.value) === JSON.stringify(value)) return;
    const isAbsent = at < 0 || log[at]?.value === undefined;
    const holds =
      isAbsent || (!('absent' in condition) && condition.volume === volume && at + 1 <= condition.unchangedSince);
    if (!holds) throw new Error(`${channel}: ${entry} was set though ${JSON.stringify(condition)} did not hold`);
  }

  #log(channel: string, volume: string): BoardRecord[] {
    const key = `${channel} ${volume}`;
    let log = this.#logs.get(key);
    if (log === undefined) {
      log = [];
      this.#logs.set(key, log);
    }
    return log;
  }
}
