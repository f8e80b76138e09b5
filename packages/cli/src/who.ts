import type { Member, SessionInfo } from '@nine-bells/client/backend';
import { defined } from '@nine-bells/wire';
import type { Command } from 'commander';
import { CommandError, exitCodes } from './exitCodes.js';
import { noteMissing } from './instances.js';
import { backendOf, type ListOptions, listing, noteNext, pageOf } from './options.js';
import { dataText, dayTime, note, print, printable, printJson, table } from './output.js';

/** The commands that show who is there. */
export function addWho(program: Command): void {
  listing(
    program
      .command('who')
      .description('list the members of a channel, or the channels of a user')
      .argument('[channel]', 'such as race/3/chat')
      .option('--user <id>', 'where this user is, instead'),
    200,
    10_000,
  ).action(async (channel: string | undefined, options: ListOptions & { user?: string }) => {
    if ((channel === undefined) === (options.user === undefined))
      throw new CommandError(exitCodes.usage, 'say of what: a channel, or --user');
    if (channel === undefined) await whereIs(options.user as string, options);
    else await whoIsIn(channel, options);
  });

  listing(
    program
      .command('sessions')
      .description('list connected users: address, time, round trip and backlog')
      .option('--find <text>', 'those with this text in user, session, address or the name of a channel'),
    200,
  ).action(async ({ find, ...options }: ListOptions & { find?: string }) => {
    const wish = { ...pageOf(options), ...defined({ find }) };
    const { sessions, next, missing } = await backendOf(options).sessions(wish);
    if (options.json) for (const each of sessions) printJson(each);
    else if (sessions.length === 0) note(find === undefined ? 'No client is connected.' : 'No session has this in it.');
    else
      print(
        table(
          ['USER', 'SESSION', 'AT', 'VIA', 'FROM', 'SINCE', 'ROUND TRIP', 'WAITING', 'CHANNELS'],
          sessions.map(sessionRow),
        ),
      );
    noteNext(next);
    noteMissing(missing);
  });
}

async function whoIsIn(channel: string, options: ListOptions): Promise<void> {
  const { members, count, next, missing } = await backendOf(options).members(channel, pageOf(options));
  if (options.json) for (const each of members) printJson(each);
  else if (count === 0) note(`No user is in ${channel}.`);
  else print(table(['USER', 'NAME', 'SINCE', 'SESSIONS', 'STATUS'], members.map(memberRow)));
  if (next !== undefined) note(`${count} in all.`);
  noteNext(next);
  noteMissing(missing);
}

async function whereIs(user: string, options: ListOptions): Promise<void> {
  const { channels, next, missing } = await backendOf(options).memberships(user, pageOf(options));
  if (options.json) for (const each of channels) printJson(each);
  else if (channels.length === 0) note(`${user} is in no channel that shows it.`);
  else
    print(
      table(
        ['CHANNEL', 'SINCE', 'SESSIONS', 'STATUS'],
        channels.map(({ channel, member }) => [channel, ...memberRow(member).slice(2)]),
      ),
    );
  noteNext(next);
  noteMissing(missing);
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
