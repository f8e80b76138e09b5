import { carriedLine, type LogSlice, readCarriedLine } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';

/** A stretch of a record as it passes from process to process: its messages as number and line. */
export interface CarriedSlice extends Omit<LogSlice, 'messages'> {
  readonly volume: string;
  readonly lines: readonly (readonly [number, string])[];
}

export function carriedSlice({ messages, ...rest }: LogSlice): CarriedSlice {
  const lines = messages.map((each) => [each.place.number, carriedLine(each)] as const);
  return { ...rest, volume: messages[0]?.place.volume ?? '', lines };
}

export function sliceOf(channel: ChannelName, { lines, volume, ...rest }: CarriedSlice): LogSlice {
  return { ...rest, messages: lines.map(([number, line]) => readCarriedLine(channel, { volume, number }, line)) };
}
