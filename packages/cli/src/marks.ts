import { defined } from '@nine-bells/wire';
import type { Command } from 'commander';
import { backendOf, type CallOptions, calling } from './options.js';
import { dayTime, note, print, printJson, table } from './output.js';

/** Commands for read marks, unread counts and threads. */
export function addMarks(program: Command): void {
  calling(
    program.command('unread').description("show a user's unread counts by channel").argument('<user>', "the user's id"),
  ).action(async (user: string, options: CallOptions) => {
    const { unread, channels } = await backendOf(options).unread(user);
    if (options.json) for (const each of channels) printJson(each);
    else if (channels.length === 0) note(`${user} has no read marks.`);
    else {
      print(
        table(
          ['CHANNEL', 'UNREAD', 'READ UP TO'],
          channels.map((each) => [each.channel, String(each.unread), each.cursor ?? '']),
        ),
      );
      note(`${unread} in all.`);
    }
  });

  calling(
    program
      .command('threads')
      .description("list a user's threads with unread counts")
      .argument('<user>', "the user's id"),
  ).action(async (user: string, options: CallOptions) => {
    const { threads } = await backendOf(options).threads(user);
    if (options.json) for (const each of threads) printJson(each);
    else if (threads.length === 0) note(`${user} takes part in no thread.`);
    else
      print(
        table(
          ['CHANNEL', 'THREAD', 'UNREAD', 'REPLIES', 'LAST', 'READ UP TO'],
          threads.map((each) => [
            ...[each.channel, each.thread, String(each.unread), String(each.count)],
            ...[dayTime(each.at), each.cursor],
          ]),
        ),
      );
  });

  calling(
    program
      .command('marks')
      .description('list the read marks of a channel')
      .argument('<channel>', 'such as race/3/chat'),
  ).action(async (channel: string, options: CallOptions) => {
    const backend = backendOf(options);
    const marks: Awaited<ReturnType<typeof backend.marks>>['marks'][number][] = [];
    let after: string | undefined;
    do {
      const page = await backend.marks(channel, { limit: 10_000, ...defined({ after }) });
      marks.push(...page.marks);
      after = page.next;
    } while (after !== undefined);
    if (options.json) for (const each of marks) printJson(each);
    else if (marks.length === 0) note(`No user has a read mark in ${channel}.`);
    else
      print(
        table(
          ['USER', 'READ UP TO'],
          marks.map(({ user, cursor }) => [user, cursor]),
        ),
      );
  });
}
