import type { Pruning } from '@nine-bells/client/backend';
import { defined } from '@nine-bells/wire';
import type { Command } from 'commander';
import { actorText } from './moderation.js';
import { backendOf, type CallOptions, calling, type ListOptions, listing, noteNext, pageOf } from './options.js';
import { dayTime, note, print, printable, printJson, table } from './output.js';

/** Commands for pruning and retention holds. All but `holds` need a key with the right `administer`. */
export function addRetention(program: Command): void {
  calling(
    program
      .command('prune')
      .description('prune expired messages and records now; the service also does so by itself')
      .option('--dry-run', 'only say what would go'),
  ).action(async (options: CallOptions & { dryRun?: boolean }) => {
    const pruning = await backendOf(options).prune({ dryRun: options.dryRun === true });
    if (options.json) printJson(pruning);
    else show(pruning);
  });

  calling(
    program
      .command('hold')
      .description('exempt a channel from pruning')
      .argument('<channel>', 'such as protest/7')
      .option('--reason <words>', 'why: for the audit log'),
  ).action(async (channel: string, options: CallOptions & { reason?: string }) => {
    const { reason } = options;
    const hold = await backendOf(options).hold({ channel, ...defined({ reason }) });
    if (options.json) printJson(hold);
    else print(`${channel} is exempt from pruning since ${dayTime(hold.at)}, by ${actorText(hold.by)}.`);
  });

  calling(
    program
      .command('end-hold')
      .description("end a channel's exemption from pruning")
      .argument('<channel>', 'as `ninebells holds` shows it')
      .option('--reason <words>', 'why: for the audit log'),
  ).action(async (channel: string, options: CallOptions & { reason?: string }) => {
    const hold = await backendOf(options).endHold(channel, options.reason);
    if (options.json) printJson(hold);
    else print(`${channel} is pruned again, as its rule says.`);
  });

  listing(program.command('holds').description('list the channels that are exempted from pruning'), 100).action(
    async (options: ListOptions) => {
      const { holds, next } = await backendOf(options).holds(pageOf(options));
      if (options.json) for (const each of holds) printJson(each);
      else if (holds.length === 0) note('No channel is exempted from pruning.');
      else
        print(
          table(
            ['CHANNEL', 'SINCE', 'BY', 'WHY'],
            holds.map(({ channel, at, by, reason }) => [channel, dayTime(at), actorText(by), printable(reason ?? '')]),
          ),
        );
      noteNext(next);
    },
  );
}

function show({ dryRun, channels, total, held, records }: Pruning): void {
  if (channels.length > 0)
    print(
      table(
        ['CHANNEL', 'RULE', 'MESSAGES', 'UP TO', 'THE FIRST FROM'],
        channels.map(({ channel, pattern, messages, upTo, oldestAt }) => [
          channel,
          pattern,
          String(messages),
          upTo,
          oldestAt === undefined ? '' : dayTime(oldestAt),
        ]),
      ),
    );
  if (total.channels > channels.length) note(`and ${total.channels - channels.length} more channels`);
  const others = Object.entries(records).filter(([, count]) => count > 0);
  const counted = [countText(total.messages, 'message'), ...others.map(([kind, count]) => `${kind}: ${count}`)];
  const isNothing = total.messages === 0 && others.length === 0;
  if (isNothing) print(dryRun ? 'Nothing would go.' : 'There is nothing to prune.');
  else print(`${dryRun ? 'Would go' : 'Goes now, in small portions'}: ${counted.join(', ')}.`);
  if (held.length > 0) note(`Exempted: ${held.join(', ')}`);
}

function countText(count: number, what: string): string {
  return `${count} ${what}${count === 1 ? '' : 's'}`;
}
