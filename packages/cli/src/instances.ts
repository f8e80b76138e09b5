import type { InstanceInfo } from '@nine-bells/client/backend';
import type { Command } from 'commander';
import { backendOf, type CallOptions, jsonOption, keyOption, urlOption } from './options.js';
import { dayTime, note, print, printJson, table } from './output.js';

/** `ninebells instances`: the processes of the service, as the one that is asked knows them. */
export function addInstances(program: Command): void {
  program
    .command('instances')
    .description('list the instances of the service: where, since when, how busy')
    .addOption(urlOption())
    .addOption(keyOption())
    .addOption(jsonOption())
    .action(async (options: CallOptions) => {
      const { instances } = await backendOf(options).instances();
      if (options.json) {
        for (const each of instances) printJson(each);
        return;
      }
      const head = [
        'INSTANCE',
        'AT',
        'VERSION',
        'SINCE',
        'CONNECTIONS',
        'CHANNELS',
        'IN/S',
        'OUT/S',
        'LOOP',
        'RELAY',
        'CLOCK',
        'LEASE',
      ];
      print(table(head, instances.map(row)));
      for (const { instance, warnings } of instances)
        for (const warning of warnings ?? []) note(`${instance}: ${warning}`);
      if (instances.length === 1) note('It is alone: with a relay, several share the work (docs/scaling.md).');
    });
}

function row(each: InstanceInfo): readonly string[] {
  const { instance, isThis, address, version, since, connections, channels, draining } = each;
  const ms = (value: number | undefined): string => (value === undefined ? '' : `${value} ms`);
  return [
    `${instance}${isThis ? ' *' : ''}`,
    address ?? '',
    version ?? '',
    dayTime(since),
    `${connections}`,
    `${channels}`,
    `${each.messagesPerS}`,
    `${each.deliveriesPerS}`,
    ms(each.loopDelayMs),
    ms(each.relayMs),
    clock(each.clockMs),
    draining ? 'draining' : each.leaseMs === 0 ? '' : ms(each.leaseMs),
  ];
}

/** By how much the machine's clock is wrong; an instance without a relay has no other to compare it with. */
function clock(clockMs: number | undefined): string {
  if (clockMs === undefined || clockMs === 0) return '';
  return Math.abs(clockMs) < 1_000 ? `${-clockMs} ms` : `${-Math.round(clockMs / 1_000)} s`;
}

/** Says which instances did not answer, if there are any: the answer lacks what they know. */
export function noteMissing(missing: readonly string[] | undefined): void {
  if (missing !== undefined && missing.length > 0) note(`Did not answer in time: ${missing.join(', ')}`);
}
