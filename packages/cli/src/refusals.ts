import type { RefusalKind } from '@nine-bells/client/backend';
import type { Command } from 'commander';
import { backendOf, type CallOptions, calling } from './options.js';
import { dayTime, note, print, printable, printJson, table } from './output.js';

interface RefusalsOptions extends CallOptions {
  readonly code?: string;
}

/** `ninebells refusals`: what clients were refused, and the latest cases of each kind. */
export function addRefusals(program: Command): void {
  calling(
    program
      .command('refusals')
      .description('list recent refusals and their reasons')
      .option('--code <code>', 'only refusals with this problem code, such as token-invalid'),
  ).action(async (options: RefusalsOptions) => {
    const { code } = options;
    const { refusals, missing } = await backendOf(options).refusals(code === undefined ? {} : { code });
    if (options.json) {
      for (const each of refusals) printJson(each);
      return;
    }
    if (refusals.length === 0) note('Nothing was refused since the service has started.');
    else {
      print(table(['LAST', 'TIMES', 'CODE', 'AT', 'WHOM', 'WHERE', 'WHY'], refusals.map(rowOf)));
      note(
        'Each line shows the latest of its kind; --json shows up to five. `ninebells explain` says which rule decides.',
      );
    }
    if (missing !== undefined) note(`No answer from ${missing.join(', ')}: what they have refused is missing.`);
  });
}

function rowOf({ code, act, reportOnly, count, lastAt, latest }: RefusalKind): string[] {
  const { user, address, channel, origin, detail } = latest.at(-1) ?? {};
  return [
    dayTime(lastAt),
    String(count),
    code,
    reportOnly ? `${act} (let pass)` : act,
    printable(user ?? address ?? ''),
    printable(channel ?? origin ?? ''),
    printable(detail ?? ''),
  ];
}
