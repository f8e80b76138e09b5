import { protocolLimits } from './limits.js';

declare const channelNameBrand: unique symbol;

/**
 * The name of a channel: a path of one or more segments joined by `/`, such as `race/3/chat`.
 *
 * A segment holds ASCII letters, digits and `- . _ ~ @ + = , :`; it does not begin with `:` (that is how a pattern
 * writes a parameter) and is not `.` or `..`.
 */
export type ChannelName = string & { readonly [channelNameBrand]: true };

const segmentPattern = /^[A-Za-z0-9\-._~@+=,][A-Za-z0-9\-._~@+=,:]*$/;
/** A whole name: segments, none of them `.` or `..`. */
const namePattern = /^(?:(?!\.{1,2}(?:\/|$))[A-Za-z0-9\-._~@+=,][A-Za-z0-9\-._~@+=,:]*(?:\/(?!$)|$))+$/;

/** Says what is wrong with a channel name, for people, or `undefined` if nothing is. */
export function channelNameFault(name: string): string | undefined {
  if (name.length === 0) return 'a channel name has at least one character';
  if (name.length > protocolLimits.channelNameChars)
    return `a channel name has at most ${protocolLimits.channelNameChars} characters, this one has ${name.length}`;
  // The most frequent case by far, and hot.
  if (namePattern.test(name)) return undefined;
  for (const segment of name.split('/')) {
    if (segment === '') return 'a channel name has no empty segment: no "/" at either end, and no "//"';
    if (segment === '.' || segment === '..') return 'a segment of a channel name is not "." or ".."';
    if (segment.startsWith(':'))
      return `a segment of a channel name does not begin with ":"; ${JSON.stringify(segment)} looks like a pattern's parameter`;
    if (!segmentPattern.test(segment))
      return `a segment of a channel name holds letters, digits and - . _ ~ @ + = , : only, unlike ${JSON.stringify(segment)}`;
  }
  return undefined;
}

export function isChannelName(name: string): name is ChannelName {
  return channelNameFault(name) === undefined;
}

/**
 * The given text as a channel name.
 *
 * @throws {RangeError} saying what is wrong with it
 */
export function channelName(text: string): ChannelName {
  const fault = channelNameFault(text);
  if (fault !== undefined) throw new RangeError(fault);
  return text as ChannelName;
}
