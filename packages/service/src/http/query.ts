import { type ChannelName, channelNameFault, type Place, parseCursor, protocolLimits, refusal } from '@nine-bells/wire';
import type { Request } from 'express';
import type { Route } from './route.js';

/** Refuses members of the query that a route does not take. */
export function checkQuery(request: Request, { query = [] }: Pick<Route, 'query'>): void {
  for (const name of Object.keys(request.query))
    if (!query.includes(name))
      throw refusal(
        'bad-value',
        query.length === 0
          ? 'nothing is taken in the query here'
          : `there is no such member; there are ${query.join(', ')}`,
        { where: `?${name.slice(0, 100)}` },
      );
}

/** One query parameter, if it was given once and as text. */
export function queryText(request: Request, name: string): string | undefined {
  const value = request.query[name];
  if (value === undefined || typeof value === 'string') return value;
  throw refusal('bad-value', `\`${name}\` is given once`, { where: `?${name}` });
}

/** A whole number in the query, within bounds. */
export function queryWhole(request: Request, name: string, most: number): number | undefined {
  const value = queryText(request, name);
  if (value === undefined) return undefined;
  const number = Number(value);
  if (!/^[0-9]{1,9}$/.test(value) || number < 1 || number > most)
    throw refusal('bad-value', `\`${name}\` is a whole number from 1 to ${most}`, { where: `?${name}` });
  return number;
}

/** The parameters of a page of a list. */
export const pageQuery = ['after', 'limit'] as const;

/** A page of a list, and the member of the answer that continues the list. */
export interface Page<T> {
  readonly page: readonly T[];
  readonly rest: { readonly next?: string };
}

/**
 * Cuts a page from a list.
 *
 * @param found - items behind the page's place; one more than `limit` is enough
 * @param placeOf - returns the place of the page's last item, which the client passes back as `after`
 */
export function pageOf<T>(found: readonly T[], limit: number, placeOf: (last: T) => string | number): Page<T> {
  const page = found.slice(0, limit);
  const last = page.at(-1);
  return { page, rest: found.length > limit && last !== undefined ? { next: String(placeOf(last)) } : {} };
}

/** Reads the place of a page in a list that is ordered by number. */
export function numberAfter(request: Request): number | undefined {
  const text = queryText(request, 'after');
  if (text !== undefined && !/^[0-9]{1,15}$/.test(text)) throw malformedAfter();
  return text === undefined ? undefined : Number(text);
}

function malformedAfter(): Error {
  return refusal('bad-value', '`after` is malformed: use `next` of an earlier answer', { where: '?after' });
}

/** A place in a list that is ordered by time, then by id. */
export interface TimePlace {
  readonly atMs: number;
  readonly id: string;
}

/** Reads the place of a page in a list that is ordered by time. It stays valid after the item at that place has ended. */
export function timeAfter(request: Request): TimePlace | undefined {
  const text = queryText(request, 'after');
  if (text === undefined) return undefined;
  const [, atMs, id] = /^(\d{1,15}):(.{1,200})$/su.exec(text) ?? [];
  if (atMs === undefined || id === undefined) throw malformedAfter();
  return { atMs: Number(atMs), id };
}

/** Cuts a page from a whole list, latest first. */
export function latestFirst<T extends TimePlace>(
  all: readonly T[],
  place: TimePlace | undefined,
  limit: number,
): Page<T> {
  const isBehind = ({ atMs, id }: TimePlace): boolean =>
    place === undefined || atMs < place.atMs || (atMs === place.atMs && id < place.id);
  const found = [...all].sort((a, b) => b.atMs - a.atMs || (a.id < b.id ? 1 : -1)).filter(isBehind);
  return pageOf(found, limit, ({ atMs, id }) => `${atMs}:${id}`);
}

/** The channel that the query names. */
export function channelOf(request: Request): ChannelName {
  const channel = queryText(request, 'channel');
  const fault = channel === undefined ? '`channel` is missing' : channelNameFault(channel);
  if (fault !== undefined) throw refusal('bad-name', fault, { where: '?channel' });
  return channel as ChannelName;
}

/** A cursor in a body, in its member `cursor`. */
export function cursorOf(text: string, where = '/cursor'): Place {
  const place = parseCursor(text);
  if (place === undefined) throw refusal('bad-cursor', `\`${where.slice(1)}\` is not a cursor`, { where });
  return place;
}

/** A cursor in the query. */
export function placeOf(request: Request, name: string): Place | undefined {
  const value = queryText(request, name);
  if (value === undefined) return undefined;
  const place = parseCursor(value);
  if (place === undefined) throw refusal('bad-cursor', `\`${name}\` is not a cursor`, { where: `?${name}` });
  return place;
}

/** A cursor that the query must have. */
export function requiredPlaceOf(request: Request, name: string): Place {
  const place = placeOf(request, name);
  if (place === undefined) throw refusal('bad-cursor', `\`${name}\` is missing`, { where: `?${name}` });
  return place;
}

/** Returns the number of messages to read. */
export function limitOf(request: Request): number {
  return queryWhole(request, 'limit', protocolLimits.readCount) ?? 100;
}
