import type { Traffic, TrafficFigures } from '@nine-bells/client/backend';
import type { Command } from 'commander';
import { noteMissing } from './instances.js';
import { backendOf, type CallOptions, calling } from './options.js';
import { note, print, printJson, table } from './output.js';

/** `ninebells traffic`: messages and changes in, deliveries out, merged changes, and the savings of a board. */
export function addTraffic(program: Command): void {
  calling(
    program.command('traffic').description('show messages in and out by rule and channel, and the savings of a board'),
  ).action(async (options: CallOptions) => {
    const traffic = await backendOf(options).traffic();
    if (options.json) printJson(traffic);
    else show(traffic);
  });
}

function show({ rules, channels, channelsForMs, minutesForMs, frames, writes, missing }: Traffic): void {
  if (rules.length === 0) {
    note('Nothing has gone through any channel in the last hour.');
    return;
  }
  const head = ['MESSAGES/S', 'CHANGES/S', 'MERGED', 'DELIVERIES/S', 'OUT PER IN', 'OUT'];
  const ruleRows = rules.map((each) => [each.pattern, ...cellsOf(each, minutesForMs)]);
  print(table(['RULE', ...head], ruleRows));
  note(`In the last ${spanText(minutesForMs)}.`);
  print('');
  const channelRows = channels.map((each) => [each.channel, String(each.recipients), ...cellsOf(each, channelsForMs)]);
  print(table(['CHANNEL', 'CLIENTS', ...head], channelRows));
  note(`In the last ${spanText(channelsForMs)}.`);
  if (writes > 0) note(`${(frames / writes).toFixed(1)} frames in each write to a connection, since the start.`);
  for (const each of channels) if (each.advice !== undefined) print(adviceText(each, each.advice));
  noteMissing(missing);
}

type Channel = Traffic['channels'][number];

function adviceText({ channel, pattern, recipients }: Channel, advice: NonNullable<Channel['advice']>): string {
  const { type, entry, perS, entries, framesPerS } = advice;
  const saved = Math.round((1 - framesPerS / perS) * 100);
  const values = entries === 1 ? 'one value' : `${entries} values`;
  return [
    '',
    `${channel}: ${Math.round(perS)} messages a second of the type ${type} replace ${values} again and again.`,
    `As a board they would be ${Math.round(framesPerS * recipients)} deliveries a second in place of ${Math.round(perS * recipients)}: ${saved}% less. In the rule ${pattern}:`,
    '    board:',
    `      types: { ${type}: { entry: ${entry} } }`,
  ].join('\n');
}

function spanText(ms: number): string {
  return ms < 90_000 ? `${Math.round(ms / 1000)} s` : `${Math.round(ms / 60_000)} minutes`;
}

function cellsOf({ messages, changes, merged, deliveries, bytes }: TrafficFigures, forMs: number): string[] {
  const perS = (count: number): string => ((count * 1000) / forMs).toFixed(1);
  const incoming = messages + changes;
  return [
    perS(messages),
    perS(changes),
    changes === 0 ? '' : `${Math.round((merged / changes) * 100)}%`,
    perS(deliveries),
    incoming === 0 ? '' : (deliveries / incoming).toFixed(1),
    `${((bytes * 1000) / forMs / 1024).toFixed(1)} KiB/s`,
  ];
}
