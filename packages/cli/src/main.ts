import { readFileSync } from 'node:fs';
import { Command, CommanderError } from 'commander';
import colors from 'picocolors';
import { addBlocks } from './blocks.js';
import { addBoards } from './boards.js';
import { addChanges, addReactions } from './changes.js';
import { addChannels, addConsole, addRead } from './channels.js';
import { addCheck } from './check.js';
import { addCheckChange } from './checkChange.js';
import { groupCommands } from './commandGroups.js';
import { addDemo } from './demo.js';
import { addDocs } from './docs.js';
import { addDrain } from './drain.js';
import { addDrill } from './drill.js';
import { Exit, exitCodes } from './exitCodes.js';
import { addExplain } from './explain.js';
import { failureOf } from './failure.js';
import { addForward } from './forward.js';
import { addInstances } from './instances.js';
import { addInvitations } from './invitations.js';
import { addKeys } from './keys.js';
import { addLevels } from './levels.js';
import { addListen } from './listen.js';
import { addMarks } from './marks.js';
import { addModeration } from './moderation.js';
import { addNotify } from './notify.js';
import { addPersons } from './persons.js';
import { addPlan } from './plan.js';
import { addPublish } from './publish.js';
import { addRefusals } from './refusals.js';
import { addRetention } from './retention.js';
import { addSearch } from './search.js';
import { addServe } from './serve.js';
import { addToken } from './token.js';
import { addTrace } from './trace.js';
import { addTraffic } from './traffic.js';
import { addTypes } from './types.js';
import { addWebhooks } from './webhooks.js';
import { addWho } from './who.js';

const version: string = JSON.parse(readFileSync(new URL('../package.json', import.meta.url), 'utf8')).version;

const exitHelp = `
Exit codes: 0 done, 1 failed, 2 a mistake in the command or the configuration, 3 refused by the service,
4 no service at this address, 5 the service is temporarily unavailable, 6 a change breaks publishers or listeners.

Environment: NINEBELLS_URL and NINEBELLS_KEY for commands that call a service, NINEBELLS_TOKEN for listen,
NINEBELLS_PORT, NINEBELLS_HOST, NINEBELLS_DATA, NINEBELLS_RELAY, NINEBELLS_DATABASE and NINEBELLS_WORKERS for those that start one.`;

/** Runs the command line as this process, and sets its exit code. */
export async function run(args: readonly string[]): Promise<void> {
  process.stdout.on('error', (error: NodeJS.ErrnoException) => {
    // A reader such as `head` may close the pipe before everything is written.
    if (error.code === 'EPIPE') process.exit();
    throw error;
  });
  process.exitCode = await main(args);
}

/**
 * Runs one command within this process.
 *
 * @returns the exit code
 */
export async function main(args: readonly string[]): Promise<number> {
  const program = new Command('ninebells')
    .description('Live chat and notification channels, run beside your application.')
    .version(version, '-V, --version', 'print the version')
    .showHelpAfterError('--help lists commands and options')
    .configureOutput({ outputError: (text, write) => write(text.replace(/^error: /, `${colors.red('ninebells:')} `)) })
    .addHelpText('after', exitHelp)
    .exitOverride();
  for (const add of [
    addServe,
    addDemo,
    addToken,
    addTypes,
    addDocs,
    addPublish,
    addChanges,
    addReactions,
    addBoards,
    addListen,
    addRead,
    addChannels,
    addExplain,
    addWho,
    addNotify,
    addMarks,
    addBlocks,
    addLevels,
    addSearch,
    addInvitations,
    addModeration,
    addRetention,
    addPersons,
    addKeys,
    addConsole,
    addDrain,
    addCheck,
    addCheckChange,
    addInstances,
    addRefusals,
    addTrace,
    addTraffic,
    addWebhooks,
    addForward,
    addPlan,
    addDrill,
  ])
    add(program);
  groupCommands(program);
  for (const command of program.commands) command.exitOverride();
  try {
    await program.parseAsync(args, { from: 'user' });
    return exitCodes.done;
  } catch (error) {
    if (error instanceof Exit) return error.exitCode;
    // Commander has printed it.
    if (error instanceof CommanderError) return error.exitCode === 0 ? exitCodes.done : exitCodes.usage;
    const failure = failureOf(error);
    process.stderr.write(`${colors.red('ninebells:')} ${failure.message}\n`);
    if (failure.hint !== undefined) process.stderr.write(`${colors.dim(failure.hint)}\n`);
    return failure.exitCode;
  }
}
