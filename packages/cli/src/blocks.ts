import type { Block } from '@nine-bells/client/backend';
import type { Command } from 'commander';
import { backendOf, type CallOptions, calling } from './options.js';
import { dayTime, note, print, printJson, table } from './output.js';

/** Commands for blocks and mutes. */
export function addBlocks(program: Command): void {
  calling(
    program
      .command('block')
      .description('block a user for another user: no messages and notices arrive')
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
      .description('end a block or mute')
      .argument('<user>', 'the user who is left in peace')
      .argument('<other>', 'the user who is kept away'),
  ).action(async (user: string, other: string, options: CallOptions) => {
    const { blocks } = await backendOf(options).block(user, other, null);
    if (options.json) for (const each of blocks) printJson(each);
    else print(`${user} hears ${other} again.`);
  });

  calling(
    program.command('blocks').description('list the blocks and mutes of a user').argument('<user>', "the user's id"),
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
