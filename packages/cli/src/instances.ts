import type { InstanceInfo } from '@nine-bells/client/backend';
import type { Command } from 'commander';
import { backendOf, type CallOptions, calling } from './options.js';
import { dayTime, note, print, printJson, table } from './output.js';

/** `ninebells instances`: the processes of the service, as the one that is asked knows them. */
export function addInstances(program: Command): void {
  calling(program.command('instances').description('list the instances of the service and their load')).action(
    async (options: CallOptions) => {
      const { instances } = await backendOf(options).instances();
      if (options.json) {
        for (const each of instances) printJson(each);
        return;
      }
      const isOff = instances.some(({ clockMs = 0 }) => Math.abs(clockMs) >= 1_000);
      const columns = isOff ? [...always, clockColumn] : always;
      const rows = instances.map((each) => columns.map(([, show]) => show(each)));
      print(
        table(
          columns.map(([title]) => title),
          rows,
        ),
      );
      for (const { instance, warnings } of instances)
        for (const warning of warnings ?? []) note(`${instance}: ${warning}`);
      if (instances.length === 1) note('It is alone: with a relay, several share the work (docs/scaling.md).');
    },
  );
}

type Column = readonly [title: string, show: (each: InstanceInfo) => string];

const ms = (value: number | undefined): string => (value === undefined ? '' : `${value} ms`);

const always: readonly Column[] = [
  ['INSTANCE', ({ instance, isThis }) => `${instance}${isThis ? ' *' : ''}`],
  ['AT', ({ address }) => address ?? ''],
  ['VERSION', ({ version }) => version ?? ''],
  ['SINCE', ({ since }) => dayTime(since)],
  ['CONNECTIONS', ({ connections }) => `${connections}`],
  ['CHANNELS', ({ channels }) => `${channels}`],
  ['IN/S', ({ messagesPerS }) => `${messagesPerS}`],
  ['OUT/S', ({ deliveriesPerS }) => `${deliveriesPerS}`],
  ['LOOP', ({ loopDelayMs }) => ms(loopDelayMs)],
  ['RELAY', ({ relayMs }) => ms(relayMs)],
  ['WRITER', ({ writer }) => writer ?? ''],
  ['LEASE', ({ draining, leaseMs }) => (draining ? 'draining' : leaseMs === 0 ? '' : ms(leaseMs))],
];

/** Shown where a machine's clock is off by as much as is warned of. */
const clockColumn: Column = [
  'CLOCK',
  ({ clockMs = 0 }) => (Math.abs(clockMs) < 1_000 ? '' : `${Math.round(-clockMs / 1_000)} s`),
];

/** Says which instances did not answer, if there are any: the answer lacks what they know. */
export function noteMissing(missing: readonly string[] | undefined): void {
  if (missing !== undefined && missing.length > 0) note(`Did not answer in time: ${missing.join(', ')}`);
}
