import type { ErasureInfo } from '@nine-bells/client/backend';
import type { Command } from 'commander';
import { backendOf, type CallOptions, calling } from './options.js';
import { dayTime, note, print, printJson } from './output.js';

/** Poll interval for the progress of an erasure, in milliseconds. */
const askEveryMs = 500;
/** Messages in one part of an export. */
const partMessages = 1_000;

/** Commands for the data of a user. They need a key with the right `administer`. */
export function addPersons(program: Command): void {
  calling(
    program
      .command('forget')
      .description('erase a user: end their sessions, and remove their data everywhere')
      .argument('<user>', 'the user id')
      .option('--blank', 'keep the messages, with their author blanked (default: they are withdrawn)')
      .option('--no-wait', 'do not wait until it is done'),
  ).action(async (user: string, options: CallOptions & { blank?: boolean; wait: boolean }) => {
    const backend = backendOf(options);
    let erasure = await backend.erase({ user, messages: options.blank ? 'blank' : 'withdraw' });
    if (!options.json) note(`Erasing ${user}, as ${erasure.id}.`);
    while (options.wait && erasure.endedAt === undefined) {
      await new Promise((resolve) => setTimeout(resolve, askEveryMs));
      erasure = await backend.erasure(erasure.id);
    }
    if (options.json) printJson(erasure);
    else print(erasureText(erasure));
  });

  calling(program.command('erasures').description('list the last erasures, and the number of removed records')).action(
    async (options: CallOptions) => {
      const { erasures } = await backendOf(options).erasures({ limit: 100 });
      if (options.json) for (const each of erasures) printJson(each);
      else if (erasures.length === 0) note('No user has been erased.');
      else for (const each of erasures) print(`${dayTime(each.at)} ${each.id} ${erasureText(each)}`);
    },
  );

  calling(
    program
      .command('person')
      .description('export the data of a user as JSON; recorded in the audit log')
      .argument('<user>', 'the user id'),
  ).action(async (user: string, options: CallOptions) => {
    const backend = backendOf(options);
    const { messages: first, next: second, ...rest } = await backend.person(user, { limit: partMessages });
    const messages = [...first];
    for (let next = second; next !== undefined; ) {
      const part = await backend.person(user, { after: next, limit: partMessages });
      messages.push(...part.messages);
      next = part.next;
    }
    const all = { ...rest, messages };
    if (options.json) printJson(all);
    else print(JSON.stringify(all, null, 2));
  });
}

const names: Readonly<Record<keyof ErasureInfo['counts'], string>> = {
  messages: 'messages',
  changes: 'changes of messages',
  marks: 'read marks',
  reactions: 'reactions',
  blocks: 'blocks',
  levels: 'levels of channels',
  mentions: 'mentions',
  invitations: 'invitations',
  notices: 'notices',
  reports: 'reports',
  pending: 'messages that waited',
  bans: 'ended bans and silences',
  deliveries: 'deliveries',
  users: 'names and roles',
  audit: 'entries of the audit log',
};

function erasureText({ endedAt, messages, counts, held, user }: ErasureInfo): string {
  const done = Object.entries(names).flatMap(([kind, name]) => {
    const count = counts[kind as keyof typeof counts];
    if (count === 0) return [];
    const how = kind === 'messages' ? ` ${messages === 'withdraw' ? 'withdrawn' : 'blanked'}` : '';
    return [`${count} ${name}${how}`];
  });
  const state = endedAt === undefined ? `Under way${user === undefined ? '' : ` (${user})`}` : 'Erased';
  const left = held.length === 0 ? '' : `; left in exempted channels: ${held.join(', ')}`;
  return `${state}: ${done.length === 0 ? 'nothing was kept' : done.join(', ')}${left}.`;
}
