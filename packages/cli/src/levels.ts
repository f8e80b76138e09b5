import type { DigestChannel } from '@nine-bells/client/backend';
import type { Level } from '@nine-bells/wire';
import { Argument, type Command } from 'commander';
import { backendOf, type CallOptions, calling, duration, wholeFrom } from './options.js';
import { dayTime, note, print, printable, printJson, table } from './output.js';

/** Commands for notification levels and the digest. */
export function addLevels(program: Command): void {
  calling(
    program
      .command('level')
      .description("set a user's notification level for a channel")
      .argument('<user>', "the user's id")
      .argument('<channel>', 'such as race/3/chat')
      .addArgument(
        new Argument(
          '<level>',
          'notices of everything, of mentions alone, or of nothing; unset: as if nothing were said',
        ).choices(['everything', 'mentions', 'nothing', 'unset']),
      )
      .option('--for <time>', 'for how long, such as 8h (default: until it is changed)', duration),
  ).action(async (user: string, channel: string, level: Level | 'unset', options: CallOptions & { for?: number }) => {
    const forMs = options.for === undefined ? {} : { forMs: options.for };
    const { levels } = await backendOf(options).setLevel(user, channel, level === 'unset' ? null : level, forMs);
    if (options.json) for (const each of levels) printJson(each);
    else if (level === 'unset') print(`${user} has said nothing of ${channel}.`);
    else print(`${user} hears ${level === 'mentions' ? 'mentions' : level} of ${channel}.`);
  });

  calling(
    program.command('levels').description("list a user's notification levels").argument('<user>', "the user's id"),
  ).action(async (user: string, options: CallOptions) => {
    const { levels } = await backendOf(options).levels(user);
    if (options.json) for (const each of levels) printJson(each);
    else if (levels.length === 0) note(`${user} has set no levels.`);
    else
      print(
        table(
          ['CHANNEL', 'LEVEL', 'UNTIL'],
          levels.map(({ channel, level, until }) => [channel, level, until === undefined ? '' : dayTime(until)]),
        ),
      );
  });

  calling(
    program
      .command('digest')
      .description('show what a user has missed: counts, mentions and first lines')
      .argument('<user>', "the user's id")
      .option('--since <time>', 'only channels that had a message since then, such as 2026-07-04T16:00:00Z')
      .option('--limit <n>', 'most channels', wholeFrom(1, 100))
      .option('--lines <n>', 'most first lines of a channel', wholeFrom(0, 10)),
  ).action(async (user: string, options: CallOptions & { since?: string; limit?: number; lines?: number }) => {
    const { since, limit, lines } = options;
    const wish = { ...(since && { since }), ...(limit && { limit }), ...(lines !== undefined && { lines }) };
    const digest = await backendOf(options).digest(user, wish);
    if (options.json) printJson(digest);
    else if (digest.channels.length === 0) note(`${user} has missed nothing.`);
    else {
      for (const each of digest.channels) print(channelText(each));
      note(
        `${digest.unread} unread, ${digest.mentions} ${digest.mentions === 1 ? 'mention' : 'mentions'}${digest.more ? ', and more channels' : ''}.`,
      );
    }
  });
}

function channelText({ channel, unread, mentions, lines }: DigestChannel): string {
  const counts = [
    ...(unread === undefined ? [] : [`${unread} unread`]),
    ...(mentions === 0 ? [] : [`${mentions} ${mentions === 1 ? 'mention' : 'mentions'}`]),
  ];
  const shown = lines.map(
    ({ at, by, text, mention }) =>
      `  ${dayTime(at)}  ${printable(by?.name ?? by?.user ?? '')}${mention ? ' (to you)' : ''}: ${printable(text ?? '')}`,
  );
  return [`${channel}: ${counts.join(', ')}`, ...shown].join('\n');
}
