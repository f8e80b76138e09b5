import type { Block } from '@nine-bells/client/backend';
import type { Command } from 'commander';
import { backendOf, type CallOptions, calling } from './options.js';
import { dayTime, note, print, printJson, table } from './output.js';

/** The commands about whom users keep away. */
export function addBlocks(program: Command): void {
  calling(
    program
      .command('block')
      .description('keep a user away from another: neither its messages nor its notices arrive')
      .argument('<user>', 'the user who is left in peace')
      .argument('<other>', 'the user who is kept away; it is not told')
      .option('--mute', 'only in channels; direct talk goes on'),
  ).action(async (user: string, other: string, options: CallOptions & { mute?: boolean }) => {
    const as = options.mute ? 'muted' : 'blocked';
    const { blocks } = await backendOf(options).block(user, other, as);
    if (options.json) for (const each of blocks) printJson(each);
    else print(`${user} has ${as} ${other}.`);
  });

  calling(
    program
      .command('unblock')
      .description('end that a user keeps another away')
      .argument('<user>', 'the user who is left in peace')
      .argument('<other>', 'the user who is kept away'),
  ).action(async (user: string, other: string, options: CallOptions) => {
    const { blocks } = await backendOf(options).block(user, other, null);
    if (options.json) for (const each of blocks) printJson(each);
    else print(`${user} hears ${other} again.`);
  });

  calling(
    program.command('blocks').description('list whom a user keeps away').argument('<user>', "the user's id"),
  ).action(async (user: string, options: CallOptions) => {
    const { blocks } = await backendOf(options).blocks(user);
    if (options.json) for (const each of blocks) printJson(each);
    else if (blocks.length === 0) note(`${user} keeps no user away.`);
    else print(table(['USER', 'AS', 'SINCE'], blocks.map(blockRow)));
  });
}

function blockRow({ user, as, at }: Block): string[] {
  return [user, as, dayTime(at)];
}
