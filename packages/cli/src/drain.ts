import type { Command } from 'commander';
import { backendOf, type CallOptions, calling, duration } from './options.js';
import { print, printJson } from './output.js';

export function addDrain(program: Command): void {
  calling(
    program
      .command('drain')
      .description('shut down an instance, after its clients had time to reconnect elsewhere')
      .option('--within <time>', 'how long they have, such as 20s; without it, as the configuration says', duration),
  ).action(async (options: CallOptions & { within?: number }) => {
    const drained = await backendOf(options).drain(options.within);
    if (options.json) printJson(drained);
    else print(`It lets no client in; ${drained.connections} connection${drained.connections === 1 ? '' : 's'} to go.`);
  });
}
