import {
  type Beat,
  carriedLine,
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
  lastWithinBytes,
  type MessageLine,
  type Place,
  type Placed,
  type ReadLimit,
  type Report,
  readCarriedLine,
  topics,
  withinBytes,
} from '@nine-bells/core';
import { type ChannelName, defined, refusal } from '@nine-bells/wire';
import { randomText } from '../system/ids.js';
import { type Script, type ScriptName, scriptsFor } from './redisScripts.js';
import { onePlace, openRedis, type RedisServer } from './redisServer.js';
import { readFacts } from './serverFacts.js';
import type { ServerFacts, Term, TermBook } from './terms.js';

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
  /** Told whether Redis evicts keys, and by which policy. */
  readonly evicts?: (policy: string | undefined) => void;
}

/** What of a channel is not used for so long is forgotten, beyond its own bounds, in milliseconds. */
const forgottenMs = 7 * 86_400_000;
/** How long a record is held in which nothing is yet, once no client is in its channel any more, in milliseconds. */
const emptyForMs = 600_000;
/** Leases that have been over for so long are forgotten, in milliseconds. */
const leaseForgottenMs = 60_000;
/** How long to wait before a Redis that cannot be reached is tried again, in milliseconds: at first, and at most. */
const firstAgainMs = 50;
const maxAgainMs = 1_000;
/**
 * After so many probes, one a second, of which none came back, a Redis is given up and opened again. Counted and not timed:
 * a process that was busy for long hears late what came in time.
 */
const maxUnheard = 3;
/** How many names are tried to find one in a slot of each process. */
const probeTries = 500;
/** How often a call is tried while slots of a cluster are being moved, and how long between, in milliseconds. */
const maxTries = 50;
const tryAgainMs = 20;

/** What Redis says of a command that will do later, or elsewhere. */
const passing = /^(TRYAGAIN|CLUSTERDOWN|LOADING|MASTERDOWN|READONLY|ASK |MOVED )/;

/** Channels appended to in one call. */
const channelsAtOnce = 50;

interface Appending {
  readonly channel: ChannelName;
  readonly lines: readonly MessageLine[];
  readonly bounds: LogBounds;
  readonly resolve: (placed: readonly Placed[]) => void;
  readonly reject: (error: Error) => void;
}

type Reply = readonly (string | number)[];

/** A term, its scripts, and when the server was last asked whether it is still in that term. */
interface Serving {
  readonly term: Term;
  readonly scripts: Readonly<Record<ScriptName, Script>>;
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
  /** The terms of the servers, by their addresses. */
  readonly #serving = new Map<string, Serving>();
  /** By the topics that probe the connections of servers: how many probes have not come back. */
  readonly #probes = new Map<string, number>();
  #server: RedisServer | undefined;
  #ears: ExchangeEars | undefined;
  #closed = false;
  #appending: Appending[] = [];
  readonly #ownVolumes = randomText(6);
  #volumes = 0;

