import {
  type Beat,
  type BoardApplied,
  type BoardBounds,
  type BoardChange,
  type BoardCondition,
  type BoardOutcome,
  type BoardRecord,
  type BoardSnapshot,
  boardForgottenMs,
  carriedLine,
  checkChange,
  controlChannel,
  type Exchange,
  type ExchangeEars,
  firstToRead,
  gapAfter,
  keyMemory,
  keyName,
  type Lease,
  type LogBounds,
  type LoggedMessage,
  type LogSlice,
  lastIndexOf,
  lastWithinBytes,
  type MessageLine,
  noSuchMessage,
  type Place,
  type Placed,
  type PlacedRecord,
  type ReadLimit,
  type Report,
  readCarriedLine,
  topics,
  withinBytes,
} from '@nine-bells/core';
import { type ChannelName, defined, formatCursor, refusal } from '@nine-bells/wire';
import type { ProgressMarks } from '../store/restoreWatch.js';
import { randomText } from '../system/ids.js';
import { RedisNames } from './redisNames.js';
import { RedisProbes } from './redisProbes.js';
import type { ScriptName } from './redisScripts.js';
import { openRedis, type RedisServer } from './redisServer.js';
import { RedisServers, type Reply } from './redisServers.js';
import type { TermBook } from './terms.js';

export interface RedisExchangeOptions {
  /** `redis://` or `rediss://` (TLS), with user, password and number of the database as usual; of any process of a cluster. */
  readonly url: string;
  /** What all keys and topics begin with, so that several services may share a Redis. */
  readonly prefix: string;
  readonly report: Report;
  /** Where it is written down which servers there have been. */
  readonly terms: TermBook;
  /** Told the time of Redis' clock, and between which moments of this machine's clock that was, in milliseconds. */
  readonly measured?: (serverMs: number, fromMs: number, toMs: number) => void;
  /** The settled time of the instance, in milliseconds since the epoch (`Clock.settled`); this machine's if absent. */
  readonly settled?: () => number;
  /** Told whether Redis evicts keys, and by which policy. */
  readonly evicts?: (policy: string | undefined) => void;
}

/** What of a channel is not used for so long is forgotten, beyond its own bounds, in milliseconds. */
const forgottenMs = 7 * 86_400_000;
/** How long a record is held in which nothing is yet, once no client is in its channel any more, in milliseconds. */
const emptyForMs = 600_000;
/** Leases that have been over for so long are forgotten, in milliseconds. */
const leaseForgottenMs = 60_000;
/** How long the progress of databases is remembered after the last instance has gone, in milliseconds. */
const marksForgottenMs = 365 * 86_400_000;
/** How long to wait before a Redis that cannot be reached is tried again, in milliseconds: at first, and at most. */
const firstAgainMs = 50;
const maxAgainMs = 1_000;
/** By how many more is looked back where messages stand among changes, and up to how many. */
const changesAtOnce = 100;
const mostChanges = 3_000;
/** Channels appended to in one call. */
const channelsAtOnce = 50;

/** What was read of a record. */
interface ReadRecord {
  readonly head: Place;
  readonly oldest: number;
  readonly messages: readonly LoggedMessage[];
}

interface Appending {
  readonly channel: ChannelName;
  /** Which were asked for before it. */
  readonly order: number;
  readonly lines: readonly MessageLine[];
  readonly bounds: LogBounds;
  readonly resolve: (placed: readonly Placed[]) => void;
  readonly reject: (error: Error) => void;
}

/**
 * An exchange in Redis 7, of one process or a cluster.
 *
 * Which records are whole is decided by terms (`terms.ts`): a record of another term is given a new volume, unless that term
 * is continued by the present one, or still serves as another process of the cluster, from which the channel's slot has moved.
 */
export class RedisExchange implements Exchange {
  readonly #options: RedisExchangeOptions;
  readonly #topics = new Set<string>();
  readonly #subscribed = new Set<string>();
  readonly #names: RedisNames;
  readonly #servers: RedisServers;
  readonly #probes: RedisProbes;
  #server: RedisServer | undefined;
  #ears: ExchangeEars | undefined;
  #closed = false;
  #appending: Appending[] = [];
  #appended = 0;
  /** What waits, by channel, until the appends before it are done, so that it cannot overtake them. */
  readonly #waiting = new Map<ChannelName, Appending[]>();
  readonly #ownVolumes = randomText(6);
  #volumes = 0;

