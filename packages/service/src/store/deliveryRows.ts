import type { Delivery, DeliveryAttempt, DeliveryOutcome, DeliveryRecord, QueuedEvent } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import { defined, storableText } from '@nine-bells/wire';
import { numbersWhere, type PersonalData, withoutUser } from './personalData.js';
import { type Dialect, deletesOf, insertOf, listOf, tableOf, updatesOf, valuesOf } from './statements.js';
import { type Row, typesOf } from './tables.js';

/** Most characters of a problem that are kept. */
export const problemChars = 500;

/** Puts events into the queues of their hooks, unless they are there. */
export function insertDeliveries(events: readonly QueuedEvent[], dialect: Dialect): string {
  const rows = events.map(({ hook, id, event, atMs, channel, hops = 0, dataText, copy }) => ({
    hook,
    event_id: id,
    event,
    at_ms: atMs,
    channel: channel ?? null,
    hops,
    data_json: dataText,
    state: 'waiting',
    attempts: 0,
    since_ms: atMs,
    due_at_ms: 0,
    copy_of: copy?.of ?? null,
    bare_json: copy?.bareText ?? null,
  }));
  return insertOf('deliveries', rows, dialect, 'ON CONFLICT (hook, event_id) DO NOTHING');
}

/** Removes copies of withdrawn, taken back or erased originals from the data of deliveries, including ended ones. */
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
  const rows = attempts.map(({ number, atMs, status, tookMs, problem, sent, text }) => ({
    delivery: number,
    at_ms: atMs,
    status: status ?? null,
    took_ms: Math.round(tookMs),
    problem: problem === undefined ? null : storableText(problem, problemChars),
    sent_json: sent === undefined ? null : JSON.stringify(sent),
    answer: text === undefined ? null : storableText(text, text.length),
  }));
  return insertOf('attempts', rows, dialect);
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
  const changed = ['state', 'attempts', 'due_at_ms', 'ended_at_ms', 'status', 'problem'] as const;
  const [number, ...values] = valuesOf(typesOf('deliveries', ['number', ...changed]));
  const set = changed.map((name, index) => `${name} = ${values[index]}`).join(', ');
  return [
    `UPDATE deliveries SET ${set} FROM ${tableOf(ends, dialect)} WHERE deliveries.number = ${number}`,
    insertAttempts(
      outcomes.map(({ number, atMs, answer }) => ({ number, atMs, ...answer })),
      dialect,
    ),
  ];
}

export function deliveryOf(row: Row<'deliveries'>): Delivery {
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

export function recordOf(row: Row<'deliveries'>): DeliveryRecord {
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

export function attemptOf({ at_ms, status, took_ms, problem, sent_json, answer }: Row<'attempts'>): DeliveryAttempt {
  return {
    atMs: Number(at_ms),
    tookMs: took_ms,
    ...(status === null ? {} : { status }),
    ...(problem === null ? {} : { problem }),
    ...(sent_json === null ? {} : { sent: JSON.parse(sent_json) }),
    ...(answer === null ? {} : { text: answer }),
  };
}

/** Events that name the user: ended deliveries are deleted, waiting ones lose the name. */
export const deliveryData: PersonalData = {
  tables: ['deliveries'],
  find: (reads, request) =>
    numbersWhere(
      'deliveries',
      reads,
      request,
      (has) =>
        `(${has('data_json', ':mention')} OR ${has('bare_json', ':mention')}) AND at_ms <= ${request.untilMs ?? Number.MAX_SAFE_INTEGER}`,
      ({ state, data_json, bare_json }) =>
        state !== 'waiting' ||
        withoutUser(data_json, request.user) !== data_json ||
        withoutUser(bare_json, request.user) !== bare_json,
    ),
  async erase(reads, { user, numbers, dialect }) {
    const rows = await reads.select<Row<'deliveries'>>('SELECT * FROM deliveries WHERE number IN (:numbers)', {
      numbers,
    });
    const ended = rows.filter(({ state }) => state !== 'waiting');
    const waiting = rows.filter(({ state }) => state === 'waiting');
    const changed = waiting.map(({ number, data_json, bare_json }) => ({
      number,
      data_json: withoutUser(data_json, user),
      bare_json: withoutUser(bare_json, user),
    }));
    const attempts = ended.map(({ number }) => ({ delivery: number }));
    const statements = [
      ...deletesOf('attempts', attempts, dialect, ['delivery']),
      ...deletesOf('deliveries', ended, dialect),
      ...updatesOf('deliveries', changed, dialect),
    ];
    return { statements, result: rows.length };
  },
};
