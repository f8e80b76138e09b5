import type { Actor, AuditEntry, Ban, Effect, MessageReport, Silence } from '@nine-bells/client/backend';
import { defined, type PendingMessage } from '@nine-bells/wire';
import { type Command, Option } from 'commander';
import { CommandError, exitCodes } from './exitCodes.js';
import {
  backendOf,
  type CallOptions,
  calling,
  duration,
  type ListOptions,
  listing,
  noteNext,
  pageOf,
} from './options.js';
import { dayTime, note, print, printable, printJson, table } from './output.js';

interface ModerationOptions extends CallOptions {
  readonly reason?: string;
}

const reasonOption = (): Option =>
  new Option('--reason <words>', 'why: told to whom it concerns, and in the audit log');

/** Commands of moderation, and the audit log. */
export function addModeration(program: Command): void {
  calling(
    program
      .command('remove')
      .description("end a user's stay in a channel")
      .argument('<channel>', 'such as protest/7')
      .argument('<user>', "the user's id")
      .option('--ban <time>', 'and let it not come back for so long, such as 10m', duration)
      .addOption(reasonOption()),
  ).action(async (channel: string, user: string, options: ModerationOptions & { ban?: number }) => {
    const { ban: banMs, reason } = options;
    const effect = await backendOf(options).remove({ channel, user, ...defined({ banMs, reason }) });
    tell(effect, options, `Removed ${user} from ${channel}${untilText(effect, ', out')}`);
  });

  calling(
    program
      .command('ban')
      .description('ban a user, or all clients of an address')
      .argument('[user]', "the user's id; guests have ids too")
      .option('--address <address>', 'an address or a range such as 192.0.2.0/24, instead of a user')
      .option('--channel <channel>', 'of this channel; without it, of the whole service')
      .option('--for <time>', 'for so long, such as 12h; without it, until it is lifted', duration)
      .addOption(reasonOption()),
  ).action(
    async (
      user: string | undefined,
      options: ModerationOptions & { address?: string; channel?: string; for?: number },
    ): Promise<void> => {
      const { address, channel, for: forMs, reason } = options;
      if ((user === undefined) === (address === undefined))
        throw new CommandError(exitCodes.usage, 'say whom: a user, or --address');
      const effect = await backendOf(options).ban(defined({ user, address, channel, forMs, reason }));
      const place = channel === undefined ? 'the service' : channel;
      tell(
        effect,
        options,
        `Banned ${user ?? effect.address ?? address} from ${place}${untilText(effect, '', ' until it is lifted')}`,
      );
      if (!options.json) note(`\`ninebells unban ${effect.id}\` ends it before its time.`);
    },
  );

  listing(
    program
      .command('bans')
      .description('list the bans in force')
      .option('--user <id>', 'of this user')
      .option('--channel <channel>', 'from this channel'),
    100,
  ).action(async (options: ListOptions & { user?: string; channel?: string }) => {
    const { user, channel } = options;
    const { bans, next } = await backendOf(options).bans({ ...pageOf(options), ...defined({ user, channel }) });
    if (options.json) for (const each of bans) printJson(each);
    else if (bans.length === 0) note('No bans are in force.');
    else print(table(['ID', 'WHOM', 'FROM', 'UNTIL', 'BY', 'WHY'], bans.map(banRow)));
    noteNext(next);
  });

  calling(
    program
      .command('unban')
      .description('end a ban before its time')
      .argument('<id>', 'as `ninebells bans` shows it')
      .addOption(reasonOption()),
  ).action(async (id: string, options: ModerationOptions) => {
    const effect = await backendOf(options).unban(id, options.reason);
    tell(effect, options, `Lifted the ban ${id}`, false);
  });

  calling(
    program
      .command('silence')
      .description('silence a user: they can read, but not write')
      .argument('<user>', "the user's id")
      .option('--channel <channel>', 'in this channel; without it, in the whole service')
      .option('--every <time>', 'let it publish once in this time, such as 30s; without it, not at all', duration)
      .option('--for <time>', 'for so long, such as 10m; without it, until it is ended', duration)
      .addOption(reasonOption()),
  ).action(
    async (
      user: string,
      options: ModerationOptions & { channel?: string; every?: number; for?: number },
    ): Promise<void> => {
      const { channel, every: everyMs, for: forMs, reason } = options;
      const effect = await backendOf(options).silence({ user, ...defined({ channel, everyMs, forMs, reason }) });
      const place = channel === undefined ? 'everywhere' : `in ${channel}`;
      const how = everyMs === undefined ? 'Silenced' : `Slowed to one message in ${everyMs / 1000} s:`;
      tell(effect, options, `${how} ${user} ${place}${untilText(effect, '', ' until it is ended')}`);
      if (!options.json) note(`\`ninebells end-silence ${effect.id}\` ends it before its time.`);
    },
  );

  listing(
    program
      .command('silences')
      .description('list the silences in force')
      .option('--user <id>', 'only this user')
      .option('--channel <channel>', 'only in this channel'),
    100,
  ).action(async (options: ListOptions & { user?: string; channel?: string }) => {
    const { user, channel } = options;
    const { silences, next } = await backendOf(options).silences({ ...pageOf(options), ...defined({ user, channel }) });
    if (options.json) for (const each of silences) printJson(each);
    else if (silences.length === 0) note('No silences are in force.');
    else print(table(['ID', 'WHOM', 'WHERE', 'MAY', 'UNTIL', 'BY', 'WHY'], silences.map(silenceRow)));
    noteNext(next);
  });

  calling(
    program
      .command('end-silence')
      .description('end a silence before its time')
      .argument('<id>', 'as `ninebells silences` shows it')
      .addOption(reasonOption()),
  ).action(async (id: string, options: ModerationOptions) => {
    const effect = await backendOf(options).endSilence(id, options.reason);
    tell(effect, options, `Ended the silence ${id} of ${effect.user}`);
  });

  listing(
    program
      .command('reports')
      .description('list reported messages, oldest first')
      .option('--ended', 'those that have ended, the latest first')
      .option('--channel <channel>', 'only of this channel'),
    100,
  ).action(async (options: ListOptions & { ended?: boolean; channel?: string }) => {
    const { ended, channel } = options;
    const state = ended ? 'ended' : 'open';
    const { reports, next } = await backendOf(options).reports({ ...pageOf(options), state, ...defined({ channel }) });
    const heads = ['ID', 'WHEN', 'CHANNEL', 'MESSAGE', 'OF', 'REPORTED BY', 'WHY', ...(ended ? ['DONE'] : [])];
    if (options.json) for (const each of reports) printJson(each);
    else if (reports.length === 0) note(`No reports ${ended ? 'have ended' : 'are open'}.`);
    else print(table(heads, reports.map(reportRow)));
    noteNext(next);
  });

  calling(
    program
      .command('end-report')
      .description('end a report')
      .argument('<id>', 'as `ninebells reports` shows it')
      .option('--note <words>', 'what was done'),
  ).action(async (id: string, options: CallOptions & { note?: string }) => {
    const ended = await backendOf(options).endReport(id, defined({ note: options.note }));
    if (options.json) printJson(ended);
    else print(`Ended the report ${id} of ${ended.channel}.`);
  });

  listing(
    program
      .command('pending')
      .description('list pending messages, oldest first')
      .option('--refused', 'those that were refused, the latest first')
      .option('--channel <channel>', 'only of this channel')
      .option('--user <id>', 'only of this user'),
    100,
  ).action(async (options: ListOptions & { refused?: boolean; channel?: string; user?: string }) => {
    const { refused, channel, user } = options;
    const state = refused ? 'refused' : 'waiting';
    const filter = { state, ...defined({ channel, user }) } as const;
    const { pending, next } = await backendOf(options).pending({ ...pageOf(options), ...filter });
    const heads = ['ID', 'WHEN', 'CHANNEL', 'MESSAGE', 'OF', refused ? 'WHY NOT' : 'WHY IT WAITS'];
    if (options.json) for (const each of pending) printJson(each);
    else if (pending.length === 0) note(refused ? 'No messages were refused.' : 'No messages wait.');
    else print(table(heads, pending.map(pendingRow)));
    noteNext(next);
  });

  calling(
    program
      .command('approve')
      .description('approve a pending message')
      .argument('<id>', 'as `ninebells pending` shows it'),
  ).action(async (id: string, options: CallOptions) => {
    const now = await backendOf(options).approve(id);
    if (options.json) return printJson(now);
    if (now.state === 'published') print(`Published in ${now.channel}${now.cursor ? ` at ${now.cursor}` : ''}.`);
    else if (now.state === 'waiting')
      print(`Approved. It is published when the earlier messages of ${now.by.user} in ${now.channel} are decided.`);
    else print(`It can no longer be published: ${printable(now.reason ?? 'no reason is known')}`);
  });

  calling(
    program
      .command('reject')
      .description('reject a pending message')
      .argument('<id>', 'as `ninebells pending` shows it')
      .addOption(reasonOption()),
  ).action(async (id: string, options: ModerationOptions) => {
    const now = await backendOf(options).reject(id, defined({ reason: options.reason }));
    if (options.json) printJson(now);
    else print(`Refused the message of ${now.by.user} in ${now.channel}.`);
  });

  calling(
    program
      .command('sign-out')
      .description('end all sessions of a user and revoke their tokens')
      .argument('<user>', "the user's id")
      .addOption(reasonOption()),
  ).action(async (user: string, options: ModerationOptions) => {
    tell(await backendOf(options).signOut(user, options.reason), options, `Signed out ${user} everywhere`);
  });

  calling(
    program
      .command('revoke-tokens')
      .description('revoke the tokens of a user issued until now; newer tokens are valid')
      .argument('<user>', "the user's id")
      .addOption(reasonOption()),
  ).action(async (user: string, options: ModerationOptions) => {
    const effect = await backendOf(options).revokeTokens(user, options.reason);
    tell(effect, options, `Revoked the tokens of ${user} issued until ${dayTime(effect.at)}`);
  });

  listing(
    program
      .command('audit')
      .description('show the audit log, latest first')
      .option('--user <id>', 'only what was done about this user'),
    20,
  ).action(async (options: ListOptions & { user?: string }) => {
    const { entries, next } = await backendOf(options).audit({
      ...pageOf(options),
      ...defined({ user: options.user }),
    });
    if (options.json) for (const each of entries) printJson(each);
    else if (entries.length === 0) note('The audit log is empty.');
    else print(table(['NO', 'WHEN', 'BY', 'ACTION', 'WHOM', 'WHERE', 'UNTIL', 'WHY'], entries.map(auditRow)));
    noteNext(next);
  });
}

