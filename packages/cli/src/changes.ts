import { type Changed, defined, type ReactionCounts } from '@nine-bells/wire';
import type { Command } from 'commander';
import {
  backendOf,
  type CallOptions,
  calling,
  jsonOption,
  keyOption,
  type ListOptions,
  listing,
  noteNext,
  pageOf,
  urlOption,
} from './options.js';
import { clockTime, dataText, note, print, printable, printJson, table } from './output.js';
import { authorOf, dataOf } from './publish.js';

interface ChangeOptions extends CallOptions {
  readonly message?: string;
  readonly ifRevision?: string;
  readonly idempotencyKey?: string;
  readonly by?: string;
}

/** The commands that change messages. */
export function addChanges(program: Command): void {
  changing(
    program
      .command('revise')
      .description('replace the content of a message, as an application')
      .argument('<channel>', 'such as race/3/chat')
      .argument('<cursor>', "the message's cursor")
      .argument('[data]', 'what it is to hold, as JSON; - reads it from standard input')
      .option('--text <words>', 'short for the data {"text": words}'),
  ).action(
    async (channel: string, cursor: string, data: string | undefined, options: ChangeOptions & { text?: string }) => {
      const wish = { channel, cursor, data: await dataOf(data, options.text), ...changeOf(options) };
      show('Revised', channel, cursor, await backendOf(options).revise(wish), options);
    },
  );

  changing(
    program
      .command('withdraw')
      .description('withdraw a message, as an application: its content is deleted')
      .argument('<channel>', 'such as race/3/chat')
      .argument('<cursor>', "the message's cursor")
      .option('--reason <words>', 'why: shown with the message to all who may read it'),
  ).action(async (channel: string, cursor: string, options: ChangeOptions & { reason?: string }) => {
    const wish = { channel, cursor, ...defined({ reason: options.reason }), ...changeOf(options) };
    show('Withdrew', channel, cursor, await backendOf(options).withdraw(wish), options);
  });

  listing(
    program
      .command('revisions')
      .description('show earlier contents of a message, if the channel rule keeps them')
      .argument('<channel>', 'such as protest/7')
      .argument('<cursor>', "the message's cursor"),
    20,
  ).action(async (channel: string, cursor: string, options: ListOptions) => {
    const { revisions, next } = await backendOf(options).revisions(channel, cursor, pageOf(options));
    if (options.json) for (const each of revisions) printJson(each);
    else if (revisions.length === 0) note('Nothing is kept of what it held before.');
    else
      print(
        table(
          ['REVISION', 'AT', 'BY', 'HELD'],
          revisions.map(({ revision, at, by, data }) => [
            revision ?? 'as published',
            clockTime(at),
            by === undefined ? '(application)' : printable(by.name ?? by.user),
            dataText(data),
          ]),
        ),
      );
    noteNext(next);
  });
}

/** The commands about reactions. */
export function addReactions(program: Command): void {
  calling(
    program
      .command('react')
      .description("react to a message in a user's name, or remove the reaction")
      .argument('<channel>', 'such as race/3/chat')
      .argument('<cursor>', "the message's cursor")
      .argument('<word>', 'a short word, or an emoji')
      .requiredOption('--by <user[:name]>', 'the user who reacts')
      .option('--off', 'take it back'),
  ).action(
    async (channel: string, cursor: string, word: string, options: CallOptions & { by: string; off?: boolean }) => {
      const wish = { channel, cursor, word, on: options.off !== true, by: authorOf(options.by) };
      const { counts } = await backendOf(options).react(wish);
      if (options.json) printJson({ channel, cursor, counts });
      else print(`${cursor} in ${channel} has ${countsText(counts) || 'no reactions'}`);
    },
  );

  listing(
    program
      .command('reactions')
      .description('list the reactions to a message')
      .argument('<channel>', 'such as race/3/chat')
      .argument('<cursor>', "the message's cursor")
      .option('--word <word>', 'only those who have reacted with this'),
    100,
  ).action(async (channel: string, cursor: string, options: ListOptions & { word?: string }) => {
    const wish = { ...pageOf(options), ...defined({ word: options.word }) };
    const { reactors, next } = await backendOf(options).reactors(channel, cursor, wish);
    if (options.json) for (const each of reactors) printJson(each);
    else if (reactors.length === 0) note('No user has reacted to it.');
    else
      print(
        table(
          ['WORD', 'USER', 'AT'],
          reactors.map((each) => [printable(each.word), printable(each.name ?? each.user), clockTime(each.at)]),
        ),
      );
    noteNext(next);
  });
}

/** Reactions in a few words: `⛵ 3, wow 1`. */
export function countsText(counts: ReactionCounts): string {
  return Object.entries(counts)
    .map(([word, count]) => `${printable(word)} ${count}`)
    .join(', ');
}

function changing(command: Command): Command {
  return command
    .option('--message <id>', "the message's id: refused if another one has the cursor")
    .option('--if-revision <cursor>', 'only if this was its last change; none: only if it is as it was published')
    .option('--idempotency-key <key>', 'changing again with the same one changes nothing')
    .option('--by <user[:name]>', 'the user to name as the one who changes it')
    .addOption(urlOption())
    .addOption(keyOption())
    .addOption(jsonOption());
}

function changeOf({ message, ifRevision, idempotencyKey, by }: ChangeOptions) {
  return {
    ...defined({ message, key: idempotencyKey }),
    ...(ifRevision === undefined ? {} : { ifRevision: ifRevision === 'none' ? null : ifRevision }),
    ...(by === undefined ? {} : { by: authorOf(by) }),
  };
}

function show(done: string, channel: string, cursor: string, changed: Changed, options: CallOptions): void {
  if (options.json) printJson({ channel, ...changed });
  else if (changed.repeated) print(`Changed already, as ${changed.cursor}; nothing was changed now.`);
  else print(`${done} ${cursor} in ${channel}, as ${changed.cursor}`);
}
