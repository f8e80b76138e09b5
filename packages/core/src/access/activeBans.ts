import type { ChannelName } from '@nine-bells/wire';
import { type AddressRange, rangeOf, readRange } from '../lib/addresses.js';
import { BoundedMap } from '../lib/boundedMap.js';
import { type ActiveBan, type InForce, isActiveBan, type ModerationAction, type Silence } from '../model/moderation.js';
import type { Clock } from '../ports/clock.js';

/** Most addresses of which it is remembered what keeps them out. */
const maxFound = 100_000;

/** The bans, silences and revocations in force, as this instance knows them. Asked before every act, so asking is cheap. */
export class ActiveBans {
  readonly #clock: Clock;
  readonly #byId = new Map<string, ActiveBan>();
  readonly #byUser = new Map<string, ActiveBan[]>();
  /** By range, as it is written in one way only. */
  readonly #byAddress = new Map<string, ActiveBan[]>();
  /** The kinds of ranges that there are: family and bits. */
  #kinds: readonly AddressRange[] = [];
  /** What was found for an address, until the bans change. */
  readonly #found = new BoundedMap<string, readonly ActiveBan[]>(maxFound);
  readonly #cutoffs = new Map<string, number>();
  /** Silences by user, each by its id. */
  readonly #silences = new Map<string, Map<string, Silence>>();

  constructor(clock: Clock) {
    this.#clock = clock;
  }

