import type { Member, SessionInfo } from '@nine-bells/client/backend';
import { defined } from '@nine-bells/wire';
import type { Command } from 'commander';
import { CommandError, exitCodes } from './exitCodes.js';
import { noteMissing } from './instances.js';
import { backendOf, type CallOptions, jsonOption, keyOption, urlOption, wholeFrom } from './options.js';
import { dataText, dayTime, note, print, printable, printJson, table } from './output.js';

type WhoOptions = CallOptions & { limit: number; after?: string };

/** The commands that show who is there. */
export function addWho(program: Command): void {
  program
    .command('who')
    .description('list who is in a channel, or where a user is')
    .argument('[channel]', 'such as race/3/chat')
    .option('--user <id>', 'where this user is, instead')
    .option('--limit <n>', 'at most n', wholeFrom(1, 10_000), 200)
    .option('--after <place>', 'start behind this place, from the previous page')
    .addOption(urlOption())
    .addOption(keyOption())
    .addOption(jsonOption())
    .action(async (channel: string | undefined, options: WhoOptions & { user?: string }) => {
      if ((channel === undefined) === (options.user === undefined))
        throw new CommandError(exitCodes.usage, 'say of what: a channel, or --user');
      if (channel === undefined) await whereIs(options.user as string, options);
      else await whoIsIn(channel, options);
    });

  program
    .command('sessions')
    .description('list connected users: address, time, round trip and backlog')
    .option('--find <text>', 'those with this text in user, session, address or the name of a channel')
    .option('--limit <n>', 'at most n, the latest last', wholeFrom(1, 1000), 200)
    .addOption(urlOption())
    .addOption(keyOption())
    .addOption(jsonOption())
    .action(async ({ limit, find, ...options }: CallOptions & { limit: number; find?: string }) => {
      const { sessions, more, missing } = await backendOf(options).sessions({ limit, ...defined({ find }) });
      if (options.json) for (const each of sessions) printJson(each);
      else if (sessions.length === 0)
        note(find === undefined ? 'No client is connected.' : 'No session has this in it.');
      else
        print(
          table(
            ['USER', 'SESSION', 'AT', 'VIA', 'FROM', 'SINCE', 'ROUND TRIP', 'WAITING', 'CHANNELS'],
            sessions.map(sessionRow),
          ),
        );
      if (more && !options.json) note('There are more: --limit');
      noteMissing(missing);
    });
}

async function whoIsIn(channel: string, options: WhoOptions): Promise<void> {
  const { members, count, after, missing } = await backendOf(options).members(channel, pageOf(options));
  if (options.json) for (const each of members) printJson(each);
  else if (count === 0) note(`No user is in ${channel}.`);
  else print(table(['USER', 'NAME', 'SINCE', 'SESSIONS', 'STATUS'], members.map(memberRow)));
  if (after !== undefined) note(`${count} in all. Next page: --after ${after}`);
  noteMissing(missing);
}

async function whereIs(user: string, options: WhoOptions): Promise<void> {
  const { channels, after, missing } = await backendOf(options).memberships(user, pageOf(options));
  if (options.json) for (const each of channels) printJson(each);
  else if (channels.length === 0) note(`${user} is in no channel that shows it.`);
  else
    print(
      table(
        ['CHANNEL', 'SINCE', 'SESSIONS', 'STATUS'],
        channels.map(({ channel, member }) => [channel, ...memberRow(member).slice(2)]),
      ),
    );
  if (after !== undefined) note(`Next page: --after ${after}`);
  noteMissing(missing);
}

function pageOf({ limit, after }: WhoOptions): { limit: number; after?: string } {
  return { limit, ...defined({ after }) };
}

function memberRow({ user, name, guest, since, sessions, status, data }: Member): string[] {
  return [
    printable(user),
    `${printable(name ?? '')}${guest ? ' (guest)' : ''}`,
    dayTime(since),
    String(sessions),
    [status ?? 'available', ...(data === undefined ? [] : [data])]
      .map((each) => (typeof each === 'string' ? each : dataText(each)))
      .join(' '),
  ];
}

function sessionRow({
  user,
  name,
  session,
  instance,
  transport,
  remote,
  since,
  roundTripMs,
  waitingBytes,
  channels,
}: SessionInfo): string[] {
  return [
    printable(name ?? user),
    session,
    instance,
    transport,
    remote ?? '',
    dayTime(since),
    roundTripMs === undefined ? '' : `${roundTripMs} ms`,
    `${waitingBytes} B`,
    channels.length > 2 ? `${channels.length} channels` : channels.join(' '),
  ];
}
