import { defined, type Json, type ProblemError as Problem, ProblemError, type Published } from '@nine-bells/wire';
import { backOffMs, chanceOf } from '../lib/backOff.js';
import { inPortions } from '../lib/portions.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type {
  Arrival,
  ArrivalDraft,
  ArrivalOutcome,
  Became,
  Intake,
  IntakeEntry,
  IntakeMessage,
  IntakeNotice,
} from '../model/intake.js';
import { idsOutliveMs } from '../model/intake.js';
import type { ShapeSource } from '../model/shape.js';
import type { Clock } from '../ports/clock.js';
import type { Report } from '../ports/report.js';
import type { IntakeStore } from '../ports/stores.js';
import { ShapeError } from '../rules/shape.js';
import { checkResults, type Shaped, shapedBy } from './shapeArrival.js';

/** Whose idempotency keys the messages of an event have, and which. */
export interface ArrivalOrigin {
  readonly owner: string;
  readonly key: string;
  readonly hops: number;
}

/** What an event may become. Each is idempotent by its origin. */
export interface IntakeActs {
  publish(message: IntakeMessage, origin: ArrivalOrigin): Promise<Published>;
  notify(notice: IntakeNotice, origin: ArrivalOrigin): Promise<{ readonly id: string; readonly users: number }>;
  set(entry: IntakeEntry): Promise<{ readonly version: Published['cursor'] }>;
}

export interface IntakesHost {
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly store: IntakeStore;
  readonly report: Report;
  readonly acts: IntakeActs;
  /** Reads the body of an event as its intake says. */
  readonly bodyOf: (intake: Intake, arrival: Pick<ArrivalDraft, 'body' | 'headers'>) => Json;
  /** An event could not be published. */
  readonly failed: (arrival: ArrivalDraft, problem: string) => void;
}

/** How long an instance has to publish what it took in before others do, in milliseconds. */
const heldMs = 30_000;
/** How often what other instances have left behind is looked for, in milliseconds, and how much at a time. */
const lookMs = 5_000;
const lookCount = 200;
/** How long to wait before another try: the first time, and at most, in milliseconds. */
const firstAgainMs = 1_000;
const mostAgainMs = 300_000;
/** An event that could not be published for so long has failed, in milliseconds. */
const giveUpMs = 3 * 86_400_000;
/** How often ended arrivals are forgotten, in milliseconds. */
const tidyMs = 10_000;
/** Events that are published at a time; the others wait in the store. */
const maxUnderWay = 2_000;

/** Totals of an intake on this instance. */
export interface IntakeCounts {
  arrived: number;
  repeated: number;
  refused: number;
  failed: number;
  done: number;
}

/** What other systems say: kept at once, then published, once. */
export class Intakes {
  readonly #host: IntakesHost;
  readonly #all: ReadonlyMap<string, Intake>;
  readonly #counts = new Map<string, IntakeCounts>();
  readonly #underWay = new Map<string, Promise<void>>();
  #isStopped = false;

  constructor(host: IntakesHost, intakes: readonly Intake[]) {
    this.#host = host;
    this.#all = new Map(intakes.map((intake) => [intake.name, intake]));
    if (intakes.length === 0) return;
    this.#lookLater();
    this.#tidyLater();
  }

