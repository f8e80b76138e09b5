import {
  type Arrival,
  type ArrivalDraft,
  type ArrivalOutcome,
  type ArrivalWish,
  type Delivery,
  type DeliveryAttempt,
  type DeliveryOutcome,
  type DeliveryRecord,
  type DeliverySelection,
  type DeliveryWish,
  type DueDeliveries,
  type DueWish,
  deliveryId,
  type HookFigures,
  type HookLeaseRequest,
  type HookLeases,
  type HookPause,
  type HookState,
  type HookStore,
  type IntakeStore,
  type LeaseWish,
  type QueuedEvent,
  type RegisteredHook,
} from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';

type Row = { -readonly [K in keyof DeliveryRecord]: DeliveryRecord[K] } & { dueAtMs: number };
type ArrivalRow = { -readonly [K in keyof Arrival]: Arrival[K] };

/** The queues of hooks and what came in through intakes, in memory. */
export class MemoryQueues implements HookStore, IntakeStore {
  readonly #rows = new Map<string, Row>();
  readonly #attempts = new Map<number, DeliveryAttempt[]>();
  readonly #arrivals = new Map<string, ArrivalRow>();
  /** Pruned arrivals, reduced to the sender's id, by intake and id. */
  readonly #knownEvents = new Map<string, ArrivalRow>();
  readonly #states = new Map<string, HookState>();
  readonly #holders = new Map<string, { holder: string; untilMs: number }>();
  readonly #occupied = new Set<ChannelName>();
  #last = 0;

