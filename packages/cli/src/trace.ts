import type { Trace } from '@nine-bells/client/backend';
import type { Command } from 'commander';
import { noteMissing } from './instances.js';
import { backendOf, type CallOptions, calling } from './options.js';
import { note, print, printable, printJson } from './output.js';

/** `ninebells trace`: the delivery of one message. */
export function addTrace(program: Command): void {
  calling(
    program
      .command('trace')
      .description('show the delivery of a message: where it was received and ordered, and who got it')
      .argument('<id>', 'the id of the message, as `publish` and `read --json` give it')
      .option('--user <id>', 'say whether and how this user got it'),
  ).action(async (id: string, options: CallOptions & { user?: string }) => {
    const trace = await backendOf(options).trace(id, options.user === undefined ? {} : { user: options.user });
    if (options.json) printJson(trace);
    else show(trace);
    noteMissing(trace.missing);
  });
}

function show({ channel, cursor, sentence, user }: Trace): void {
  print(`${channel}  ${cursor}`);
  print(printable(sentence));
  if (user === undefined) return;
  if (user.fates.length === 0) print(printable(user.sentence));
  for (const { session, instance, sentence: each } of user.fates)
    print(`${printable(each)}  (${session} at ${instance})`);
  if (user.earlier > 0) note(`${user.earlier} more sessions had ended before it.`);
}
