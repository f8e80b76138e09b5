import { defined, type Json } from '@nine-bells/wire';
import type { Command } from 'commander';
import { CommandError, exitCodes } from './exitCodes.js';
import { backendOf, type CallOptions, calling, duration } from './options.js';
import { dataText, note, print, printable, printJson, table } from './output.js';

interface SetOptions extends CallOptions {
  readonly remove?: boolean;
  readonly for?: number;
  readonly ifVersion?: string;
}

/** The commands about the boards of channels. */
export function addBoards(program: Command): void {
  calling(
    program
      .command('set')
      .description("set an entry of a channel's board, as an application")
      .argument('<channel>', 'such as race/3/positions')
      .argument('<entry>', 'such as petrel')
      .argument('[value]', 'the value, as JSON')
      .option('--remove', 'remove the entry instead')
      .option('--for <time>', 'how long it lives, such as 90s', duration)
      .option('--if-version <version>', 'only if it has not changed since then; none: only if there is no such entry'),
  ).action(async (channel: string, entry: string, value: string | undefined, options: SetOptions) => {
    const { ifVersion } = options;
    const condition = ifVersion === undefined ? {} : { ifVersion: ifVersion === 'none' ? null : ifVersion };
    const set = { [entry]: givenValue(value, options.remove === true) };
    const answer = await backendOf(options).setEntries({
      channel,
      set,
      ...defined({ forMs: options.for }),
      ...condition,
    });
    const [result] = answer.entries;
    if (options.json) printJson({ channel, ...result });
    else if (result !== undefined && 'version' in result)
      print(`${options.remove ? 'Removed' : 'Set'} ${entry} in ${channel}, which is at ${result.version} now`);
  });

  calling(
    program
      .command('board')
      .description("list the entries of a channel's board")
      .argument('<channel>', 'such as race/3/positions'),
  ).action(async (channel: string, options: CallOptions) => {
    const { entries, version } = await backendOf(options).board(channel);
    if (options.json) for (const each of entries) printJson(each);
    else if (entries.length === 0) note(`Nothing is on the board of ${channel}.`);
    else
      print(
        table(
          ['ENTRY', 'VERSION', 'SET BY', 'UNTIL', 'VALUE'],
          entries.map((each) => [
            each.entry,
            each.version,
            printable(each.by ?? '(application)'),
            untilText(each.leftMs, each.session),
            dataText(each.value),
          ]),
        ),
      );
    if (!options.json && version !== undefined) note(`The board is at ${version}.`);
  });
}

function untilText(leftMs: number | undefined, session: string | undefined): string {
  return [
    ...(leftMs === undefined ? [] : [`in ${Math.ceil(leftMs / 1000)} s`]),
    ...(session === undefined ? [] : [`${session} leaves`]),
  ].join(', or ');
}

function givenValue(value: string | undefined, isRemoved: boolean): Json {
  if (isRemoved !== (value === undefined))
    throw new CommandError(
      exitCodes.usage,
      'give the value as JSON, or --remove',
      'words are JSON in quotes: \'"afloat"\'',
    );
  if (value === undefined) return null;
  try {
    return JSON.parse(value) as Json;
  } catch (error) {
    throw new CommandError(
      exitCodes.usage,
      `the value is not JSON: ${(error as Error).message}`,
      'words are JSON in quotes: \'"afloat"\'',
    );
  }
}