  /**
   * Replaces what is in force by what was read.
   *
   * @param heard - actions that were taken while it was read
   */
  load({ bans, silences, cutoffs }: InForce, heard: readonly ModerationAction[] = []): void {
    const there = new Set(bans.map(({ id }) => id));
    for (const id of [...this.#byId.keys()]) if (!there.has(id)) this.#remove(id);
    for (const each of bans) this.#add(each);
    this.#silences.clear();
    for (const each of silences) this.#silence(each);
    for (const { user, beforeMs } of cutoffs) this.#cutOff(user, beforeMs);
    for (const action of heard) this.take(action);
  }

  /** Takes an action into account. Idempotent. */
  take(action: ModerationAction): void {
    if (isActiveBan(action)) this.#add(action);
    else if (action.type === 'unban') this.#remove(action.ban);
    else if (action.type === 'silence') this.#silence(action);
    else if (action.type === 'end-silence') this.#endSilence(action.user, action.silence);
    // Other types come from later versions.
    else if (action.type === 'sign-out' || action.type === 'revoke-tokens') this.#cutOff(action.user, action.atMs);
  }

  /** What keeps a user out of a channel, or without one, of the service. A ban from the service counts in both. */
  bans(user: string, channel?: ChannelName): ActiveBan | undefined {
    if (this.#byUser.size === 0) return undefined;
    return this.#latest(this.#byUser.get(user), channel);
  }

  /** The ban that keeps clients of an address out. */
  banOfAddress(address: string | undefined, channel?: ChannelName): ActiveBan | undefined {
    if (this.#byAddress.size === 0 || address === undefined) return undefined;
    let all = this.#found.get(address);
    if (all === undefined) {
      const ranges = this.#kinds.map(({ family, bits }) => rangeOf(address, family, bits) ?? '');
      all = ranges.flatMap((range) => this.#byAddress.get(range) ?? []);
      this.#found.set(address, all);
    }
    return this.#latest(all, channel);
  }

  /** What lets a user read and not write in a channel, or without one, in the whole service: what lasts longest. */
  silenceOf(user: string, channel?: ChannelName): Silence | undefined {
    let latest: Silence | undefined;
    for (const each of this.silencesOf(user, channel))
      if (each.everyMs === undefined && (latest === undefined || endOf(each) > endOf(latest))) latest = each;
    return latest;
  }

  /** Once in how long a user may publish in a channel, in milliseconds; 0: as it likes. */
  slowedTo(user: string, channel: ChannelName): number {
    let slowest = 0;
    for (const { everyMs = 0 } of this.silencesOf(user, channel)) slowest = Math.max(slowest, everyMs);
    return slowest;
  }

  /** The silences of a user that are in force in a channel, or without one, in the whole service. */
  *silencesOf(user: string, channel: ChannelName | undefined): Iterable<Silence> {
    if (this.#silences.size === 0) return;
    for (const each of this.#silences.get(user)?.values() ?? [])
      if ((each.channel === undefined || each.channel === channel) && this.#isInForce(each)) yield each;
  }

  silenceById(id: string): Silence | undefined {
    return this.silences.find((each) => each.id === id);
  }

  /** All silences in force, the latest first. */
  get silences(): readonly Silence[] {
    const all = [...this.#silences.values()].flatMap((each) => [...each.values()]);
    return all.filter((each) => this.#isInForce(each)).sort((a, b) => b.atMs - a.atMs);
  }

  /** Tokens of a user that were issued before this are not taken, in milliseconds since the epoch. */
  cutoffOf(user: string): number | undefined {
    return this.#cutoffs.get(user);
  }

  byId(id: string): ActiveBan | undefined {
    const found = this.#byId.get(id);
    return found !== undefined && this.#isInForce(found) ? found : undefined;
  }

  /** All bans in force, the latest first. */
  get all(): readonly ActiveBan[] {
    return [...this.#byId.values()].filter((each) => this.#isInForce(each)).sort((a, b) => b.atMs - a.atMs);
  }

  /** Forgets what has ended. */
  sweep(): void {
    for (const each of [...this.#byId.values()]) if (!this.#isInForce(each)) this.#remove(each.id);
    for (const [user, all] of [...this.#silences])
      for (const [id, each] of all) if (!this.#isInForce(each)) this.#endSilence(user, id);
  }

  /** Of several bans, the one that lasts longest: a client that is told its end must not meet another ban then. */
  #latest(all: readonly ActiveBan[] | undefined, channel: ChannelName | undefined): ActiveBan | undefined {
    let latest: ActiveBan | undefined;
    for (const each of all ?? []) {
      if ((each.channel !== undefined && each.channel !== channel) || !this.#isInForce(each)) continue;
      if (latest === undefined || endOf(each) > endOf(latest)) latest = each;
    }
    return latest;
  }

  /** Adds a silence. It replaces an earlier one of the user in the same channel, or everywhere. */
  #silence(silence: Silence): void {
    const all = this.#silences.get(silence.user) ?? new Map<string, Silence>();
    for (const each of all.values()) {
      if (each.channel !== silence.channel || each.id === silence.id) continue;
      if (each.atMs > silence.atMs) return;
      all.delete(each.id);
    }
    this.#silences.set(silence.user, all.set(silence.id, silence));
  }

  #endSilence(user: string, id: string): void {
    const all = this.#silences.get(user);
    if (all?.delete(id) && all.size === 0) this.#silences.delete(user);
  }

  #isInForce({ untilMs }: Pick<ActiveBan, 'untilMs'>): boolean {
    return untilMs === undefined || untilMs > this.#clock.settled();
  }

  /** Adds a ban. It replaces an earlier one of the same kind and channel, of the user or address. */
  #add(action: ActiveBan): void {
    if (this.#byId.has(action.id)) return;
    const [index, key] = this.#place(action);
    for (const each of index.get(key) ?? []) {
      if (each.type !== action.type || each.channel !== action.channel) continue;
      if (each.atMs > action.atMs) return;
      this.#remove(each.id);
    }
    this.#byId.set(action.id, action);
    index.set(key, [...(index.get(key) ?? []), action]);
    if (index === this.#byAddress) this.#addressesChanged();
  }

  #remove(id: string): void {
    const action = this.#byId.get(id);
    if (action === undefined) return;
    this.#byId.delete(id);
    const [index, key] = this.#place(action);
    const left = (index.get(key) ?? []).filter((each) => each !== action);
    if (left.length === 0) index.delete(key);
    else index.set(key, left);
    if (index === this.#byAddress) this.#addressesChanged();
  }

  #addressesChanged(): void {
    this.#found.clear();
    const kinds = [...this.#byAddress.keys()].flatMap((text) => tryRange(text) ?? []);
    this.#kinds = [...new Map(kinds.map((each) => [`${each.family} ${each.bits}`, each])).values()];
  }

  #place(action: ActiveBan): [Map<string, ActiveBan[]>, string] {
    return action.type === 'ban' && action.address !== undefined
      ? [this.#byAddress, tryRange(action.address)?.text ?? action.address]
      : [this.#byUser, action.user as string];
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

function endOf({ untilMs }: Pick<ActiveBan, 'untilMs'>): number {
  return untilMs ?? Number.POSITIVE_INFINITY;
}
