import type { Asked, Ban, Evaluation, Explanation } from '@nine-bells/client/backend';
import { channelActs, defined, userActs } from '@nine-bells/wire';
import { type Command, Option } from 'commander';
import colors from 'picocolors';
import { claimsOf } from './claims.js';
import { CommandError, Exit, exitCodes } from './exitCodes.js';
import { actorText } from './moderation.js';
import { backendOf, type CallOptions, calling, collect } from './options.js';
import { dayTime, print, printable, printJson } from './output.js';

const callAct = 'call';

interface ExplainOptions extends CallOptions {
  readonly user?: string;
  readonly role?: string[];
  readonly claim?: string[];
  readonly guest?: boolean;
  readonly token?: string;
  readonly session?: string;
  readonly entry?: string;
  readonly cursor?: string;
  readonly channel?: string;
}

export function addExplain(program: Command): void {
  calling(
    program
      .command('explain')
      .description('explain an access decision: the rule and the facts')
      .addArgument(program.createArgument('<act>', 'what').choices([...channelActs, ...userActs, callAct]))
      .argument(
        '<where>',
        `a channel such as crew/petrel; for ${userActs.join(', ')}: the user that it concerns; for call: its name`,
      )
      .option('--user <id>', 'for a user: as connected now, or made up with --role and --claim')
      .option('--role <role>', 'a role of that user; may be given several times', collect)
      .option('--claim <name=value>', 'a claim of that user, as with `token`', collect)
      .option('--entry <name>', 'for set: the entry of the board')
      .option(
        '--cursor <cursor>',
        'for revise, withdraw, revisions: the message; absent: one that the user publishes now',
      )
      .option('--channel <channel>', 'for call: the channel that it is about')
      .option('--guest', 'for a guest')
      .addOption(new Option('--token <token>', 'for the holder of a token'))
      .option('--session <id>', 'for a session that is connected'),
  ).action(async (act: string, where: string, options: ExplainOptions) => {
    const explanation = await backendOf(options).explain(act, where, {
      ...askedOf(options),
      ...defined({ entry: options.entry, cursor: options.cursor, channel: options.channel }),
    });
    if (options.json) printJson(explanation);
    else print(explanationText(explanation));
    if (!explanation.allowed) throw new Exit(exitCodes.refused);
  });
}

function askedOf({ user, role, claim, guest, token, session }: ExplainOptions): Asked {
  const given = [user, guest, token, session].filter((each) => each !== undefined);
  if (given.length !== 1)
    throw new CommandError(exitCodes.usage, 'say for whom: one of --user, --guest, --token or --session');
  if (user === undefined && (role ?? claim) !== undefined)
    throw new CommandError(exitCodes.usage, '--role and --claim make up a user: give --user too');
  if (guest) return { guest };
  if (token !== undefined) return { token: token.trim() };
  if (session !== undefined) return { session };
  if (role === undefined && claim === undefined) return { user: user as string };
  return { user: user as string, roles: role ?? [], claims: claimsOf(claim ?? []) };
}

function explanationText(explanation: Explanation): string {
  const { act, channel, whom, call, user, session, allowed, problem, ban, silence, rule, others, evaluation, review } =
    explanation;
  const verdict = allowed ? colors.green('allowed') : colors.red(`refused, ${problem?.code}`);
  const lines = [`${colors.bold(`${act} ${call ?? channel ?? whom}`)}${user === '' ? '' : ` by ${user}`}: ${verdict}`];
  if (session !== undefined) lines.push(`  with the roles and claims of the connected session ${session}`);
  if (problem?.detail !== undefined) lines.push(`  the client is told: ${problem.detail}`);
  if (ban !== undefined) lines.push('', `A ban comes before the rules: ${banText(ban)}`);
  if (silence !== undefined) {
    const end = `\`ninebells end-silence ${silence.id}\` ends it before its time`;
    lines.push(
      '',
      `A silence comes before the rules, by ${actorText(silence.by)} at ${dayTime(silence.at)}`,
      `  ${end}`,
    );
  }
  if (rule !== undefined) {
    const values = Object.entries(rule.parameters).map(([name, value]) => `:${name} = ${value}`);
    lines.push('', `The rule is ${rule.pattern}${values.length === 0 ? '' : `, with ${values.join(', ')}`}`);
  }
  if (evaluation !== undefined) lines.push(...weighedLines(evaluation, '  '));
  if (review !== undefined) lines.push('', ...reviewLines(review));
  if (others.length > 0) {
    lines.push('', 'Other rules');
    for (const { pattern, why } of others) lines.push(`  ${pattern}: ${why}`);
  }
  return lines.join('\n');
}

function reviewLines({ withinMs, otherwise, waits }: NonNullable<Explanation['review']>): string[] {
  const without = { refuse: 'it is refused', pass: 'it is published', hold: 'a moderator decides' }[otherwise];
  return [
    `Then the application sees the message, within ${withinMs / 1000} s; without an answer ${without}`,
    ...(waits
      ? ['  Earlier messages of this user wait there for a moderator: it waits behind them (`ninebells pending`)']
      : []),
  ];
}

function banText({ id, by, at, until, channel, reason }: Ban): string {
  return [
    `${channel ?? 'the service'}, by ${actorText(by)} at ${dayTime(at)}`,
    until === undefined ? 'until it is lifted' : `until ${dayTime(until)}`,
    ...(reason === undefined ? [] : [`because: ${printable(reason)}`]),
  ]
    .join(', ')
    .concat(`\n  \`ninebells unban ${id}\` ends it before its time`);
}

/** One line a condition, its parts below it. */
function weighedLines({ asks, holds, found, parts = [] }: Evaluation, indent: string): string[] {
  const mark = holds ? colors.green('yes') : colors.red(' no');
  return [
    `${indent}${mark}  ${asks}${found === undefined ? '' : colors.dim(`   found ${printable(found)}`)}`,
    ...parts.flatMap((part) => weighedLines(part, `${indent}     `)),
  ];
}
