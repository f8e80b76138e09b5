import type { ArrivalDraft, Intake } from '@nine-bells/core';
import { without } from '@nine-bells/core';
import { isDeeperThan, type Json, protocolLimits, refusal } from '@nine-bells/wire';

/**
 * The body of an event as its intake reads it: JSON, a form (each field as text, or as a list where it comes several times),
 * or text; of bytes that are no text, base64.
 *
 * @throws {ProblemError} `bad-value`
 */
export function readEventBody(kind: Intake['body'], text: string): Json {
  if (kind === 'raw') return text;
  if (kind === 'form') return fieldsOf(text);
  let value: Json;
  try {
    value = JSON.parse(text) as Json;
  } catch (error) {
    throw refusal('bad-value', `the body is not JSON: ${(error as Error).message.slice(0, 200)}`);
  }
  if (isDeeperThan(value, protocolLimits.dataDepth))
    throw refusal('bad-value', `the body is nested more than ${protocolLimits.dataDepth} levels deep`);
  return value;
}

/** Maximum number of fields of a form. */
const maxFields = 1_000;

function fieldsOf(text: string): Json {
  // Counted before any is read.
  let count = 1;
  for (let at = text.indexOf('&'); at !== -1 && count <= maxFields; at = text.indexOf('&', at + 1)) count += 1;
  if (count > maxFields) throw refusal('bad-value', `the form has more than ${maxFields} fields`);
  const fields = new Map<string, string[]>();
  for (const [name, value] of new URLSearchParams(text)) {
    const values = fields.get(name);
    if (values === undefined) fields.set(name, [value]);
    else values.push(value);
  }
  return Object.fromEntries(
    [...fields].map(([name, [first = '', ...rest]]) => [name, rest.length === 0 ? first : [first, ...rest]]),
  );
}

/**
 * A body as it is kept: what `drop` names is not in it.
 *
 * @throws {ProblemError} `bad-value` if it is not what the intake takes
 */
export function keptBodyOf(
  { body: kind, drop }: Pick<Intake, 'body' | 'drop'>,
  bytes: Buffer,
): { readonly body: string; readonly isBase64?: boolean; readonly value: Json } {
  const text = bytes.toString('utf8');
  if (kind === 'raw') {
    const isText = !text.includes('\0') && Buffer.from(text, 'utf8').equals(bytes);
    const body = isText ? text : bytes.toString('base64');
    return { body, value: body, ...(isText ? {} : { isBase64: true }) };
  }
  const value = readEventBody(kind, text);
  if (drop.length === 0) return { body: text.replaceAll('\0', ''), value };
  const left = without(value, drop);
  return { body: kind === 'json' ? JSON.stringify(left) : formOf(left), value: left };
}

function formOf(fields: Json): string {
  const pairs = Object.entries(fields as Record<string, string | string[]>);
  return new URLSearchParams(
    pairs.flatMap(([name, value]) => [value].flat().map((each): [string, string] => [name, each])),
  ).toString();
}

/** The body of an event that was kept. */
export function bodyOfArrival(intake: Intake, { body }: Pick<ArrivalDraft, 'body'>): Json {
  return readEventBody(intake.body, body);
}
