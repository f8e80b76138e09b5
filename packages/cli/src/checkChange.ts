import type { Change } from '@nine-bells/service';
import type { Command } from 'commander';
import colors from 'picocolors';
import { Exit, exitCodes } from './exitCodes.js';
import { jsonOption } from './options.js';
import { note, print, printJson, table } from './output.js';
import { starting } from './serve.js';

interface ChangeOptions {
  readonly all?: boolean;
  readonly json?: boolean;
}

/** `ninebells check-change`: which changes of a configuration break those who publish or listen. */
export function addCheckChange(program: Command): void {
  program
    .command('check-change')
    .description('list changes between two configurations that break publishers or listeners')
    .argument('<old>', 'the configuration as it is, such as one of the main branch')
    .argument('<new>', 'the configuration as it is to be')
    .option('--all', 'also changes that break neither')
    .addOption(jsonOption())
    .addHelpText('after', '\nExit code 6 if a change breaks publishers or listeners, 0 if none does.')
    .action(async (old: string, now: string, { all, json }: ChangeOptions) => {
      const { configurationChanges, readConfiguration } = await import('@nine-bells/service');
      const read = (file: string) => starting(async () => readConfiguration(file, { withoutSecrets: true }));
      const changes = configurationChanges(await read(old), await read(now));
      const breaking = changes.filter(({ breaks }) => breaks.length > 0);
      const shown = all ? changes : breaking;
      if (json) for (const each of shown) printJson(each);
      else showChanges(shown, { total: changes.length, breaking: breaking.length, all });
      if (breaking.length > 0) throw new Exit(exitCodes.breaks);
    });
}

function showChanges(
  shown: readonly Change[],
  { total, breaking, all }: { readonly total: number; readonly breaking: number; readonly all: boolean | undefined },
): void {
  if (shown.length > 0)
    print(
      table(
        ['BREAKS', 'WHERE', 'WHAT'],
        shown.map(({ breaks, where, what }) => [breaks.join(', ') || '-', where, what]),
      ),
    );
  const others = total - breaking;
  const also = all || others === 0 ? '' : ` (${others} that break nothing: --all)`;
  const counted = `${breaking} ${breaking === 1 ? 'change breaks' : 'changes break'}`;
  if (breaking === 0) note(`No change breaks publishers or listeners${also}.`);
  else note(colors.red(`${counted} publishers or listeners${also}.`));
}
