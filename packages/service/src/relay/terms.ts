/** What a Redis process says of itself. Times are of its own clock, in milliseconds since the epoch. */
export interface ServerFacts {
  /** Its `run_id`: another one after each start. */
  readonly run: string;
  /** Its `master_replid`: another one each time that it becomes a master. */
  readonly replication: string;
  /** It was a replica before it became a master, in this run. */
  readonly wasReplica: boolean;
  /** When it was started, at the earliest: Redis tells it to within two seconds. */
  readonly startedAtMs: number;
  readonly nowMs: number;
  /** Every write is on disk before it is answered: `appendfsync always`. */
  readonly isDurable: boolean;
  /** Replicas are connected to it. */
  readonly hasReplicas: boolean;
}

/** One run of one Redis process as the master of its place, in the order in which the service has met them. */
export interface Term {
  /** Rises with time. Records in Redis are marked with it. */
  readonly term: number;
  /** `one`, or the id of the process in its cluster. */
  readonly place: string;
  readonly run: string;
  readonly replication: string;
  readonly isDurable: boolean;
  /** Replicas were seen: one of them may have become the master without the last writes. */
  readonly isReplicated: boolean;
  /** The term whose records are whole in this one; absent if something may have been lost in between. */
  readonly continues?: number;
  readonly seenAtMs: number;
}

/**
 * Where the terms of a service are written down: outside Redis, since what Redis says of its own past may be what was lost.
 * All instances of a service share one.
 */
export interface TermBook {
  /** The term of the server that is the master of a place now: the latest one of the place, or a new one. */
  agree(place: string, facts: ServerFacts): Promise<Agreed>;
  /** Notes that a term is no longer durable, or has replicas. */
  note(term: number, what: { readonly isDurable?: false; readonly isReplicated?: true }): Promise<void>;
  /** The latest of the terms that continue a term, or the term itself; `undefined` if it is not known. */
  latestOf(term: number): Promise<Term | undefined>;
}

export interface Agreed {
  readonly term: Term;
  /** The service has met the server just now. */
  readonly isNew: boolean;
  /** The same run had an earlier term: what it knows of that one is out of date. */
  readonly wasMet: boolean;
}

/**
 * What the latest term of a place means for the server that is there now: the same term, a new one that continues it with
 * everything whole, or one before which something may have been lost.
 *
 * A server that was started again is whole only if no other can have taken its place meanwhile: it had no replicas, was
 * itself none, and started after the last one was seen.
 */
export function compareTerms(latest: Term | undefined, facts: ServerFacts): 'same' | 'continues' | 'other' {
  if (latest === undefined) return 'other';
  if (latest.run === facts.run) {
    if (latest.replication === facts.replication) return 'same';
    // A master that has had no replicas for a while takes a new id. One that was a replica in between has lost what it had.
    return facts.wasReplica ? 'other' : 'continues';
  }
  const isRestart = facts.startedAtMs > latest.seenAtMs && !facts.wasReplica && !latest.isReplicated;
  return isRestart && latest.isDurable && facts.isDurable ? 'continues' : 'other';
}

/** The term to write down for a server that has none. */
export function nextTerm(last: number, place: string, latest: Term | undefined, facts: ServerFacts): Term {
  const { run, replication, isDurable, hasReplicas, nowMs } = facts;
  return {
    term: last + 1,
    place,
    run,
    replication,
    isDurable,
    isReplicated: hasReplicas,
    ...(latest !== undefined && compareTerms(latest, facts) === 'continues' ? { continues: latest.term } : {}),
    seenAtMs: nowMs,
  };
}

/** Terms that are forgotten with the process: for tests and benchmarks of one Redis. */
export class MemoryTermBook implements TermBook {
  #terms: Term[] = [];

  async agree(place: string, facts: ServerFacts): Promise<Agreed> {
    const latest = this.#terms.findLast((each) => each.place === place);
    if (latest !== undefined && compareTerms(latest, facts) === 'same')
      return { term: latest, isNew: false, wasMet: true };
    const wasMet = this.#terms.some(({ run }) => run === facts.run);
    const term = nextTerm(this.#terms.length, place, latest, facts);
    this.#terms.push(term);
    return { term, isNew: true, wasMet };
  }

  async note(term: number, what: { readonly isDurable?: false; readonly isReplicated?: true }): Promise<void> {
    this.#terms = this.#terms.map((each) => (each.term === term ? { ...each, ...what } : each));
  }

  async latestOf(term: number): Promise<Term | undefined> {
    const next = this.#terms.find(({ continues }) => continues === term);
    return next === undefined ? this.#terms.find((each) => each.term === term) : this.latestOf(next.term);
  }
}
