import type { Command } from 'commander';
import { dataOption, jsonOption } from './options.js';
import { print, printJson } from './output.js';
import { starting } from './serve.js';

interface CheckOptions {
  readonly config: string;
  readonly data?: string;
  readonly json?: boolean;
}

/** `ninebells check`: reads a configuration as a start does, without starting. */
export function addCheck(program: Command): void {
  program
    .command('check')
    .description('check a configuration: all mistakes, and settings that cannot work')
    .requiredOption('--config <file>', 'the configuration, such as bells.yaml')
    .addOption(dataOption())
    .addOption(jsonOption())
    .action(async ({ config, data, json }: CheckOptions) => {
      const { configurationWarnings, readConfiguration } = await import('@nine-bells/service');
      const configuration = await starting(async () => readConfiguration(config, { data }));
      const warnings = await configurationWarnings(configuration);
      if (json) {
        printJson({ ok: true, warnings });
        return;
      }
      for (const warning of warnings) print(`warning: ${warning}`);
      const rules = configuration.channels.length;
      const found = warnings.length === 0 ? '' : `, ${warnings.length} warning${warnings.length === 1 ? '' : 's'}`;
      print(`${config} has no mistakes: ${rules} channel rule${rules === 1 ? '' : 's'}${found}`);
      if (configuration.database !== undefined || configuration.relay !== undefined)
        print('The database and the relay were not contacted.');
    });
}
