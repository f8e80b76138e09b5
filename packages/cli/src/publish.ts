import { text as readAll } from 'node:stream/consumers';
import type { Author, Draft } from '@nine-bells/client/backend';
import { defined, type Json } from '@nine-bells/wire';
import type { Command } from 'commander';
import { CommandError, exitCodes } from './exitCodes.js';
import { backendOf, type CallOptions, calling } from './options.js';
import { note, print, printJson } from './output.js';

interface PublishOptions extends CallOptions {
  readonly text?: string;
  readonly type?: string;
  readonly idempotencyKey?: string;
  readonly by?: string;
  readonly replyTo?: string;
  readonly mention?: readonly string[];
  readonly mentionRole?: readonly string[];
}

export function addPublish(program: Command): void {
  calling(
    program
      .command('publish')
      .description('publish a message to a channel, as an application')
      .argument('<channel>', 'such as race/3/chat')
      .argument('[data]', 'the data, as JSON; - reads it from standard input')
      .option('--text <words>', 'short for the data {"text": words}')
      .option('--type <type>', "the message's type (default: message)")
      .option('--idempotency-key <key>', 'publishing again with the same one publishes nothing')
      .option('--by <user[:name]>', 'the user to name as author')
      .option('--reply-to <cursor>', 'the message that it answers')
      .option('--mention <user...>', 'users whom it mentions, who are notified')
      .option('--mention-role <role...>', 'the same of all who have a role'),
  ).action(async (channel: string, data: string | undefined, options: PublishOptions) => {
    const draft: Draft = {
      channel,
      data: await dataOf(data, options.text),
      ...defined({ type: options.type, key: options.idempotencyKey, replyTo: options.replyTo }),
      ...(options.by === undefined ? {} : { by: authorOf(options.by) }),
      ...((options.mention ?? options.mentionRole) && {
        mentions: defined({ users: options.mention, roles: options.mentionRole }),
      }),
    };
    const published = await backendOf(options).publish(draft);
    if (options.json) printJson({ channel, ...published });
    else if (published.repeated)
      print(`Already published as ${published.cursor} in ${channel}; nothing was published now.`);
    else print(`Published to ${channel} as ${published.cursor}`);
    const { users = [], roles = [] } = published.notMentioned ?? {};
    const left = [...users, ...roles].join(', ');
    if (left !== '' && !options.json)
      note(`Not mentioned: ${left}. Only users who may enter the channel can be, and roles that such a user has.`);
  });
}

export async function dataOf(argument: string | undefined, words: string | undefined): Promise<Json> {
  if (words !== undefined) {
    if (argument !== undefined) throw new CommandError(exitCodes.usage, 'give the data or --text, not both');
    return { text: words };
  }
  if (argument === undefined)
    throw new CommandError(exitCodes.usage, 'there is nothing to publish', 'give the data as JSON, or --text "words"');
  const text = argument === '-' ? await readAll(process.stdin) : argument;
  try {
    return JSON.parse(text) as Json;
  } catch (error) {
    throw new CommandError(
      exitCodes.usage,
      `the data is not JSON: ${(error as Error).message}`,
      'for plain words use --text "words"',
    );
  }
}

export function authorOf(given: string): Author {
  const at = given.indexOf(':');
  return at === -1 ? { user: given } : { user: given.slice(0, at), name: given.slice(at + 1) };
}