  constructor(options: RedisExchangeOptions) {
    this.#options = options;
    this.#names = new RedisNames(options.prefix);
    this.#probes = new RedisProbes(this.#names, this.#ownVolumes);
    this.#servers = new RedisServers({
      names: this.#names,
      report: options.report,
      terms: options.terms,
      evicts: options.evicts,
      linked: () => this.#linked(),
      // A new connection may lead to the master.
      isReplica: () => this.#lost('for good'),
    });
    void this.#open();
  }

  listen(ears: ExchangeEars): void {
    this.#ears = ears;
    if (this.#server !== undefined) ears.resumed();
  }

  close(): void {
    this.#closed = true;
    this.#server?.close();
    this.#server = undefined;
  }

  // -------------------------------------------------------------------------------------------- records

  append(channel: ChannelName, lines: readonly MessageLine[], bounds: LogBounds): Promise<readonly Placed[]> {
    return new Promise((resolve, reject) => {
      this.#appended += 1;
      this.#appending.push({ channel, lines, bounds, order: this.#appended, resolve, reject });
      if (this.#appending.length === 1) setImmediate(() => this.#appendAll());
    });
  }

  /**
   * What came within a turn goes in one call, and does not wait for the calls before it. In a cluster, whose processes have
   * each their own channels and may send a call elsewhere, each channel has one call under way.
   */
  #appendAll(): void {
    const all = this.#appending;
    this.#appending = [];
    const free: Appending[] = [];
    const begun: ChannelName[] = [];
    for (const each of all) {
      const waiting = this.#waiting.get(each.channel);
      if (waiting !== undefined) waiting.push(each);
      else if (!this.#server?.isCluster) free.push(each);
      else {
        this.#waiting.set(each.channel, [each]);
        begun.push(each.channel);
      }
    }
    for (const channel of begun) void this.#appendInTurn(channel);
    for (let from = 0; from < free.length; from += channelsAtOnce)
      void this.#appendAtOnce(free.slice(from, from + channelsAtOnce));
  }

  async #appendAtOnce(some: readonly Appending[]): Promise<void> {
    for (const [each, marked] of await this.#appendSome(some)) {
      const waiting = this.#waiting.get(each.channel);
      if (waiting !== undefined) waiting.push(each);
      else {
        this.#waiting.set(each.channel, [each]);
        void this.#appendInTurn(each.channel, marked);
      }
    }
  }

  /** Appends what waits in a channel, one call after the other, until nothing does. */
  async #appendInTurn(channel: ChannelName, marked?: string): Promise<void> {
    const waiting = this.#waiting.get(channel) as Appending[];
    let itsMark = marked;
    while (waiting.length > 0) {
      try {
        if (itsMark !== undefined) await this.#adopt(this.#names.keysOf(channel), itsMark);
      } catch (error) {
        for (const { reject } of waiting.splice(0)) reject(error as Error);
        break;
      }
      const again = await this.#appendSome(waiting.splice(0).sort((a, b) => a.order - b.order));
      itsMark = again[0]?.[1];
      waiting.push(...again.map(([each]) => each));
    }
    this.#waiting.delete(channel);
  }

  /** Gives those whose record is marked with another term, and that mark; the others are done, or have failed. */
  async #appendSome(some: readonly Appending[]): Promise<readonly (readonly [Appending, string])[]> {
    const keys = some.flatMap(({ channel }) => this.#names.keysOf(channel));
    const args: (string | number)[] = [keyMemory.keys, keyMemory.ms, this.#settled()];
    for (const { channel, lines, bounds } of some) {
      const { messages, forMs } = bounds;
      args.push(
        this.#volume(),
        forMs + forgottenMs,
        this.#names.topicOf(`c/${channel}`),
        messages,
        forMs,
        lines.length,
      );
      const [change] = lines;
      if (change?.of !== undefined) args.push('change', ...changeArguments(change));
      else if (isKeyed(lines)) {
        args.push('each');
        for (const line of lines)
          args.push(line.key === undefined ? '' : keyName({ ...line, key: line.key }), line.id, carriedLine(line));
      } else args.push('together', lines.map(carriedLine).join('\n'));
    }
    try {
      const replies = await this.#servers.run<readonly Reply[]>('append', keys, args);
      const again: [Appending, string][] = [];
      for (const [index, each] of some.entries()) {
        const [volume, ...given] = replies[index] ?? [];
        if (volume === undefined) throw new Error('Redis has answered something else than was asked');
        if (volume === 'another-run') again.push([each, String(given[0])]);
        else if (volume === 'change-refused') each.reject(refusedChange(given));
        else each.resolve(placedOf(String(volume), each.lines, given));
      }
      return again;
    } catch (error) {
      for (const { reject } of some) reject(error as Error);
      return [];
    }
  }

  async head(channel: ChannelName): Promise<Place> {
    const [volume, number] = await this.#onChannel('head', channel, []);
    return { volume: String(volume), number: Number(number) };
  }

  heads(channels: readonly ChannelName[]): Promise<readonly Place[]> {
    return Promise.all(channels.map((channel) => this.head(channel)));
  }

  async since(channel: ChannelName, after: Place, limit: ReadLimit, bounds: LogBounds): Promise<LogSlice> {
    const { head, oldest, messages } = await this.#read(channel, bounds, after.number + 1, '+', limit, 'front');
    const gap = gapAfter(after, oldest, head);
    const from = firstToRead(after, gap, oldest, head);
    // A place that cannot be followed begins elsewhere than it says.
    const found =
      from === after.number + 1 || from > head.number
        ? messages
        : (await this.#read(channel, bounds, from, '+', limit, 'front')).messages;
    const given = withinBytes(from > head.number ? [] : found, limit.bytes);
    const last = given.at(-1)?.place.number ?? head.number;
    return { messages: given, more: last < head.number, head, ...defined({ gap }) };
  }

  async before(
    channel: ChannelName,
    before: Place | undefined,
    limit: ReadLimit,
    bounds: LogBounds,
  ): Promise<LogSlice> {
    const to = before === undefined ? '+' : Math.max(0, before.number - 1);
    let { head, oldest, messages } = await this.#readLast(channel, bounds, to, limit);
    const lost = before !== undefined && (before.volume !== head.volume || before.number > head.number + 1);
    if (lost) ({ head, oldest, messages } = await this.#readLast(channel, bounds, '+', limit));
    const end = before === undefined || lost ? head.number : before.number - 1;
    const given = limit.messages === 0 ? [] : lastWithinBytes(messages, limit.bytes);
    const first = given[0]?.place.number ?? end + 1;
    const gap = lost ? ('new-volume' as const) : first <= oldest && oldest > 1 ? ('expired' as const) : undefined;
    return { messages: given, more: given.length > 0 && first > oldest, head, ...(gap ? { gap } : {}) };
  }

  /** The last messages up to a number, among them changes, which do not count. */
  async #readLast(channel: ChannelName, bounds: LogBounds, last: number | '+', limit: ReadLimit): Promise<ReadRecord> {
    for (let more = 0; ; more += limit.messages + changesAtOnce) {
      const most = limit.messages + more;
      const read = await this.#read(channel, bounds, 0, last, { ...limit, messages: most }, 'end');
      const from = lastIndexOf(read.messages, limit.messages);
      if (from === undefined && read.messages.length === most && more < mostChanges) continue;
      return { ...read, messages: read.messages.slice(from ?? 0) };
    }
  }

  async #read(
    channel: ChannelName,
    bounds: LogBounds,
    first: number,
    last: number | '+',
    limit: ReadLimit,
    side: 'front' | 'end',
  ): Promise<ReadRecord> {
    const count = Math.max(1, Math.min(limit.messages, 1_000_000));
    const about = [bounds.messages, bounds.forMs, first, last, count, side, this.#settled()];
    const [volume, number, oldest, ...entries] = await this.#onChannel('read', channel, about);
    const [from, to] = [Math.max(first, Number(oldest)), last === '+' ? Number(number) : last];
    let messages: LoggedMessage[] = [];
    for (let index = 0; index < entries.length; index += 2) {
      const lines = String(entries[index + 1]).split('\n');
      const begin = Number(entries[index]) - lines.length + 1;
      for (const [at, line] of lines.entries())
        if (begin + at >= from && begin + at <= to)
          messages.push(readCarriedLine(channel, { volume: String(volume), number: begin + at }, line));
    }
    messages.sort((a, b) => a.place.number - b.place.number);
    messages = side === 'front' ? messages.slice(0, count) : messages.slice(-count);
    return { head: { volume: String(volume), number: Number(number) }, oldest: Number(oldest), messages };
  }

  // --------------------------------------------------------------------------------------------- boards

  async changeBoard(
    channel: ChannelName,
    changes: readonly BoardChange[],
    bounds: BoardBounds,
  ): Promise<BoardApplied | undefined> {
    const { entries, boardBytes, mustExist } = bounds;
    const topic = this.#names.topicOf(topics.channel(channel));
    const args = [this.#volume(), boardForgottenMs, topic, entries, boardBytes, mustExist ? 'must' : ''];
    for (const { record, bytes, condition } of changes)
      args.push(
        record.entry,
        ...conditionOf(condition),
        Math.ceil(record.forMs ?? 0),
        record.value === undefined ? '' : bytes,
        JSON.stringify(record),
      );
    const [volume, ...given] = await this.#servers.run<Reply>('changeBoard', [this.#names.board(channel)], args);
    if (volume === undefined) return undefined;
    return { volume: String(volume), outcomes: given.map(outcomeOf) };
  }

  async readBoard(channel: ChannelName): Promise<BoardSnapshot | undefined> {
    const args = [this.#volume(), boardForgottenMs];
    const [now, volume, number, ...held] = await this.#servers.run<Reply>(
      'readBoard',
      [this.#names.board(channel)],
      args,
    );
    if (volume === undefined) return undefined;
    const records = held.map((text) => placedRecordOf(String(text), Number(now)));
    return { volume: String(volume), number: Number(number), records: records.sort((a, b) => a.number - b.number) };
  }

  boardPlaces(channels: readonly ChannelName[]): Promise<readonly (Place | undefined)[]> {
    return Promise.all(
      channels.map(async (channel) => {
        const keys = [this.#names.board(channel)];
        const [volume, number] = await this.#servers.run<Reply>('boardPlace', keys, [boardForgottenMs]);
        return volume === undefined ? undefined : { volume: String(volume), number: Number(number) };
      }),
    );
  }

  async restoreBoard(channel: ChannelName, changes: readonly BoardChange[]): Promise<void> {
    const args: (string | number)[] = [this.#volume(), boardForgottenMs];
    for (const { record, bytes } of changes)
      args.push(record.entry, Math.ceil(record.forMs ?? 0), bytes, JSON.stringify(record));
    await this.#servers.run<number>('restoreBoard', [this.#names.board(channel)], args);
  }

  // --------------------------------------------------------------------------------------------- topics

  publish(topic: string, text: string): void {
    const name = this.#names.topicOf(topic);
    this.#call(name, ['SPUBLISH', name, text]).catch((error: unknown) =>
      this.#options.report(error, { event: 'relay-publish-failed', topic }),
    );
  }

  async subscribe(topic: string): Promise<void> {
    this.#topics.add(topic);
    const server = this.#linked();
    const name = this.#names.topicOf(topic);
    // Asked for again, it is in doubt.
    if (this.#subscribed.delete(topic)) await server.unsubscribe(name, this.#heard);
    await server.subscribe(name, this.#heard);
    if (this.#topics.has(topic)) this.#subscribed.add(topic);
    else await server.unsubscribe(name, this.#heard);
  }

  unsubscribe(topic: string): void {
    this.#topics.delete(topic);
    if (!this.#subscribed.delete(topic)) return;
    this.#server?.unsubscribe(this.#names.topicOf(topic), this.#heard).catch(() => {});
  }

  readonly #heard = (text: string, name: string): void => {
    if (!this.#probes.heard(name)) this.#ears?.heard(this.#names.topicIn(name), text);
  };

  // --------------------------------------------------------------------------------------------- leases

  async beat(instanceId: string, status: string, ttlMs: number): Promise<Beat> {
    this.#examine();
    const fromMs = Date.now();
    const [held, nowMs, ...rest] = await this.#servers.run<Reply>('beat', this.#names.leases, [
      instanceId,
      status,
      ttlMs,
      leaseForgottenMs,
    ]);
    this.#options.measured?.(Number(nowMs), fromMs, Date.now());
    const leases: Lease[] = [];
    for (let index = 0; index < rest.length; index += 3)
      leases.push({
        instanceId: String(rest[index]),
        status: String(rest[index + 1]),
        leftMs: Number(rest[index + 2]),
      });
    return { held: held === 1, leases };
  }

  async leave(instanceId: string): Promise<void> {
    await this.#servers.run<Reply>('leave', this.#names.leases, [instanceId]);
  }

  async claim(name: string, ttlMs: number): Promise<boolean> {
    const key = this.#names.claim(name);
    return (await this.#call(key, ['SET', key, '1', 'NX', 'PX', String(ttlMs)])) === 'OK';
  }

  /** Progress of the service's databases, by their volumes. */
  readonly marks: ProgressMarks = {
    read: async (volume) => {
      const score = await this.#call<string | null>(this.#names.marks, ['ZSCORE', this.#names.marks, volume]);
      return score === null ? undefined : Number(score);
    },
    write: async (volume, progress) => {
      const { marks } = this.#names;
      await this.#call(marks, ['ZADD', marks, 'GT', String(progress), volume]);
      await this.#call(marks, ['PEXPIRE', marks, String(marksForgottenMs)]);
    },
  };

  // ---------------------------------------------------------------------------------------------- calls

  /** Calls a script on a channel's record; one of another run is taken over first. */
  async #onChannel(name: ScriptName, channel: ChannelName, args: readonly (string | number)[]): Promise<Reply> {
    const keys = this.#names.keysOf(channel);
    const isWanted = this.#topics.has(topics.channel(channel));
    const held = channel === controlChannel ? forgottenMs : isWanted ? emptyForMs : '';
    for (;;) {
      const reply = await this.#servers.run<Reply>(name, keys.slice(0, 3), [this.#volume(), held, ...args]);
      if (reply[0] !== 'another-run') return reply;
      await this.#adopt(keys, String(reply[1]));
    }
  }

  #settled(): number {
    return Math.ceil(this.#options.settled?.() ?? Date.now());
  }

  /** A volume for a channel that may have none: no two calls offer the same. */
  #volume(): string {
    this.#volumes += 1;
    return this.#ownVolumes + this.#volumes.toString(36);
  }

  /** Takes over a record that is marked with another term. */
  async #adopt(keys: readonly string[], marked: string): Promise<void> {
    const latest = /^\d+$/.test(marked) ? await this.#options.terms.latestOf(Number(marked)) : undefined;
    const isWhole = await this.#servers.continues(latest, keys[0] as string);
    await this.#servers.run<Reply>('adopt', keys.slice(0, 3), [marked, isWhole ? 'whole' : 'lost', this.#volume()]);
  }

  /** Looks whether the servers are still in their terms, and whether something is heard from them. */
  #examine(): void {
    const server = this.#server;
    if (server === undefined) return;
    const { report } = this.#options;
    this.#servers.examine().catch((error: unknown) => report(error, { event: 'redis-check-failed' }));
    const unheard = this.#probes.send(server, this.#heard);
    if (unheard === undefined) return;
    report(new Error(`${unheard} probes did not come back`), { event: 'redis-silent' });
    this.#lost('for good');
  }

  #call<T>(key: string, args: readonly string[]): Promise<T> {
    try {
      return this.#linked().send<T>(key, args);
    } catch (error) {
      return Promise.reject(error);
    }
  }

  #linked(): RedisServer {
    if (this.#server === undefined)
      throw refusal('busy', 'the relay between the instances cannot be reached', { retryAfterMs: 1_000 });
    return this.#server;
  }

  // ----------------------------------------------------------------------------------------- connection

  async #open(): Promise<void> {
    for (let againMs = firstAgainMs; !this.#closed; againMs = Math.min(2 * againMs, maxAgainMs)) {
      try {
        let opened: RedisServer | undefined;
        const server = await openRedis(this.#options.url, {
          ready: () => this.#ready(),
          lost: (how) => {
            // To a server that is not in use, nothing is opened anew.
            if (opened !== undefined && opened === this.#server) this.#lost(how);
          },
          error: (error) => this.#options.report(error, { event: 'redis-unreachable' }),
        });
        opened = server;
        if (this.#closed) return server.close();
        this.#server = server;
        this.#ready();
        return;
      } catch (error) {
        this.#options.report(error, { event: 'redis-unreachable' });
        await new Promise((resolve) => setTimeout(resolve, againMs * (1 + Math.random() / 2)));
      }
    }
  }

  #lost(how: 'for a while' | 'for good'): void {
    this.#servers.forget();
    this.#probes.forget();
    if (how === 'for good') {
      this.#server?.close();
      this.#server = undefined;
      this.#subscribed.clear();
      void this.#open();
    }
    this.#ears?.broken();
  }

  #ready(): void {
    if (this.#server === undefined) return;
    for (const topic of this.#topics)
      if (!this.#subscribed.has(topic))
        this.subscribe(topic).catch((error: unknown) =>
          this.#options.report(error, { event: 'relay-subscription-failed', topic }),
        );
    this.#ears?.resumed();
  }
}

function conditionOf(condition: BoardCondition | undefined): readonly [string, string | number] {
  if (condition === undefined) return ['', ''];
  return 'is' in condition ? ['is', condition.is] : ['since', formatCursor(condition.unchangedSince)];
}

function outcomeOf(given: string | number): BoardOutcome {
  if (typeof given === 'number') return { number: given };
  if (given === 'full') return { refused: 'full' };
  const held = given.slice('conflict '.length);
  return { refused: 'conflict', ...(held === '' ? {} : { stands: placedRecordOf(held, 0) }) };
}

/** Reads what stands for an entry: "number ends bytes record". */
function placedRecordOf(text: string, nowMs: number): PlacedRecord {
  const [, number, ends, record] = /^(\d+) (\d+) \d+ (.*)$/s.exec(text) ?? [];
  const { forMs: _, ...rest } = JSON.parse(record as string) as BoardRecord;
  const left = ends === '0' ? {} : { forMs: Math.max(0, Number(ends) - nowMs) };
  return { ...rest, number: Number(number), ...left };
}

function isKeyed(lines: readonly MessageLine[]): boolean {
  return lines.some(({ key, of }) => key !== undefined || of !== undefined);
}

function changeArguments(line: MessageLine): readonly (string | number)[] {
  const { key, id, of = 0, ifRevision, tail, withdraws } = line;
  const name = key === undefined ? '' : keyName({ ...line, key });
  return [name, id, carriedLine(line), of, ifRevision ?? '', tail, withdraws ? 'withdraws' : ''];
}

/** Why a change was refused, as the script says it. */
function refusedChange([code, revision, volume]: Reply): Error {
  if (code === 'no-such-message') return noSuchMessage();
  try {
    checkChange(String(volume), { revision: Number(revision), isWithdrawn: code === 'withdrawn' }, { ifRevision: -1 });
  } catch (error) {
    return error as Error;
  }
  return noSuchMessage();
}

/** What messages were given, each or, where they went together, the first. */
function placedOf(volume: string, lines: readonly MessageLine[], given: Reply): readonly Placed[] {
  if (!isKeyed(lines))
    return lines.map(({ id }, at) => ({ place: { volume, number: Number(given[0]) + at }, repeated: false, id }));
  return lines.map(({ id }, at) => {
    const one = given[at] as string | number;
    // What stands under a known key may be of an earlier volume.
    const [number = '', firstId = id, , itsVolume = volume] = String(one).split(' ');
    const repeated = typeof one === 'string' && one.includes(' ');
    return { place: { volume: itsVolume, number: Number(number) }, repeated, id: firstId };
  });
}