  async queue(
    events: readonly QueuedEvent[],
    occupied?: { readonly channel: ChannelName; readonly is: boolean },
  ): Promise<void> {
    if (occupied !== undefined) {
      if (this.#occupied.has(occupied.channel) === occupied.is) return;
      if (occupied.is) this.#occupied.add(occupied.channel);
      else this.#occupied.delete(occupied.channel);
    }
    for (const each of events) {
      const id = deliveryId(each);
      if (this.#rows.has(id)) continue;
      const row = { ...each, number: ++this.#last, attempts: 0, sinceMs: each.atMs, dueAtMs: 0 };
      this.#rows.set(id, { ...row, state: 'waiting' });
    }
  }

  async occupied(after: string, limit: number): Promise<readonly ChannelName[]> {
    return [...this.#occupied]
      .filter((each) => each > after)
      .sort()
      .slice(0, limit);
  }

  async due(hook: string, { nowMs, horizonMs, count, heldUp }: DueWish): Promise<DueDeliveries> {
    const waiting = this.#of(hook).filter(({ state }) => state === 'waiting');
    const again = waiting.filter(({ dueAtMs }) => dueAtMs > 0).sort((a, b) => a.dueAtMs - b.dueAtMs);
    const isDue = ({ dueAtMs }: Row): boolean => dueAtMs <= nowMs || dueAtMs > nowMs + horizonMs;
    const isFresh = ({ dueAtMs, channel }: Row): boolean =>
      dueAtMs === 0 && heldUp !== 'all' && !heldUp.includes(channel ?? '');
    const due = [...again.filter(isDue), ...waiting.filter(isFresh)];
    const next = again.find((row) => !isDue(row));
    return {
      deliveries: due.slice(0, count).map((row) => ({ ...row })),
      ...(next === undefined || due.length > count ? {} : { nextAtMs: next.dueAtMs }),
    };
  }

  async heldUp(hook: string): Promise<readonly { channel: string; number: number }[]> {
    const first = new Map<string, number>();
    for (const { state, dueAtMs, channel = '', number } of this.#of(hook))
      if (state === 'waiting' && dueAtMs > 0) first.set(channel, Math.min(number, first.get(channel) ?? number));
    return [...first].map(([channel, number]) => ({ channel, number }));
  }

  async lease(hook: string, { untilMs, ...wish }: LeaseWish): Promise<readonly Delivery[]> {
    const { deliveries } = await this.due(hook, { ...wish, heldUp: [] });
    return deliveries.map((each) => {
      const row = this.#rows.get(deliveryId(each)) as Row;
      Object.assign(row, { dueAtMs: untilMs, attempts: row.attempts + 1 });
      return { ...row };
    });
  }

  async acknowledge(hook: string, ids: readonly string[], nowMs: number): Promise<number> {
    const rows = ids.flatMap((id) => this.#rows.get(deliveryId({ hook, id })) ?? []);
    const waiting = rows.filter(({ state }) => state === 'waiting');
    for (const row of waiting) Object.assign(row, { state: 'delivered', endedAtMs: nowMs });
    return waiting.length;
  }

  async unacknowledged(hook: string, ids: readonly string[]): Promise<readonly string[]> {
    return ids.filter((id) => this.#rows.get(deliveryId({ hook, id }))?.state === 'waiting');
  }

  async giveBack(hook: string, ids: readonly string[]): Promise<void> {
    for (const id of ids) {
      const row = this.#rows.get(deliveryId({ hook, id }));
      if (row?.state === 'waiting') row.dueAtMs = 0;
    }
  }

  async settle(outcomes: readonly DeliveryOutcome[]): Promise<void> {
    const byNumber = new Map([...this.#rows.values()].map((row) => [row.number, row]));
    for (const { number, state, attempts, dueAtMs, atMs, answer } of outcomes) {
      const row = byNumber.get(number);
      if (row === undefined) continue;
      Object.assign(row, { state, attempts, dueAtMs, ...(state === 'waiting' ? {} : { endedAtMs: atMs }) });
      if (answer !== undefined)
        this.#attempts.set(number, [...(this.#attempts.get(number) ?? []), { atMs, ...answer }]);
    }
  }

  async leaseHooks({ holder, hooks, more, nowMs, untilMs }: HookLeaseRequest): Promise<HookLeases> {
    const own = hooks.filter((name) => this.#holders.get(name)?.holder === holder);
    const free = hooks.filter((name) => !own.includes(name) && (this.#holders.get(name)?.untilMs ?? 0) <= nowMs);
    const held = [...own, ...free.splice(0, more)];
    for (const name of held) this.#holders.set(name, { holder, untilMs });
    return { held, free };
  }

  async releaseHooks(holder: string, hooks: readonly string[]): Promise<void> {
    for (const name of hooks) if (this.#holders.get(name)?.holder === holder) this.#holders.delete(name);
  }

  async hookStates(): Promise<readonly HookState[]> {
    return [...this.#states.values()];
  }

  async hookFails(hook: string, sinceMs: number | null): Promise<void> {
    const { failingSinceMs: _, ...state } = this.#state(hook);
    this.#states.set(hook, sinceMs === null ? state : { ...state, failingSinceMs: sinceMs });
  }

  async pauseHook(hook: string, pause: HookPause | null): Promise<void> {
    const { paused: _, ...state } = this.#state(hook);
    this.#states.set(hook, pause === null ? state : { ...state, paused: pause });
  }

  async keepHook(hook: string, registered: RegisteredHook | null): Promise<void> {
    if (registered === null) this.#states.delete(hook);
    else this.#states.set(hook, { ...this.#state(hook), registered });
  }

  async hookFigures(): Promise<Readonly<Record<string, HookFigures>>> {
    const figures: Record<string, HookFigures> = {};
    for (const { hook, state, dataText } of this.#rows.values()) {
      const { waiting, waitingBytes, dead } = figures[hook] ?? { waiting: 0, waitingBytes: 0, dead: 0 };
      const isWaiting = state === 'waiting';
      figures[hook] = {
        waiting: waiting + (isWaiting ? 1 : 0),
        waitingBytes: waitingBytes + (isWaiting ? dataText.length : 0),
        dead: dead + (state === 'dead' ? 1 : 0),
      };
    }
    return figures;
  }

  async deliveries({ hook, state, limit }: DeliveryWish): Promise<readonly DeliveryRecord[]> {
    return [...this.#rows.values()]
      .filter((row) => (hook === undefined || row.hook === hook) && (state === undefined || row.state === state))
      .slice(-limit)
      .reverse();
  }

  async delivery(which: { hook: string; id: string }): Promise<DeliveryRecord | undefined> {
    return this.#rows.get(deliveryId(which));
  }

  async attempts(delivery: number): Promise<readonly DeliveryAttempt[]> {
    return this.#attempts.get(delivery) ?? [];
  }

  async noteAttempt(delivery: number, attempt: DeliveryAttempt): Promise<void> {
    this.#attempts.set(delivery, [...(this.#attempts.get(delivery) ?? []), attempt]);
  }

  async resend(which: DeliverySelection, nowMs: number): Promise<number> {
    const rows =
      'ids' in which
        ? which.ids.flatMap((each) => this.#rows.get(deliveryId(each)) ?? [])
        : this.#of(which.hook).filter(({ atMs, state }) => atMs >= which.fromMs && state === (which.state ?? state));
    for (const row of rows) Object.assign(row, { state: 'waiting', dueAtMs: 0, sinceMs: nowMs });
    return rows.length;
  }

  async tidyHook(
    hook: string,
    nowMs: number,
    giveUpMs: number,
    forgetMs: number,
  ): Promise<{ gaveUp: number; forgot: number }> {
    let gaveUp = 0;
    let forgot = 0;
    for (const row of this.#of(hook))
      if (row.state === 'waiting' && row.sinceMs < giveUpMs) {
        Object.assign(row, { state: 'dead', endedAtMs: nowMs });
        gaveUp += 1;
      } else if (row.state !== 'waiting' && (row.endedAtMs ?? 0) < forgetMs) {
        this.#rows.delete(deliveryId(row));
        forgot += 1;
      }
    return { gaveUp, forgot };
  }

  async arrive(draft: ArrivalDraft): Promise<{ id: string; repeated: boolean }> {
    const { intake, eventId } = draft;
    const known = [...this.#arrivals.values()].find(
      (each) => eventId !== undefined && each.intake === intake && each.eventId === eventId,
    );
    const before = known ?? this.#knownEvents.get(`${intake} ${eventId}`);
    if (before !== undefined) return { id: before.id, repeated: true };
    this.#arrivals.set(draft.id, { ...draft, number: ++this.#last, state: 'waiting', tries: 0 });
    return { id: draft.id, repeated: false };
  }

  async endArrival({ id, state, atMs, became, problem, heldUntilMs }: ArrivalOutcome): Promise<void> {
    const row = this.#arrivals.get(id);
    if (row === undefined) return;
    Object.assign(row, { state, problem, became, tries: row.tries + 1 });
    if (state === 'waiting') Object.assign(row, { heldUntilMs });
    else row.endedAtMs = atMs;
  }

  async takeOverArrivals(
    nowMs: number,
    untilMs: number,
    horizonMs: number,
    limit: number,
  ): Promise<readonly Arrival[]> {
    const rows = [...this.#arrivals.values()]
      .filter(
        ({ state, heldUntilMs }) => state === 'waiting' && (heldUntilMs <= nowMs || heldUntilMs > nowMs + horizonMs),
      )
      .slice(0, limit);
    for (const row of rows) row.heldUntilMs = untilMs;
    return rows.map((row) => ({ ...row }));
  }

  async arrivals({ intake, state, limit }: ArrivalWish): Promise<readonly Arrival[]> {
    return [...this.#arrivals.values()]
      .filter((row) => (intake === undefined || row.intake === intake) && (state === undefined || row.state === state))
      .slice(-limit)
      .reverse();
  }

  async arrival(id: string): Promise<Arrival | undefined> {
    return this.#arrivals.get(id);
  }

  async tidyIntake(intake: string, forgetMs: number, forgetIdsMs: number): Promise<number> {
    let forgot = 0;
    for (const row of this.#arrivals.values())
      if (row.intake === intake && (row.endedAtMs ?? Number.POSITIVE_INFINITY) < forgetMs) {
        this.#arrivals.delete(row.id);
        if (row.eventId !== undefined) this.#knownEvents.set(`${intake} ${row.eventId}`, row);
        forgot += 1;
      }
    for (const [key, { intake: of, endedAtMs = 0 }] of this.#knownEvents)
      if (of === intake && endedAtMs < forgetIdsMs) this.#knownEvents.delete(key);
    return forgot;
  }

  #of(hook: string): Row[] {
    return [...this.#rows.values()].filter((row) => row.hook === hook);
  }

  #state(name: string): HookState {
    return this.#states.get(name) ?? { name };
  }
}
