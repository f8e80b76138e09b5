import { mkdirSync, writeFileSync } from 'node:fs';
import { dirname, resolve } from 'node:path';
import type { ChannelRulesInfo } from '@nine-bells/wire';
import type { Command } from 'commander';
import { CommandError, exitCodes } from './exitCodes.js';
import { backendOf, type CallOptions, keyOption, urlOption } from './options.js';
import { note } from './output.js';
import { starting } from './serve.js';

interface TypesOptions extends CallOptions {
  readonly config?: string;
  readonly out?: string;
  readonly name: string;
}

/** `ninebells types`: TypeScript types of what passes through the channels. */
export function addTypes(program: Command): void {
  program
    .command('types')
    .description('write TypeScript types of your channels, for connect<Name>() and Backend<Name>')
    .option('--config <file>', 'of this configuration; by default of the service that runs')
    .option('--out <file>', 'where to write them, such as regatta.d.ts; by default they are printed')
    .option('--name <name>', 'of the type', 'Channels')
    .addOption(urlOption())
    .addOption(keyOption())
    .action(async (options: TypesOptions) => {
      const { config, out, name } = options;
      if (!/^[A-Z][A-Za-z0-9]*$/.test(name))
        throw new CommandError(exitCodes.usage, `${JSON.stringify(name)} is no name of a type: write it like Regatta`);
      const { rules, about } = config === undefined ? await ofService(options) : await ofFile(config);
      const { typesText } = await import('./typesText.js');
      const text = await typesText(rules, name, about);
      if (out === undefined) {
        process.stdout.write(text);
        return;
      }
      mkdirSync(dirname(resolve(out)), { recursive: true });
      writeFileSync(out, text);
      note(`${out}: the types of ${rules.rules.length} channel rules, as ${name}`);
    });
}

interface Found {
  readonly rules: ChannelRulesInfo;
  readonly about: string;
}

async function ofService(options: TypesOptions): Promise<Found> {
  const backend = backendOf(options);
  const [rules, { name }] = [await backend.rules(), await backend.overview().catch(() => ({ name: 'the service' }))];
  return { rules, about: `What passes through the channels of ${name}, by the patterns of their names.` };
}

async function ofFile(file: string): Promise<Found> {
  const { channelRulesOf, readConfiguration } = await import('@nine-bells/service');
  const configuration = await starting(async () => readConfiguration(file, { withoutSecrets: true }));
  return {
    rules: channelRulesOf(configuration),
    about: `What passes through the channels of ${configuration.name}, by the patterns of their names.`,
  };
}