/** Names an actor for people. */
export function actorText({ user, key, name }: Actor): string {
  if (user !== undefined) return printable(name ?? user);
  return key === undefined ? 'the service' : printable(`key ${name ?? key}`);
}

/** With the options of every command that calls a service. */
function tell(effect: Effect, { json }: CallOptions, words: string, reaches = true): void {
  if (json) printJson(effect);
  else print(`${words}.${reaches ? ` ${reachedText(effect)}` : ''}`);
}

function reachedText({ sessions, user }: Effect): string {
  if (sessions === 0)
    return `No sessions were affected${user === undefined ? '' : `: ${user} is not connected. Check the id if you expected otherwise`}.`;
  return `It reached ${sessions === 1 ? 'one session' : `${sessions} sessions`}.`;
}

function untilText({ until }: Effect, before: string, without = ''): string {
  return until === undefined ? without : `${before} until ${dayTime(until)}`;
}

function banRow({ id, user, address, channel, until, by, reason }: Ban): string[] {
  return [
    id,
    printable(user ?? address ?? ''),
    channel ?? 'the service',
    until === undefined ? 'it is lifted' : dayTime(until),
    actorText(by),
    printable(reason ?? ''),
  ];
}

function silenceRow({ id, user, channel, everyMs, until, by, reason }: Silence): string[] {
  return [
    id,
    printable(user),
    channel ?? 'everywhere',
    everyMs === undefined ? 'read' : `publish once in ${everyMs / 1000} s`,
    until === undefined ? 'it is ended' : dayTime(until),
    actorText(by),
    printable(reason ?? ''),
  ];
}

