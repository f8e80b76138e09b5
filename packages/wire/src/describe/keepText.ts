import type { ChannelRuleInfo } from '../channelRules.js';

export const times = [
  ['d', 86_400_000],
  ['h', 3_600_000],
  ['min', 60_000],
  ['s', 1_000],
] as const;
const sizes = [
  ['GiB', 1_073_741_824],
  ['MiB', 1_048_576],
  ['KiB', 1_024],
] as const;

/** How much of a kept logbook stays, in a few words: `90 d, at most 1,000,000 messages`. */
export function keepText({ forMs, messages, bytes }: NonNullable<ChannelRuleInfo['keep']>): string {
  return [
    ...(forMs === undefined ? [] : [amount(forMs, times, 'ms')]),
    ...(messages === undefined ? [] : [`at most ${messages.toLocaleString('en')} messages`]),
    ...(bytes === undefined ? [] : [`at most ${amount(bytes, sizes, 'B')}`]),
  ].join(', ');
}

/** In the largest unit of which it is a whole number. */
export function amount(value: number, units: readonly (readonly [string, number])[], smallest: string): string {
  const [unit, size] = units.find(([, each]) => value % each === 0) ?? [smallest, 1];
  return `${(value / size).toLocaleString('en')} ${unit}`;
}
