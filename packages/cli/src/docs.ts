import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { ChannelRulesInfo } from '@nine-bells/wire';
import type { Command } from 'commander';
import type { Description } from './docsPages.js';
import { CommandError, exitCodes } from './exitCodes.js';
import { backendOf, type CallOptions, keyOption, urlOption } from './options.js';
import { note } from './output.js';
import { starting } from './serve.js';

interface DocsOptions extends CallOptions {
  readonly config?: string;
  readonly out: string;
}

interface Found {
  readonly name: string;
  readonly rules: ChannelRulesInfo;
  readonly openApi: Description;
  readonly asyncApi: Description;
}

/** `ninebells docs`: a reference of the channel rules, of HTTP and of the line, as files for any web server. */
export function addDocs(program: Command): void {
  program
    .command('docs')
    .description('write a reference of your channels, the HTTP interface and the line, for your team')
    .requiredOption('--out <folder>', 'where to write them')
    .option('--config <file>', 'of this configuration; by default of the service that runs')
    .addOption(urlOption())
    .addOption(keyOption())
    .action(async (options: DocsOptions) => {
      const { config, out } = options;
      const found = config === undefined ? await ofService(options) : await ofFile(config);
      const { pagesOf } = await import('./docsPages.js');
      const files = {
        ...pagesOf(found),
        'openapi.json': JSON.stringify(found.openApi, null, 2),
        'asyncapi.json': JSON.stringify(found.asyncApi, null, 2),
      };
      try {
        mkdirSync(out, { recursive: true });
        for (const [name, text] of Object.entries(files)) writeFileSync(join(out, name), text);
      } catch (error) {
        throw new CommandError(exitCodes.usage, `${out} cannot be written: ${(error as Error).message}`);
      }
      note(`${join(out, 'index.html')}: ${found.rules.rules.length} channel rules, HTTP and the line`);
    });
}

async function ofService(options: DocsOptions): Promise<Found> {
  const backend = backendOf(options);
  const rules = await backend.rules();
  const [openApi, asyncApi] = (await Promise.all([backend.openApi(), backend.asyncApi()])) as unknown as [
    Description,
    Description,
  ];
  return { name: asyncApi.info.title, rules, openApi, asyncApi };
}

async function ofFile(file: string): Promise<Found> {
  const { channelRulesOf, descriptionsOf, readConfiguration } = await import('@nine-bells/service');
  const configuration = await starting(async () => readConfiguration(file, { withoutSecrets: true }));
  const { openApi, asyncApi } = descriptionsOf(configuration);
  return {
    name: configuration.name,
    rules: channelRulesOf(configuration),
    openApi: openApi as unknown as Description,
    asyncApi: asyncApi as unknown as Description,
  };
}
