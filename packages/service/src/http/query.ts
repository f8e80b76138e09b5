import { type ChannelName, channelNameFault, type Place, parseCursor, protocolLimits, refusal } from '@nine-bells/wire';
import type { Request } from 'express';

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

/** The channel that the query names. */
export function channelOf(request: Request): ChannelName {
  const channel = queryText(request, 'channel');
  const fault = channel === undefined ? '`channel` is missing' : channelNameFault(channel);
  if (fault !== undefined) throw refusal('bad-name', fault, { where: '?channel' });
  return channel as ChannelName;
}

/** A cursor in the query. */
export function placeOf(request: Request, name: string): Place | undefined {
  const value = queryText(request, name);
  if (value === undefined) return undefined;
  const place = parseCursor(value);
  if (place === undefined) throw refusal('bad-cursor', `\`${name}\` is not a cursor`, { where: `?${name}` });
  return place;
}

/** How many messages to read. */
export function limitOf(request: Request): number {
  return queryWhole(request, 'limit', protocolLimits.readCount) ?? 100;
}
