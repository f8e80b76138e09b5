import { LineError } from '@nine-bells/client';
import { BackendError } from '@nine-bells/client/backend';
import type { Problem } from '@nine-bells/wire';
import { CommandError, exitCodes } from './exitCodes.js';
import { printable } from './output.js';

/** Any error as one that tells what happened, what to do next, and how to exit. */
export function failureOf(error: unknown): CommandError {
  if (error instanceof CommandError) return error;
  if (error instanceof BackendError) {
    if (error.problem?.code !== undefined) return refused(error.problem);
    return new CommandError(
      exitCodes.unreachable,
      error.message,
      'start one with `ninebells serve --config bells.yaml`, or say where it is with --url or NINEBELLS_URL',
    );
  }
  if (error instanceof LineError)
    return error.problem === undefined
      ? new CommandError(exitCodes.unreachable, error.message)
      : refused(error.problem);
  return new CommandError(exitCodes.failed, error instanceof Error ? error.message : String(error));
}

function refused(problem: Problem): CommandError {
  const { stands } = problem;
  const standing =
    stands === undefined ? '' : `; it is ${printable(JSON.stringify(stands.value))} since ${stands.version}`;
  const message = `${problem.title} (${problem.code})${problem.detail === undefined ? '' : `: ${problem.detail}`}${standing}`;
  const hint = hints[problem.code] ?? otherFaults(problem);
  return new CommandError(isLater(problem) ? exitCodes.later : exitCodes.refused, message, hint);
}

/** What else does not fit, beside what the problem's own words say. */
function otherFaults({ faults = [] }: Problem): string | undefined {
  const lines = faults
    .slice(1)
    .map(
      ({ where, expected, found }) => `${where}: expected ${expected}${found === undefined ? '' : `, found ${found}`}`,
    );
  return lines.length === 0 ? undefined : printable(lines.join('; '));
}

function isLater({ code }: Problem): boolean {
  return (
    code === 'busy' || code === 'unavailable' || code === 'draining' || code === 'internal' || code === 'rate-limited'
  );
}

const hints: Partial<Record<Problem['code'], string>> = {
  'key-invalid': 'give the key with NINEBELLS_KEY; the first one stands in the file api-key of the data folder',
  banned: 'see `ninebells bans`; `ninebells unban ID` ends one before its time',
  'no-such-channel': 'see `channels:` in the configuration for the patterns there are',
  'token-invalid': 'make one with `ninebells token --config bells.yaml --user NAME`',
  'token-ended': 'make a new one with `ninebells token --config bells.yaml --user NAME`',
  'no-guests': 'give a token with --token or NINEBELLS_TOKEN, or a key with NINEBELLS_KEY',
};