  constructor(options: RedisExchangeOptions) {
    this.#options = options;
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
      this.#appending.push({ channel, lines, bounds, resolve, reject });
      if (this.#appending.length === 1) setImmediate(() => this.#appendAll());
    });
  }

  /** What came within a turn goes in one call; in a cluster, whose processes have each their own channels, one by one. */
  #appendAll(): void {
    const all = this.#appending;
    this.#appending = [];
    const most = this.#server?.isCluster ? 1 : channelsAtOnce;
    for (let from = 0; from < all.length; from += most) void this.#appendSome(all.slice(from, from + most));
  }

  async #appendSome(some: readonly Appending[]): Promise<void> {
    const keys = some.flatMap(({ channel }) => this.#keysOf(channel));
    const args: (string | number)[] = [keyMemory.keys, keyMemory.ms];
    for (const { channel, lines, bounds } of some) {
      const { messages, forMs } = bounds;
      args.push(this.#volume(), forMs + forgottenMs, this.#topicOf(`c/${channel}`), messages, forMs, lines.length);
      if (isKeyed(lines)) {
        args.push('each');
        for (const line of lines)
          args.push(line.key === undefined ? '' : keyName({ ...line, key: line.key }), line.id, carriedLine(line));
      } else args.push('together', lines.map(carriedLine).join('\n'));
    }
    try {
      const replies = (await this.#script('append', keys, args)) as unknown as readonly Reply[];
      for (const [index, each] of some.entries()) {
        const [volume, ...given] = replies[index] ?? [];
        if (volume === undefined) throw new Error('Redis has answered something else than was asked');
        if (volume === 'another-run')
          this.#adopt(this.#keysOf(each.channel), String(given[0]))
            .then(() => this.append(each.channel, each.lines, each.bounds))
            .then(each.resolve, each.reject);
        else each.resolve(placedOf(String(volume), each.lines, given));
      }
    } catch (error) {
      for (const { reject } of some) reject(error as Error);
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
    let { head, oldest, messages } = await this.#read(channel, bounds, 0, to, limit, 'end');
    const lost = before !== undefined && (before.volume !== head.volume || before.number > head.number + 1);
    if (lost) ({ head, oldest, messages } = await this.#read(channel, bounds, 0, '+', limit, 'end'));
    const end = before === undefined || lost ? head.number : before.number - 1;
    const given = limit.messages === 0 ? [] : lastWithinBytes(messages, limit.bytes);
    const first = given[0]?.place.number ?? end + 1;
    const gap = lost ? ('new-volume' as const) : first <= oldest && oldest > 1 ? ('expired' as const) : undefined;
    return { messages: given, more: given.length > 0 && first > oldest, head, ...(gap ? { gap } : {}) };
  }

  async #read(
    channel: ChannelName,
    bounds: LogBounds,
    first: number,
    last: number | '+',
    limit: ReadLimit,
    side: 'front' | 'end',
  ): Promise<{ head: Place; oldest: number; messages: readonly LoggedMessage[] }> {
    const count = Math.max(1, Math.min(limit.messages, 1_000_000));
    const about = [bounds.messages, bounds.forMs, first, last, count, side];
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

  // --------------------------------------------------------------------------------------------- topics

  publish(topic: string, text: string): void {
    const name = this.#topicOf(topic);
    this.#call(name, ['SPUBLISH', name, text]).catch((error: unknown) =>
      this.#options.report(error, { what: 'something could not be carried', topic }),
    );
  }

  async subscribe(topic: string): Promise<void> {
    this.#topics.add(topic);
    const server = this.#linked();
    const name = this.#topicOf(topic);
    // Asked for again, it is in doubt.
    if (this.#subscribed.delete(topic)) await server.unsubscribe(name, this.#heard);
    await server.subscribe(name, this.#heard);
    if (this.#topics.has(topic)) this.#subscribed.add(topic);
    else await server.unsubscribe(name, this.#heard);
  }

  unsubscribe(topic: string): void {
    this.#topics.delete(topic);
    if (!this.#subscribed.delete(topic)) return;
    this.#server?.unsubscribe(this.#topicOf(topic), this.#heard).catch(() => {});
  }

  readonly #heard = (text: string, name: string): void => {
    if (this.#probes.has(name)) {
      this.#probes.set(name, 0);
      return;
    }
    // Of `{bells:race/3/chat}c` and `{bells}all`.
    const end = name.indexOf('}');
    const inside = name.slice(this.#options.prefix.length + 2, end);
    const rest = name.slice(end + 1);
    this.#ears?.heard(inside === '' ? rest : `${rest}/${inside}`, text);
  };

  // --------------------------------------------------------------------------------------------- leases

  async beat(instanceId: string, status: string, ttlMs: number): Promise<Beat> {
    this.#examine().catch((error: unknown) => this.#options.report(error, { what: 'Redis could not be examined' }));
    const fromMs = Date.now();
    const [held, nowMs, ...rest] = await this.#script('beat', this.#leaseKeys(), [
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
    await this.#script('leave', this.#leaseKeys(), [instanceId]);
  }

  async claim(name: string, ttlMs: number): Promise<boolean> {
    const key = `{${this.#options.prefix}}claim ${name}`;
    return (await this.#call(key, ['SET', key, '1', 'NX', 'PX', String(ttlMs)])) === 'OK';
  }

  // ---------------------------------------------------------------------------------------------- calls

  #leaseKeys(): readonly string[] {
    const { prefix } = this.#options;
    return [`{${prefix}}leases`, `{${prefix}}cards`];
  }

  /** All of a channel lies in one slot: what decides it stands in braces. */
  #keysOf(channel: ChannelName): readonly string[] {
    return ['head', 'log', 'order'].map((each) => `{${this.#options.prefix}:${channel}}${each}`);
  }

  #topicOf(topic: string): string {
    const { prefix } = this.#options;
    const [kind = '', ...rest] = topic.split('/');
    return kind === 'c' || kind === 'g' ? `{${prefix}:${rest.join('/')}}${kind}` : `{${prefix}}${topic}`;
  }

  /** Calls a script on a channel's record; one of another run is taken over first. */
  async #onChannel(name: ScriptName, channel: ChannelName, args: readonly (string | number)[]): Promise<Reply> {
    const keys = this.#keysOf(channel);
    const isWanted = this.#topics.has(topics.channel(channel));
    const held = channel === controlChannel ? forgottenMs : isWanted ? emptyForMs : '';
    for (;;) {
      const reply = await this.#script(name, keys.slice(0, 2), [this.#volume(), held, ...args]);
      if (reply[0] !== 'another-run') return reply;
      await this.#adopt(keys, String(reply[1]));
    }
  }

  /** A volume for a channel that may have none: no two calls offer the same. */
  #volume(): string {
    this.#volumes += 1;
    return this.#ownVolumes + this.#volumes.toString(36);
  }

  /** Takes over a record that is marked with another term. */
  async #adopt(keys: readonly string[], marked: string): Promise<void> {
    const key = keys[0] as string;
    const latest = /^\d+$/.test(marked) ? await this.#options.terms.latestOf(Number(marked)) : undefined;
    // It may be this server whose term is out of date: another instance has met it anew.
    this.#serving.delete(this.#linked().placeOf(key));
    const { term } = await this.#servingAt(key);
    const isWhole = latest !== undefined && (latest.term === term.term || (await this.#isServing(latest)));
    await this.#script('adopt', keys.slice(0, 2), [marked, isWhole ? 'whole' : 'lost', this.#volume()]);
  }

  /** Whether the server of a term is another process of the cluster now, and has been without a break. */
  async #isServing({ run, replication }: Term): Promise<boolean> {
    const server = this.#linked();
    if (!server.isCluster) return false;
    const all = await server.sendToAll<string>(['INFO', 'server', 'replication']);
    return all.some(
      (each) =>
        each.status === 'fulfilled' &&
        each.value.includes(`run_id:${run}`) &&
        each.value.includes(`master_replid:${replication}`) &&
        each.value.includes('role:master'),
    );
  }

  async #script(name: ScriptName, keys: readonly string[], args: readonly (string | number)[]): Promise<Reply> {
    const key = keys[0] as string;
    const rest = [String(keys.length), ...keys, ...args.map(String)];
    for (let tries = 1; ; tries++) {
      const { scripts } = await this.#servingAt(key);
      try {
        return await this.#linked().send<Reply>(key, ['EVALSHA', scripts[name].sha, ...rest]);
      } catch (error) {
        const { message } = error as Error;
        // It has come to a server of another term, or to one that is no master any more.
        const isAnother = message.startsWith('NOSCRIPT');
        if (isAnother || passing.test(message)) this.#serving.delete(this.#linked().placeOf(key));
        this.#checkRole(error);
        if ((!isAnother && !passing.test(message)) || tries >= maxTries) throw error;
        if (tries > 1) await new Promise((resolve) => setTimeout(resolve, tryAgainMs));
      }
    }
  }

  /** The term of the Redis that has a key, with the scripts for it, which that Redis then knows. */
  async #servingAt(key: string): Promise<Serving> {
    const server = this.#linked();
    const place = server.placeOf(key);
    const known = this.#serving.get(place);
    if (known !== undefined) return known;
    const ask = (args: readonly string[]): Promise<unknown> => server.sendThere(key, args);
    for (;;) {
      const facts = await readFacts(ask).catch((error: unknown) => {
        this.#checkRole(error);
        throw error;
      });
      const id = server.isCluster ? String(await ask(['CLUSTER', 'MYID'])) : onePlace;
      const { term, isNew, wasMet } = await this.#options.terms.agree(id, facts);
      // What other instances still hold for the scripts of this server is of an earlier term.
      if (isNew && wasMet)
        await ask(['SCRIPT', 'FLUSH']).catch((error: unknown) =>
          this.#options.report(error, { what: 'the scripts of an earlier term could not be removed' }),
        );
      const scripts = scriptsFor(term.term);
      // All of a cluster are to know them: while a slot is being moved, its next owner is asked with them.
      for (const { text } of Object.values(scripts)) {
        const loaded = await server.sendToAll(['SCRIPT', 'LOAD', text]);
        const failed = loaded.find((each) => each.status === 'rejected');
        if (failed !== undefined && loaded.every((each) => each.status === 'rejected')) throw failed.reason;
      }
      // They must not be known to a Redis that was started again in between.
      const now = await readFacts(ask);
      if (now.run !== facts.run || now.replication !== facts.replication) continue;
      const serving = { term, scripts };
      this.#serving.set(place, serving);
      return serving;
    }
  }

  /** A server that is a replica now is left: a new connection may lead to the master. In a cluster, its client knows where. */
  #checkRole(error: unknown): void {
    const isReplica = (error as Error).message.startsWith('READONLY');
    if (isReplica && this.#server?.isCluster === false) this.#lost('for good');
  }

  /**
   * Looks whether the servers are still in their terms: a server may have been a replica in between, and another instance may
   * have met another server in its place. And whether something is heard on every connection.
   */
  async #examine(): Promise<void> {
    const server = this.#server;
    if (server === undefined) return;
    this.#probe(server);
    for (const [place, { term }] of [...this.#serving]) {
      const key = await this.#keyAt(place);
      if (key === undefined) {
        this.#serving.delete(place);
        continue;
      }
      const facts = await readFacts((args) => server.sendThere(key, args));
      this.#options.evicts?.(facts.evicts);
      if (facts.run !== term.run || facts.replication !== term.replication) this.#serving.delete(place);
      // Not waited for: while the database is away, a server that has not changed goes on.
      else void this.#confirm(place, term, facts);
    }
  }

  /** Looks whether the term of a server is still the latest one of its place, and notes what is new about it. */
  async #confirm(place: string, term: Term, facts: ServerFacts): Promise<void> {
    const { terms, report } = this.#options;
    try {
      const agreed = await terms.agree(term.place, facts);
      const isLessDurable = term.isDurable && !facts.isDurable;
      const isReplicated = !term.isReplicated && facts.hasReplicas;
      if (isLessDurable) await terms.note(term.term, { isDurable: false });
      if (isReplicated) await terms.note(term.term, { isReplicated: true });
      const isCurrent = agreed.term.term === term.term && !isLessDurable && !isReplicated;
      if (!isCurrent && this.#serving.get(place)?.term === term) this.#serving.delete(place);
    } catch (error) {
      report(error, { what: 'the terms of the relay could not be read' });
    }
  }

  /** Publishes to each server on a topic of its own, and gives up a server from which that is not heard. */
  #probe(server: RedisServer): void {
    const places = new Set<string>();
    for (let n = 0; n < (server.isCluster ? probeTries : 1); n++) {
      const topic = `{${this.#options.prefix}.${n}}probe ${this.#ownVolumes}`;
      try {
        const place = server.placeOf(topic);
        if (places.has(place)) continue;
        places.add(place);
      } catch {
        continue;
      }
      const unheard = this.#probes.get(topic);
      if (unheard === undefined) server.subscribe(topic, this.#heard).catch(() => {});
      else if (unheard >= maxUnheard && this.#server === server) {
        this.#options.report(new Error(`${unheard} probes did not come back`), { what: 'Redis is silent' });
        this.#lost('for good');
        return;
      }
      this.#probes.set(topic, (unheard ?? 0) + 1);
      server.send(topic, ['SPUBLISH', topic, '']).catch(() => {});
    }
  }

  /** A key that the server at an address has. */
  async #keyAt(place: string): Promise<string | undefined> {
    const server = this.#linked();
    for (let n = 0; n < probeTries; n++) {
      const key = `{${this.#options.prefix}.${n}}`;
      try {
        if (server.placeOf(key) === place) return key;
      } catch {}
    }
    return undefined;
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
          error: (error) => this.#options.report(error, { what: 'Redis cannot be reached' }),
        });
        opened = server;
        if (this.#closed) return server.close();
        this.#server = server;
        this.#ready();
        return;
      } catch (error) {
        this.#options.report(error, { what: 'Redis cannot be reached' });
        await new Promise((resolve) => setTimeout(resolve, againMs * (1 + Math.random() / 2)));
      }
    }
  }

  #lost(how: 'for a while' | 'for good'): void {
    this.#serving.clear();
    this.#probes.clear();
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
          this.#options.report(error, { what: 'a topic could not be subscribed to', topic }),
        );
    this.#ears?.resumed();
  }
}

function isKeyed(lines: readonly MessageLine[]): boolean {
  return lines.some(({ key }) => key !== undefined);
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
