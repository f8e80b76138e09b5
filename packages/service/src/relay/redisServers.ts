import type { Report } from '@nine-bells/core';
import type { RedisNames } from './redisNames.js';
import { type Script, type ScriptName, scriptsFor } from './redisScripts.js';
import { onePlace, type RedisServer } from './redisServer.js';
import { readFacts } from './serverFacts.js';
import type { ServerFacts, Term, TermBook } from './terms.js';

/** How often a call is tried while slots of a cluster are being moved, and how long between, in milliseconds. */
const maxTries = 50;
const tryAgainMs = 20;
/** How many names are tried to find one in a slot of each process. */
export const probeTries = 500;

/** What Redis says of a command that will do later, or elsewhere. */
const passing = /^(TRYAGAIN|CLUSTERDOWN|LOADING|MASTERDOWN|READONLY|ASK |MOVED )/;

export type Reply = readonly (string | number)[];

/** A term, its scripts, and when the server was last asked whether it is still in that term. */
interface Serving {
  readonly term: Term;
  readonly scripts: Readonly<Record<ScriptName, Script>>;
}

export interface RedisServersHost {
  readonly names: RedisNames;
  readonly report: Report;
  readonly terms: TermBook;
  /** @throws {ProblemError} `busy` while there is none */
  linked(): RedisServer;
  /** The server is a replica now. */
  isReplica(): void;
  /** Told whether Redis evicts keys, and by which policy. */
  readonly evicts?: ((policy: string | undefined) => void) | undefined;
}

/** The servers of a Redis, each in its term, and the scripts that are run there. */
export class RedisServers {
  readonly #host: RedisServersHost;
  /** The terms of the servers, by their addresses. */
  readonly #serving = new Map<string, Serving>();
  /** Those that are being met, by their addresses: the calls that wait for one go on in their order. */
  readonly #meeting = new Map<string, Promise<Serving>>();

  constructor(host: RedisServersHost) {
    this.#host = host;
  }

  /** The connections have broken: all are met anew. */
  forget(): void {
    this.#serving.clear();
    this.#meeting.clear();
  }

  /** Whether a record that is marked with a term is whole for the server that has it now. */
  async continues(marked: Term | undefined, key: string): Promise<boolean> {
    // It may be this server whose term is out of date: another instance has met it anew.
    const place = this.#host.linked().placeOf(key);
    this.#serving.delete(place);
    this.#meeting.delete(place);
    const { term } = await this.#servingAt(key);
    return marked !== undefined && (marked.term === term.term || (await this.#isServing(marked)));
  }

  /** Runs a script where its keys are. */
  async run<R = Reply>(name: ScriptName, keys: readonly string[], args: readonly (string | number)[]): Promise<R> {
    const key = keys[0] as string;
    const rest = [String(keys.length), ...keys, ...args.map(String)];
    for (let tries = 1; ; tries++) {
      const { scripts } = await this.#servingAt(key);
      try {
        return await this.#host.linked().send<R>(key, ['EVALSHA', scripts[name].sha, ...rest]);
      } catch (error) {
        const { message } = error as Error;
        // It has come to a server of another term, or to one that is no master any more.
        const isAnother = message.startsWith('NOSCRIPT');
        if (isAnother || passing.test(message)) this.#serving.delete(this.#host.linked().placeOf(key));
        this.#checkRole(error);
        if ((!isAnother && !passing.test(message)) || tries >= maxTries) throw error;
        if (tries > 1) await new Promise((resolve) => setTimeout(resolve, tryAgainMs));
      }
    }
  }

  /**
   * Looks whether the servers are still in their terms: a server may have been a replica in between, and another instance may
   * have met another server in its place.
   */
  async examine(): Promise<void> {
    const server = this.#host.linked();
    for (const [place, { term }] of [...this.#serving]) {
      const key = await this.#keyAt(place);
      if (key === undefined) {
        this.#serving.delete(place);
        continue;
      }
      const facts = await readFacts((args) => server.sendThere(key, args));
      this.#host.evicts?.(facts.evicts);
      if (facts.run !== term.run || facts.replication !== term.replication) this.#serving.delete(place);
      // Not waited for: while the database is away, a server that has not changed goes on.
      else void this.#confirm(place, term, facts);
    }
  }

  /** Looks whether the term of a server is still the latest one of its place, and notes what is new about it. */
  async #confirm(place: string, term: Term, facts: ServerFacts): Promise<void> {
    const { terms, report } = this.#host;
    try {
      const agreed = await terms.agree(term.place, facts);
      const isLessDurable = term.isDurable && !facts.isDurable;
      const isReplicated = !term.isReplicated && facts.hasReplicas;
      if (isLessDurable) await terms.note(term.term, { isDurable: false });
      if (isReplicated) await terms.note(term.term, { isReplicated: true });
      const isCurrent = agreed.term.term === term.term && !isLessDurable && !isReplicated;
      if (!isCurrent && this.#serving.get(place)?.term === term) this.#serving.delete(place);
    } catch (error) {
      report(error, { event: 'relay-terms-unread' });
    }
  }

  /** Whether the server of a term is another process of the cluster now, and has been without a break. */
  async #isServing({ run, replication }: Term): Promise<boolean> {
    const server = this.#host.linked();
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

  /** The term of the Redis that has a key, with the scripts for it, which that Redis then knows. */
  async #servingAt(key: string): Promise<Serving> {
    const place = this.#host.linked().placeOf(key);
    const known = this.#serving.get(place);
    if (known !== undefined) return known;
    let meeting = this.#meeting.get(place);
    if (meeting === undefined) {
      meeting = this.#meet(key, place);
      this.#meeting.set(place, meeting);
    }
    try {
      return await meeting;
    } finally {
      if (this.#meeting.get(place) === meeting) this.#meeting.delete(place);
    }
  }

  async #meet(key: string, place: string): Promise<Serving> {
    const server = this.#host.linked();
    const ask = (args: readonly string[]): Promise<unknown> => server.sendThere(key, args);
    for (;;) {
      const facts = await readFacts(ask).catch((error: unknown) => {
        this.#checkRole(error);
        throw error;
      });
      const id = server.isCluster ? String(await ask(['CLUSTER', 'MYID'])) : onePlace;
      const { term, isNew, wasMet } = await this.#host.terms.agree(id, facts);
      // What other instances still hold for the scripts of this server is of an earlier term.
      if (isNew && wasMet)
        await ask(['SCRIPT', 'FLUSH']).catch((error: unknown) =>
          this.#host.report(error, { event: 'relay-scripts-unremoved' }),
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
    if (isReplica && !this.#host.linked().isCluster) this.#host.isReplica();
  }

  /** A key that the server at an address has. */
  async #keyAt(place: string): Promise<string | undefined> {
    const server = this.#host.linked();
    for (let n = 0; n < probeTries; n++) {
      const key = this.#host.names.attempt(n);
      try {
        if (server.placeOf(key) === place) return key;
      } catch {}
    }
    return undefined;
  }
}
