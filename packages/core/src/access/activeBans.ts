import type { ChannelName } from '@nine-bells/wire';
import { type AddressRange, rangeOf, readRange } from '../lib/addresses.js';
import { type InForce, type KeepingOut, keepsOut, type Measure } from '../model/moderation.js';
import type { Clock } from '../ports/clock.js';

/** Most addresses of which it is remembered what keeps them out. */
const mostFound = 100_000;

/** The measures in force, as this instance knows them. Asked before every act, so asking is cheap. */
export class Standing {
  readonly #clock: Clock;
  readonly #byId = new Map<string, KeepingOut>();
  readonly #byUser = new Map<string, KeepingOut[]>();
  /** By range, as it is written in one way only. */
  readonly #byAddress = new Map<string, KeepingOut[]>();
  /** The kinds of ranges that there are: family and bits. */
  #kinds: readonly AddressRange[] = [];
  /** What was found for an address, until the bans change. */
  readonly #found = new Map<string, readonly KeepingOut[]>();
  readonly #cutoffs = new Map<string, number>();

  constructor(clock: Clock) {
    this.#clock = clock;
  }

  /**
   * Replaces what is in force by what was read.
   *
   * @param heard - measures that were taken while it was read
   */
  load({ keepingOut, cutoffs }: InForce, heard: readonly Measure[] = []): void {
    const there = new Set(keepingOut.map(({ id }) => id));
    for (const id of [...this.#byId.keys()]) if (!there.has(id)) this.#remove(id);
    for (const each of keepingOut) this.#add(each);
    for (const { user, beforeMs } of cutoffs) this.#cutOff(user, beforeMs);
    for (const measure of heard) this.take(measure);
  }

  /** Takes a measure into account. Doing so twice is as once. */
  take(measure: Measure): void {
    if (keepsOut(measure)) this.#add(measure);
    else if (measure.did === 'lift') this.#remove(measure.ban);
    else if (measure.did !== 'remove') this.#cutOff(measure.user, measure.atMs);
  }

  /** What keeps a user out of a channel, or without one, of the service. A ban from the service counts in both. */
  keepingOut(user: string, channel?: ChannelName): KeepingOut | undefined {
    if (this.#byUser.size === 0) return undefined;
    return this.#latest(this.#byUser.get(user), channel);
  }

  /** What keeps out whoever comes from an address. */
  keepingOutFrom(address: string | undefined, channel?: ChannelName): KeepingOut | undefined {
    if (this.#byAddress.size === 0 || address === undefined) return undefined;
    let all = this.#found.get(address);
    if (all === undefined) {
      const ranges = this.#kinds.map(({ family, bits }) => rangeOf(address, family, bits) ?? '');
      all = ranges.flatMap((range) => this.#byAddress.get(range) ?? []);
      if (this.#found.size >= mostFound) this.#found.clear();
      this.#found.set(address, all);
    }
    return this.#latest(all, channel);
  }

  /** Tokens of a user that were issued before this are not taken, in milliseconds since the epoch. */
  cutoffOf(user: string): number | undefined {
    return this.#cutoffs.get(user);
  }

  byId(id: string): KeepingOut | undefined {
    const found = this.#byId.get(id);
    return found !== undefined && this.#isInForce(found) ? found : undefined;
  }

  /** All bans in force, the latest first. */
  get all(): readonly KeepingOut[] {
    return [...this.#byId.values()].filter((each) => this.#isInForce(each)).sort((a, b) => b.atMs - a.atMs);
  }

  /** Forgets what has ended. */
  sweep(): void {
    for (const each of [...this.#byId.values()]) if (!this.#isInForce(each)) this.#remove(each.id);
  }

  /** Of several, the one that lasts longest: whoever is told when it ends must not meet another then. */
  #latest(all: readonly KeepingOut[] | undefined, channel: ChannelName | undefined): KeepingOut | undefined {
    let latest: KeepingOut | undefined;
    for (const each of all ?? []) {
      if ((each.channel !== undefined && each.channel !== channel) || !this.#isInForce(each)) continue;
      if (latest === undefined || endOf(each) > endOf(latest)) latest = each;
    }
    return latest;
  }

  #isInForce({ untilMs }: KeepingOut): boolean {
    return untilMs === undefined || untilMs > this.#clock.now();
  }

  #add(measure: KeepingOut): void {
    if (this.#byId.has(measure.id)) return;
    this.#byId.set(measure.id, measure);
    const [index, key] = this.#place(measure);
    index.set(key, [...(index.get(key) ?? []), measure]);
    if (index === this.#byAddress) this.#addressesChanged();
  }

  #remove(id: string): void {
    const measure = this.#byId.get(id);
    if (measure === undefined) return;
    this.#byId.delete(id);
    const [index, key] = this.#place(measure);
    const left = (index.get(key) ?? []).filter((each) => each !== measure);
    if (left.length === 0) index.delete(key);
    else index.set(key, left);
    if (index === this.#byAddress) this.#addressesChanged();
  }

  #addressesChanged(): void {
    this.#found.clear();
    const kinds = [...this.#byAddress.keys()].flatMap((text) => tryRange(text) ?? []);
    this.#kinds = [...new Map(kinds.map((each) => [`${each.family} ${each.bits}`, each])).values()];
  }

  #place(measure: KeepingOut): [Map<string, KeepingOut[]>, string] {
    return measure.did === 'ban' && measure.address !== undefined
      ? [this.#byAddress, tryRange(measure.address)?.text ?? measure.address]
      : [this.#byUser, measure.user as string];
  }

  #cutOff(user: string, beforeMs: number): void {
    this.#cutoffs.set(user, Math.max(beforeMs, this.#cutoffs.get(user) ?? 0));
  }
}

function tryRange(text: string): AddressRange | undefined {
  try {
    return readRange(text);
  } catch {
    return undefined;
  }
}

function endOf({ untilMs }: KeepingOut): number {
  return untilMs ?? Number.POSITIVE_INFINITY;
}
