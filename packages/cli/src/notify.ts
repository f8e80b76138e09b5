import type { Notice } from '@nine-bells/client/backend';
import { defined, type Json } from '@nine-bells/wire';
import type { Command } from 'commander';
import { CommandError, exitCodes } from './exitCodes.js';
import { backendOf, type CallOptions, calling, duration, wholeFrom } from './options.js';
import { dataText, dayTime, note, print, printable, printJson, table } from './output.js';

interface NotifyOptions extends CallOptions {
  readonly channel?: string;
  readonly role?: string;
  readonly title: string;
  readonly data?: string;
  readonly noticeKey?: string;
  readonly for?: number;
  readonly ifAvailable?: boolean;
  readonly unlessLooking?: string;
  readonly from?: string;
  readonly holdWhileBusy?: boolean;
}

/** The commands about notices. */
export function addNotify(program: Command): void {
  calling(
    program
      .command('notify')
      .description('notify users, whether they are connected or not')
      .argument('[users...]', "the users' ids; or --channel, or --role")
      .option('--channel <channel>', 'the present members of this channel')
      .option('--role <role>', 'users who had this role when last seen')
      .requiredOption('--title <words>', 'what it is about')
      .option('--data <json>', 'more, for the application')
      .option('--notice-key <key>', 'takes the place of the notice with the same key')
      .option('--for <time>', 'how long it stays, such as 2h; without it, until it is done', duration)
      .option('--if-available', 'only who is connected and available')
      .option('--unless-looking <channel>', 'not who has this channel in view')
      .option('--from <user>', 'in whose name it is: not to users who have blocked this one')
      .option('--hold-while-busy', 'tell users who are busy when they no longer are'),
  ).action(async (users: string[], options: NotifyOptions) => {
    const {
      channel,
      role,
      title,
      noticeKey: key,
      for: forMs,
      ifAvailable,
      unlessLooking,
      from,
      holdWhileBusy,
    } = options;
    const wish = {
      users: users.length === 0 ? undefined : users,
      channel,
      role,
      title,
      key,
      forMs,
      ifAvailable,
      unlessLooking,
      from,
      holdWhileBusy,
      data: options.data === undefined ? undefined : jsonOf(options.data),
    };
    const notified = await backendOf(options).notify(defined(wish));
    if (options.json) printJson(notified);
    else
      print(
        `Notified ${countText(notified.users)}${notified.passedOver > 0 ? `, passed over ${notified.passedOver}` : ''}.`,
      );
  });

  calling(
    program
      .command('inbox')
      .description("list the notices in a user's inbox")
      .argument('<user>', "the user's id")
      .option('--limit <n>', 'at most n, the oldest first', wholeFrom(1, 1000), 100),
  ).action(async (user: string, options: CallOptions & { limit: number }) => {
    const { notices, more, unread } = await backendOf(options).inbox(user, { limit: options.limit });
    if (options.json) for (const each of notices) printJson(each);
    else if (unread === 0) note(`The inbox of ${user} is empty.`);
    else print(table(['WHEN', 'TITLE', 'DATA', 'UNTIL', 'ID'], notices.map(noticeRow)));
    if (more && !options.json) note(`${unread} in all.`);
  });
}

function noticeRow({ at, title, data, until, id }: Notice): string[] {
  return [
    dayTime(at),
    printable(title),
    data === undefined ? '' : dataText(data),
    until === undefined ? 'done' : dayTime(until),
    id,
  ];
}

function countText(users: number): string {
  if (users === 0) return 'no user';
  return users === 1 ? 'one user' : `${users} users`;
}

function jsonOf(text: string): Json {
  try {
    return JSON.parse(text) as Json;
  } catch (error) {
    throw new CommandError(exitCodes.usage, `the data is not JSON: ${(error as Error).message}`);
  }
}
