import type { Command } from 'commander';
import { backendOf, type CallOptions, duration, jsonOption, keyOption, urlOption } from './options.js';
import { print, printJson } from './output.js';

export function addDrain(program: Command): void {
  program
    .command('drain')
    .description('end an instance, after its clients had time to go elsewhere')
    .option('--within <time>', 'how long they have, such as 20s; without it, as the configuration says', duration)
    .addOption(urlOption())
    .addOption(keyOption())
    .addOption(jsonOption())
    .action(async (options: CallOptions & { within?: number }) => {
      const drained = await backendOf(options).drain(options.within);
      if (options.json) printJson(drained);
      else
        print(`It lets no client in; ${drained.connections} connection${drained.connections === 1 ? '' : 's'} to go.`);
    });
}