function reportRow({ id, at, channel, message, by, reason, ended }: MessageReport): string[] {
  const text = JSON.stringify(message.data);
  return [
    id,
    dayTime(at),
    channel,
    printable(text.length > 40 ? `${text.slice(0, 39)}…` : text),
    printable(message.by?.name ?? message.by?.user ?? '(application)'),
    printable(by.name ?? by.user),
    printable(reason ?? ''),
    ...(ended === undefined ? [] : [`${actorText(ended.by)}: ${printable(ended.note ?? '')}`]),
  ];
}

function pendingRow({ id, at, channel, by, data, reason, revises, cleared }: PendingMessage): string[] {
  const text = JSON.stringify(data);
  const why = [reason, revises && `revises ${revises}`, cleared && 'may be published then'].filter(Boolean).join('; ');
  return [
    id,
    dayTime(at),
    channel,
    printable(text.length > 40 ? `${text.slice(0, 39)}…` : text),
    printable(by.name ?? by.user),
    printable(why),
  ];
}

function auditRow({ number, at, by, type, user, address, channel, until, reason, about }: AuditEntry): string[] {
  return [
    String(number),
    dayTime(at),
    actorText(by),
    type,
    printable(user ?? address ?? about ?? ''),
    channel ?? '',
    until === undefined ? '' : dayTime(until),
    printable(reason ?? ''),
  ];
}