  get all(): readonly Intake[] {
    return [...this.#all.values()];
  }

  get(name: string): Intake | undefined {
    return this.#all.get(name);
  }

  countsOf(name: string): IntakeCounts {
    let counts = this.#counts.get(name);
    if (counts === undefined) {
      counts = { arrived: 0, repeated: 0, refused: 0, failed: 0, done: 0 };
      this.#counts.set(name, counts);
    }
    return counts;
  }

  /**
   * Keeps an event. Resolves when it is committed; what becomes of it is decided after that.
   *
   * @throws {ProblemError} `unavailable`
   */
  async arrive(draft: Omit<ArrivalDraft, 'heldUntilMs'>): Promise<{ readonly id: string; readonly repeated: boolean }> {
    const { clock, store } = this.#host;
    const kept: ArrivalDraft = { ...draft, heldUntilMs: clock.now() + heldMs };
    const { id, repeated } = await store.arrive(kept);
    const counts = this.countsOf(draft.intake);
    counts.arrived += 1;
    if (repeated) counts.repeated += 1;
    // With too many under way, it is taken over from the store a little later.
    else if (this.#underWay.size < maxUnderWay) this.#begin({ ...kept, number: 0, state: 'waiting', tries: 0 });
    return { id, repeated };
  }

  /**
   * Runs an event again that has failed or was ignored, by the routes of now.
   *
   * @throws {ProblemError} `unavailable`
   */
  async again(arrival: Arrival): Promise<void> {
    if (!this.#underWay.has(arrival.id)) this.#begin({ ...arrival, tries: 0, atMs: this.#host.clock.now() });
    await this.#underWay.get(arrival.id);
  }

  /**
   * What would become of an event. Publishes nothing.
   *
   * @throws {ShapeError}
   */
  async shape(
    intake: Intake,
    arrival: Pick<ArrivalDraft, 'id' | 'atMs' | 'body' | 'headers' | 'method'>,
  ): Promise<Shaped> {
    const body = this.#host.bodyOf(intake, arrival);
    const { headers, method, id, atMs } = arrival;
    const source: ShapeSource = { body, headers, method };
    if (typeof intake.routes !== 'function') return shapedBy(intake.routes, source);
    const results = await intake.routes({ id, intake: intake.name, atMs, ...source });
    return { results: checkResults(results) };
  }

  /** Resolves when nothing is being published any more. */
  async stop(): Promise<void> {
    this.#isStopped = true;
    await Promise.all(this.#underWay.values());
  }

  // ------------------------------------------------------------------------------------------------ inside

  /** In the order of arrival: what is shaped by routes is given to its channels in this turn. */
  #begin(arrival: Arrival): void {
    const done = this.#process(arrival).finally(() => this.#underWay.delete(arrival.id));
    this.#underWay.set(arrival.id, done);
  }

  async #process(arrival: Arrival): Promise<void> {
    const { clock, store, report, failed } = this.#host;
    const outcome = await this.#outcomeOf(arrival);
    const counts = this.countsOf(arrival.intake);
    if (outcome.state === 'failed') {
      counts.failed += 1;
      failed(arrival, outcome.problem ?? '');
    } else if (outcome.state !== 'waiting') counts.done += 1;
    try {
      await store.endArrival({ id: arrival.id, atMs: clock.now(), ...outcome });
    } catch (error) {
      // It stays as it was, and is run again when its time is over: what was published is not published twice.
      report(error, { event: 'arrival-result-unsaved', arrival: arrival.id });
    }
  }

  async #outcomeOf(arrival: Arrival): Promise<Omit<ArrivalOutcome, 'id' | 'atMs'>> {
    const intake = this.#all.get(arrival.intake);
    if (intake === undefined) return { state: 'failed', problem: 'there is no such intake any more' };
    try {
      const shaped =
        typeof intake.routes === 'function'
          ? await this.shape(intake, arrival)
          : shapedBy(intake.routes, {
              body: this.#host.bodyOf(intake, arrival),
              headers: arrival.headers,
              method: arrival.method,
            });
      const became = await this.#act(arrival, shaped);
      if (became === undefined) return { state: 'ignored', problem: 'no route is for it' };
      return { state: 'done', became };
    } catch (error) {
      return this.#failureOf(arrival, error);
    }
  }

  #failureOf(arrival: Arrival, error: unknown): Omit<ArrivalOutcome, 'id' | 'atMs'> {
    const { clock, report } = this.#host;
    const nowMs = clock.now();
    if (isPassing(error) && clock.settled() - arrival.atMs < giveUpMs) {
      const waitMs = backOffMs(firstAgainMs, mostAgainMs, arrival.tries + 1, chanceOf(arrival.id));
      return { state: 'waiting', problem: error.message, heldUntilMs: nowMs + waitMs };
    }
    if (!(error instanceof ShapeError) && !(error instanceof ProblemError))
      report(error, { event: 'arrival-failed', intake: arrival.intake, arrival: arrival.id });
    return { state: 'failed', problem: (error as Error).message };
  }

