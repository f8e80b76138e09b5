import type { ChannelInfo, Reading } from '@nine-bells/client/backend';
import { defined } from '@nine-bells/wire';
import type { Command } from 'commander';
import { countsText } from './changes.js';
import { backendOf, type CallOptions, calling, wholeFrom } from './options.js';
import { clockTime, messageLine, note, print, printJson, table } from './output.js';

export function addChannels(program: Command): void {
  calling(
    program
      .command('channels')
      .description('list channels: published to and kept, or entered now')
      .option('--find <text>', 'those with this text in their names'),
  ).action(async (options: CallOptions & { find?: string }) => {
    const backend = backendOf(options);
    const all: ChannelInfo[] = [];
    let after: string | undefined;
    do {
      const page = await backend.channels({ limit: 1000, ...defined({ after, find: options.find }) });
      all.push(...page.channels);
      after = page.next;
    } while (after !== undefined);
    if (options.json) for (const each of all) printJson(each);
    else if (all.length === 0)
      note(
        options.find === undefined
          ? 'No channel has been published to or entered yet.'
          : 'No channel has this in its name.',
      );
    else print(table(['CHANNEL', 'LOGBOOK', 'ENTERED', 'STANDS AT', 'LAST'], all.map(rowOf)));
  });
}

interface ReadOptions {
  readonly after?: string;
  readonly before?: string;
  readonly thread?: string;
  readonly limit: number;
}

export function addRead(program: Command): void {
  calling(
    program
      .command('read')
      .description("read messages from a channel's record")
      .argument('<channel>', 'such as race/3/chat')
      .option('--after <cursor>', 'the messages after this cursor')
      .option('--before <cursor>', 'the last messages before this cursor')
      .option('--thread <cursor>', 'only the thread that begins with this message')
      .option('--limit <n>', 'at most n messages', wholeFrom(1, 1000), 20),
  ).action(async (channel: string, options: CallOptions & ReadOptions) => {
    const { after, before, thread, limit } = options;
    const reading = await backendOf(options).read(channel, {
      limit,
      ...defined({ after, before, thread }),
    });
    if (reading.gap !== undefined) note(`messages after ${reading.gap.after} are gone (${reading.gap.why})`);
    const { counts = {} } = reading.reactions ?? {};
    for (const message of reading.messages) {
      const reacted = counts[message.cursor];
      if (options.json) printJson(reacted === undefined ? message : { ...message, reactions: reacted });
      else print(`${messageLine(message, false)}${reacted === undefined ? '' : ` [${countsText(reacted)}]`}`);
    }
    for (const message of reading.changes ?? [])
      if (options.json) printJson(message);
      else print(messageLine(message, false));
    if (reading.messages.length === 0 && reading.changes === undefined)
      note(`Nothing there; ${channel} stands at ${reading.cursor}.`);
    else if (reading.more) note(moreHint(reading, after !== undefined));
  });
}

export function addConsole(program: Command): void {
  calling(
    program
      .command('console')
      .description('print a link that signs in to the console, once')
      .option('--look', 'the link lets one look, and do nothing'),
  ).action(async (options: CallOptions & { look?: boolean }) => {
    const link = await backendOf(options).signInLink({ looksOnly: options.look === true });
    if (options.json) printJson(link);
    else print(link.url);
  });
}

function moreHint({ messages, upTo }: Reading, forward: boolean): string {
  return forward
    ? `There are later ones: --after ${upTo ?? messages.at(-1)?.cursor}`
    : `There are earlier ones: --before ${upTo ?? messages[0]?.cursor}`;
}

function rowOf({ channel, logbook, entered, cursor, lastAt }: ChannelInfo): string[] {
  return [
    channel,
    logbook ?? '(no rule)',
    String(entered),
    cursor ?? '',
    lastAt === undefined ? '' : clockTime(lastAt),
  ];
}
