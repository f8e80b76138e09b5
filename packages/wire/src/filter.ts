import { type Cursor, parseCursor } from './cursor.js';
import type { Json } from './json.js';
import { protocolLimits } from './limits.js';
import type { Message } from './records.js';

/** Some of a channel's messages: those that all of its members are true of. */
export interface MessageFilter {
  /** Only of these types. */
  readonly types?: readonly string[];
  /** Only of these authors, by user id. */
  readonly by?: readonly string[];
  /** Not of these authors, by user id. */
  readonly notBy?: readonly string[];
  /** Only the thread that begins with this message, and that message itself: a cursor. */
  readonly thread?: Cursor;
  /** Only where members of `data` have these values, by JSON Pointer (RFC 6901): `{ "/boat": "petrel" }`. */
  readonly where?: Readonly<Record<string, FilterValue>>;
}

/** What a member of `data` may be compared with. */
export type FilterValue = string | number | boolean | null;

/** What filters look at. */
export type FilteredMessage = Pick<Message, 'type' | 'by' | 'data' | 'cursor' | 'thread'>;

/** Whether a message is among those that a filter lets through. */
export function filterFits({ types, by, notBy, thread, where }: MessageFilter, message: FilteredMessage): boolean {
  if (types !== undefined && !types.includes(message.type)) return false;
  if (by !== undefined && (message.by === undefined || !by.includes(message.by.user))) return false;
  if (notBy !== undefined && message.by !== undefined && notBy.includes(message.by.user)) return false;
  if (thread !== undefined && message.thread !== thread && message.cursor !== thread) return false;
  for (const pointer in where) if (memberAt(message.data, pointer) !== where[pointer]) return false;
  return true;
}

/** A text that is the same for filters that let the same messages through, in whatever order they are written. */
export function filterKey({ types, by, notBy, thread, where }: MessageFilter): string {
  const sorted = (all: readonly string[] | undefined): readonly string[] | null =>
    all === undefined ? null : [...new Set(all)].sort();
  const terms = where === undefined ? null : Object.entries(where).sort();
  const more = notBy === undefined && thread === undefined ? [] : [sorted(notBy), thread ?? null];
  return JSON.stringify([sorted(types), sorted(by), terms, ...more]);
}

/** What is wrong with a filter, and where in it, as a JSON Pointer; `undefined`: nothing. */
export function filterFault(value: unknown): { readonly where: string; readonly detail: string } | undefined {
  if (!isObject(value))
    return { where: '', detail: 'a filter is an object with `types`, `by`, `notBy`, `thread` or `where`' };
  const { types, by, notBy, thread, where, ...others } = value;
  const [unknown] = Object.keys(others);
  if (unknown !== undefined)
    return { where: '', detail: 'a filter has `types`, `by`, `notBy`, `thread` and `where`, and nothing else' };
  for (const [name, list] of [
    ['types', types],
    ['by', by],
    ['notBy', notBy],
  ] as const) {
    if (list === undefined) continue;
    const fits =
      Array.isArray(list) && list.length > 0 && list.length <= protocolLimits.filterNames && list.every(isShort);
    if (!fits)
      return { where: `/${name}`, detail: `a list of 1 to ${protocolLimits.filterNames} short texts is expected` };
  }
  if (thread !== undefined && (typeof thread !== 'string' || parseCursor(thread) === undefined))
    return { where: '/thread', detail: 'the cursor of the first message of a thread is expected' };
  if (where === undefined) return undefined;
  if (!isObject(where)) return { where: '/where', detail: 'an object of JSON Pointer to value is expected' };
  const terms = Object.entries(where);
  if (terms.length === 0 || terms.length > protocolLimits.filterTerms)
    return { where: '/where', detail: `1 to ${protocolLimits.filterTerms} terms are expected` };
  for (const [pointer, wanted] of terms) {
    const place = `/where/${pointer.slice(0, 100).replaceAll('~', '~0').replaceAll('/', '~1')}`;
    if (!pointer.startsWith('/') || /~(?![01])/.test(pointer) || pointer.length > protocolLimits.filterChars)
      return { where: place, detail: 'a JSON Pointer into `data` is expected, such as /boat' };
    const isValue =
      typeof wanted === 'string'
        ? wanted.length <= protocolLimits.filterChars
        : wanted === null || typeof wanted === 'number' || typeof wanted === 'boolean';
    if (!isValue) return { where: place, detail: 'a text, a number, true, false or null is expected to compare with' };
  }
  return undefined;
}

/** A value as people type it: a number, true, false or null as JSON has it; else the text as it stands. */
export function filterValue(text: string): FilterValue {
  try {
    const value = JSON.parse(text) as unknown;
    return typeof value === 'object' && value !== null ? text : (value as FilterValue);
  } catch {
    return text;
  }
}

function isShort(value: unknown): boolean {
  return typeof value === 'string' && value.length > 0 && value.length <= protocolLimits.userChars;
}

function memberAt(value: Json, pointer: string): Json | undefined {
  let found: Json | undefined = value;
  for (const escaped of pointer.split('/').slice(1)) {
    const name = escaped.includes('~') ? escaped.replaceAll('~1', '/').replaceAll('~0', '~') : escaped;
    if (typeof found !== 'object' || found === null || !Object.hasOwn(found, name)) return undefined;
    found = (found as Readonly<Record<string, Json>>)[name];
  }
  return found;
}

function isObject(value: unknown): value is Record<string, unknown> {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}