  /** Everything is begun in this turn, so that the order of arrivals is the order of messages. */
  async #act({ id, intake, hops }: Arrival, { route, results }: Shaped): Promise<Became | undefined> {
    const { messages = [], notices = [], entries = [] } = results;
    if (messages.length + notices.length + entries.length === 0) return route === undefined ? undefined : { route };
    const { acts } = this.#host;
    const origin = (kind: string, index: number): ArrivalOrigin => ({
      owner: `intake:${intake}`,
      key: `${id}-${kind}${index}`,
      hops: hops + 1,
    });
    const [published, notified, set] = await allDone([
      allDone(messages.map((each, index) => acts.publish(each, origin('m', index)))),
      allDone(notices.map((each, index) => acts.notify(each, origin('n', index)))),
      allDone(entries.map((each) => acts.set(each))),
    ] as const);
    return {
      ...defined({ route }),
      ...(messages.length === 0
        ? {}
        : {
            messages: published.map(({ id, cursor }, index) => ({ channel: channelAt(messages, index), id, cursor })),
          }),
      ...(notices.length === 0 ? {} : { notices: notified.map(({ id, users }) => ({ id, users })) }),
      ...(entries.length === 0
        ? {}
        : {
            entries: set.map(({ version }, index) => ({
              channel: channelAt(entries, index),
              entry: (entries[index] as IntakeEntry).entry,
              version,
            })),
          }),
    };
  }

  #lookLater(): void {
    this.#host.wheel.after(lookMs, () => {
      void this.#look().finally(() => {
        if (!this.#isStopped) this.#lookLater();
      });
    });
  }

  /** Takes over what waits and is held by no instance. */
  async #look(): Promise<void> {
    const { store, clock, report } = this.#host;
    for (let isThereMore = true; isThereMore && !this.#isStopped; ) {
      if (this.#underWay.size >= maxUnderWay) return;
      const nowMs = clock.now();
      try {
        const arrivals = await store.takeOverArrivals(nowMs, nowMs + heldMs, 2 * mostAgainMs, lookCount);
        for (const each of arrivals) if (!this.#underWay.has(each.id)) this.#begin(each);
        isThereMore = arrivals.length === lookCount;
      } catch (error) {
        if (!isPassing(error)) report(error, { event: 'arrivals-unread' });
        return;
      }
    }
  }

  #tidyLater(): void {
    this.#host.wheel.after(tidyMs, () => {
      void this.#tidy().finally(() => {
        if (!this.#isStopped) this.#tidyLater();
      });
    });
  }

  async #tidy(): Promise<void> {
    const { store, clock, report } = this.#host;
    await inPortions(
      [...this.#all.values()],
      { clock, isOver: () => this.#isStopped },
      ({ name, keepMs, keepIdsMs = keepMs + idsOutliveMs }) =>
        store.tidyIntake(name, clock.settled() - keepMs, clock.settled() - keepIdsMs).catch((error: unknown) => {
          report(error, { event: 'arrival-prune-failed', intake: name });
          return 0;
        }),
    );
  }
}

/** As `Promise.all`, but rejects only when all have ended: what is under way must not go on unseen. */
async function allDone<const T extends readonly unknown[]>(
  all: T,
): Promise<{ -readonly [K in keyof T]: Awaited<T[K]> }> {
  const results = await Promise.allSettled(all);
  const failed = results.filter((each) => each.status === 'rejected');
  // What may succeed later comes first: then all is run again.
  const error = failed.find(({ reason }) => isPassing(reason)) ?? failed[0];
  if (error !== undefined) throw error.reason;
  return results.map((each) => (each as PromiseFulfilledResult<unknown>).value) as never;
}

function channelAt(
  all: readonly { readonly channel: IntakeMessage['channel'] }[],
  index: number,
): IntakeMessage['channel'] {
  return (all[index] as { channel: IntakeMessage['channel'] }).channel;
}

/** Whether another try may succeed. */
function isPassing(error: unknown): error is Problem {
  return (
    error instanceof ProblemError &&
    ['unavailable', 'busy', 'draining', 'rate-limited', 'internal'].includes(error.code)
  );
}
