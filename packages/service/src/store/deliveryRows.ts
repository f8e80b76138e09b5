import type { Delivery, DeliveryAttempt, DeliveryOutcome, DeliveryRecord, QueuedEvent } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import { defined, storableText } from '@nine-bells/wire';
import { type Columns, columnsOf, type Dialect, insertOf, listOf, tableOf } from './statements.js';

/** An event on its way to a hook. */
export interface DeliveryRow {
  readonly number: number | string;
  readonly hook: string;
  readonly event_id: string;
  readonly event: string;
  readonly at_ms: number | string;
  readonly channel: string | null;
  readonly hops: number;
  readonly data_json: string;
  readonly state: string;
  readonly attempts: number;
  /** Since when it is tried: since it happened, or was sent again by hand. */
  readonly since_ms: number | string;
  /** 0: at once. */
  readonly due_at_ms: number | string;
  readonly ended_at_ms: number | string | null;
  readonly status: number | null;
  readonly problem: string | null;
  /** What the data copies, and the data without it. */
  readonly copy_of: string | null;
  readonly bare_json: string | null;
}

/** One attempt to deliver. */
export interface AttemptRow {
  readonly delivery: number | string;
  readonly at_ms: number | string;
  readonly status: number | null;
  readonly took_ms: number;
  readonly problem: string | null;
  readonly sent_json: string | null;
  readonly answer: string | null;
}

type NewRow = Omit<DeliveryRow, 'number' | 'ended_at_ms' | 'status' | 'problem'>;

const newColumns: Columns<NewRow> = {
  hook: 'TEXT',
  event_id: 'TEXT',
  event: 'TEXT',
  at_ms: 'BIGINT',
  channel: 'TEXT',
  hops: 'INTEGER',
  data_json: 'TEXT',
  state: 'TEXT',
  attempts: 'INTEGER',
  since_ms: 'BIGINT',
  due_at_ms: 'BIGINT',
  copy_of: 'TEXT',
  bare_json: 'TEXT',
};

const attemptColumns: Columns<AttemptRow> = {
  delivery: 'BIGINT',
  at_ms: 'BIGINT',
  status: 'INTEGER',
  took_ms: 'INTEGER',
  problem: 'TEXT',
  sent_json: 'TEXT',
  answer: 'TEXT',
};

const outcomeColumns: Columns<
  Pick<DeliveryRow, 'number' | 'state' | 'attempts' | 'due_at_ms' | 'ended_at_ms' | 'status' | 'problem'>
> = {
  number: 'BIGINT',
  state: 'TEXT',
  attempts: 'INTEGER',
  due_at_ms: 'BIGINT',
  ended_at_ms: 'BIGINT',
  status: 'INTEGER',
  problem: 'TEXT',
};

/** Most characters of a problem that are kept. */
export const problemChars = 500;

/** Puts events into the queues of their hooks, unless they are there. */
export function insertDeliveries(events: readonly QueuedEvent[], dialect: Dialect): string {
  const rows = events.map(({ hook, id, event, atMs, channel, hops = 0, dataText, copy }) => [
    hook,
    id,
    event,
    atMs,
    channel ?? null,
    hops,
    dataText,
    'waiting',
    0,
    atMs,
    0,
    copy?.of ?? null,
    copy?.bareText ?? null,
  ]);
  return insertOf('deliveries', newColumns, rows, dialect, 'ON CONFLICT (hook, event_id) DO NOTHING');
}

/** Removes copies of what was withdrawn, taken back or erased from the data of deliveries, ended ones too. */
export function blankCopies(originals: readonly string[], dialect: Dialect): string {
  const which = listOf(
    ['TEXT'],
    originals.map((each) => [each]),
    dialect,
  );
  return `UPDATE deliveries SET data_json = bare_json WHERE copy_of IN ${which} AND bare_json IS NOT NULL`;
}

/** Makes copies of one original copies of another: a message of the moderators' queue was published. */
export function moveCopies(moved: readonly (readonly [from: string, to: string])[], dialect: Dialect): string {
  return `UPDATE deliveries SET copy_of = each.value->>1 FROM ${tableOf(moved, dialect)}
    WHERE deliveries.copy_of = each.value->>0`;
}

/** Writes down attempts to deliver. */
export function insertAttempts(
  attempts: readonly (DeliveryAttempt & { readonly number: number })[],
  dialect: Dialect,
): string {
  const rows = attempts.map(({ number, atMs, status, tookMs, problem, sent, text }) => [
    number,
    atMs,
    status ?? null,
    Math.round(tookMs),
    problem === undefined ? null : storableText(problem, problemChars),
    sent === undefined ? null : JSON.stringify(sent),
    text === undefined ? null : storableText(text, text.length),
  ]);
  return insertOf('attempts', attemptColumns, rows, dialect);
}

/** Writes down how attempts ended. */
export function settleDeliveries(outcomes: readonly DeliveryOutcome[], dialect: Dialect): readonly string[] {
  const ends = outcomes.map(({ number, state, attempts, dueAtMs, atMs, answer: { status, problem } }) => [
    number,
    state,
    attempts,
    dueAtMs,
    state === 'waiting' ? null : atMs,
    status ?? null,
    problem === undefined ? null : storableText(problem, problemChars),
  ]);
  const [number, ...values] = columnsOf(outcomeColumns);
  const [, ...names] = Object.keys(outcomeColumns);
  const set = names.map((name, index) => `${name} = ${values[index]}`).join(', ');
  return [
    `UPDATE deliveries SET ${set} FROM ${tableOf(ends, dialect)} WHERE deliveries.number = ${number}`,
    insertAttempts(
      outcomes.map(({ number, atMs, answer }) => ({ number, atMs, ...answer })),
      dialect,
    ),
  ];
}

export function deliveryOf(row: DeliveryRow): Delivery {
  return {
    number: Number(row.number),
    hook: row.hook,
    id: row.event_id,
    event: row.event as Delivery['event'],
    atMs: Number(row.at_ms),
    ...defined({ channel: (row.channel ?? undefined) as ChannelName | undefined }),
    hops: row.hops,
    dataText: row.data_json,
    attempts: row.attempts,
    sinceMs: Number(row.since_ms),
  };
}

export function recordOf(row: DeliveryRow): DeliveryRecord {
  const dueAtMs = Number(row.due_at_ms);
  return {
    ...deliveryOf(row),
    state: row.state as DeliveryRecord['state'],
    ...(row.state === 'waiting' && dueAtMs > 0 ? { dueAtMs } : {}),
    ...(row.ended_at_ms === null ? {} : { endedAtMs: Number(row.ended_at_ms) }),
    ...(row.status === null ? {} : { status: row.status }),
    ...(row.problem === null ? {} : { problem: row.problem }),
  };
}

export function attemptOf({ at_ms, status, took_ms, problem, sent_json, answer }: AttemptRow): DeliveryAttempt {
  return {
    atMs: Number(at_ms),
    tookMs: took_ms,
    ...(status === null ? {} : { status }),
    ...(problem === null ? {} : { problem }),
    ...(sent_json === null ? {} : { sent: JSON.parse(sent_json) }),
    ...(answer === null ? {} : { text: answer }),
  };
}
