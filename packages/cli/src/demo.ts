import { dirname } from 'node:path';
import type { RunningService } from '@nine-bells/service';
import type { Command } from 'commander';
import { CommandError, exitCodes } from './exitCodes.js';
import { dataOption, portOption, workersOption } from './options.js';
import { print } from './output.js';
import { starting, untilInterrupted } from './serve.js';
import { showLink } from './showLink.js';

interface DemoOptions {
  readonly port?: number;
  readonly data?: string;
  readonly quiet?: boolean;
  readonly workers: number;
}

/** What the demo's package exports. */
interface DemoModule {
  startDemo(options: DemoOptions): Promise<{ service: RunningService; keyFile: string; stop(): Promise<void> }>;
}

export function addDemo(program: Command): void {
  program
    .command('demo')
    .description('start the service with the Gannet Sound Regatta: simulated people and a page to join them')
    .addOption(portOption())
    .addOption(dataOption())
    .addOption(workersOption().default(2))
    .option('--quiet', 'without simulated people')
    .action(async (options: DemoOptions) => {
      const started = Date.now();
      // Named this way so that the command line can be installed without the demo.
      const name = '@nine-bells/demo';
      const { startDemo }: DemoModule = await import(name).catch(() => {
        throw new CommandError(
          exitCodes.failed,
          'the demo is not installed here',
          'run it from the project: npm run demo',
        );
      });
      const demo = await starting(() => startDemo(options));
      const { service, keyFile } = demo;
      print('');
      print(
        `Gannet Sound Regatta is on, at ${service.url} (started in ${((Date.now() - started) / 1000).toFixed(1)} s)`,
      );
      print('');
      print(`  Two people talk      ${service.url}/regatta`);
      print(`  Console, signed in   ${await showLink(service, dirname(keyFile))}`);
      print('                       (good once, for 15 minutes)');
      print('');
      print('  Try, in another terminal:');
      print(`    export NINEBELLS_URL=${service.url} NINEBELLS_KEY=$(cat ${keyFile})`);
      print('    npx ninebells listen race/3/chat --last 5');
      print(`    npx ninebells publish race/3/chat --text "Petrel has rounded the mark" --by mira:"Mira Holt"`);
      print('');
      print('  Ctrl-C ends it.');
      await untilInterrupted(service, () => demo.stop());
    });
}
