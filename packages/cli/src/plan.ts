import type { Command } from 'commander';
import { wholeFrom } from './options.js';
import { note, print, printJson, table } from './output.js';
import { type Load, measured, type Plan, planOf } from './planning.js';

/** `ninebells plan`: what a load asks for, by the arithmetic of docs/scaling.md. Calls no service. */
export function addPlan(program: Command): void {
  program
    .command('plan')
    .description('estimate the resources for a load: deliveries, bytes, instances, relay')
    .requiredOption('--connections <n>', 'connections that are open at a time', wholeFrom(1, 1_000_000_000))
    .requiredOption('--messages <n>', 'messages published in a second, over all channels', wholeFrom(1, 1_000_000_000))
    .requiredOption('--members <n>', 'sessions that get a message, on average', wholeFrom(1, 1_000_000_000))
    .option('--bytes <n>', 'bytes of a message on the line', wholeFrom(1, 10_000_000), 300)
    .option('--instances <n>', 'with so many instances, enough or not', wholeFrom(1, 100_000))
    .option(
      '--deliveries <n>',
      'deliveries in a second that one instance can do at most, as measured on your machine',
      wholeFrom(1, 1_000_000_000),
      measured.deliveriesPerS,
    )
    .option('--json', 'one JSON object, for scripts')
    .action((options: PlanOptions) => {
      const load: Load = {
        connections: options.connections,
        messagesPerS: options.messages,
        members: options.members,
        messageBytes: options.bytes,
        instances: options.instances,
      };
      const plan = planOf(load, { ...measured, deliveriesPerS: options.deliveries });
      if (options.json) printJson(plan);
      else show(load, plan);
    });
}

interface PlanOptions {
  readonly connections: number;
  readonly messages: number;
  readonly members: number;
  readonly bytes: number;
  readonly instances?: number;
  readonly deliveries: number;
  readonly json?: boolean;
}

function show(load: Load, plan: Plan): void {
  const { perInstance: each, relay } = plan;
  print(
    `${whole(load.messagesPerS)} messages/s, each to ${whole(load.members)}: ${whole(plan.deliveriesPerS)} deliveries/s, ${bytes(plan.bytesOutPerS)}/s out`,
  );
  const why =
    plan.because === 'wished'
      ? 'as wished'
      : plan.because === 'one is enough'
        ? plan.because
        : `for the ${plan.because}`;
  print(`${whole(plan.instances)} ${plan.instances === 1 ? 'instance' : 'instances'} (${why})`);
  print('');
  print(
    table(
      ['OF EACH INSTANCE', 'A SECOND, OR AT A TIME', 'OF WHAT IS PLANNED WITH'],
      [
        ['connections', whole(each.connections), percent(each.ofConnections)],
        ['deliveries', whole(each.deliveriesPerS), percent(each.ofDeliveries)],
        ['bytes out', bytes(each.bytesOutPerS), ''],
        ['messages from the relay', whole(each.textsInPerS), plan.instances === 1 ? '' : percent(each.ofTexts)],
        ['memory', bytes(each.memoryBytes), ''],
      ],
    ),
  );
  if (plan.instances > 1) {
    print('');
    print(
      `Relay: ${whole(load.messagesPerS)} messages/s in, each to ${relay.instancesPerMessage.toFixed(1)} instances: ${whole(relay.textsOutPerS)} texts/s, ${bytes(relay.bytesOutPerS)}/s out; ${whole(relay.processes)} Redis ${relay.processes === 1 ? 'process' : 'processes'}`,
    );
  }
  const over = [each.ofConnections, each.ofDeliveries, each.ofTexts].some((part) => part > 1);
  if (over)
    note('That is more than what is planned with: more instances, fewer members to a channel, or larger bursts.');
  note('Planned with half of what was measured on two cores of 2.5 GHz; measure yours: docs/scaling.md.');
}

function whole(value: number): string {
  return Math.ceil(value).toLocaleString('en');
}

function percent(part: number): string {
  return `${Math.round(part * 100)}%`;
}

const units = ['B', 'kB', 'MB', 'GB', 'TB'] as const;

function bytes(value: number): string {
  const power = Math.min(units.length - 1, value < 1 ? 0 : Math.floor(Math.log10(value) / 3));
  const scaled = value / 1000 ** power;
  return `${scaled < 10 && power > 0 ? scaled.toFixed(1) : Math.round(scaled)} ${units[power]}`;
}
