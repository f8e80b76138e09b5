import type { SearchHit } from '@nine-bells/client';
import { defined } from '@nine-bells/wire';
import type { Command } from 'commander';
import { backendOf, type CallOptions, listing, noteNext } from './options.js';
import { dayTime, note, print, printable, printJson } from './output.js';

interface SearchOptions extends CallOptions {
  readonly in?: readonly string[];
  readonly by?: readonly string[];
  readonly type?: readonly string[];
  readonly since?: string;
  readonly until?: string;
  readonly after?: string;
  readonly limit?: number;
  readonly progress?: boolean;
}

/** Finds messages by their words. */
export function addSearch(program: Command): void {
  listing(
    program
      .command('search')
      .description('search messages, best match first')
      .argument('[words...]', 'words that must all be there; "in quotes" together, sail* begins so, -word is not there')
      .option('--in <channel...>', 'only in these channels, or of patterns such as race/:race/chat')
      .option('--by <user...>', 'only by these users')
      .option('--type <type...>', 'only of these types')
      .option('--since <time>', 'only from this time on, such as 2026-07-04T16:00:00Z')
      .option('--until <time>', 'only before this time')
      .option('--progress', 'instead, say how much of what is searched can be found already'),
    20,
    100,
  ).action(async (words: string[], options: SearchOptions) => {
    const backend = backendOf(options);
    if (options.progress) {
      const progress = await backend.searchProgress();
      if (options.json) printJson(progress);
      else
        print(
          `${progress.ready} of ${progress.messages} messages can be found; channels that are searched: ${progress.channels}.`,
        );
      return;
    }
    const { in: where, by, type: types, since, until, after, limit } = options;
    const wish = defined({ in: where, by, types, since, until, after, limit });
    const { hits, next } = await backend.search(words.join(' '), wish);
    if (options.json) for (const each of hits) printJson(each);
    else if (hits.length === 0) note('Nothing was found.');
    else for (const each of hits) print(hitText(each));
    noteNext(next);
  });
}

function hitText({ channel, cursor, by, at, text, marks }: SearchHit): string {
  const parts: string[] = [];
  let end = 0;
  for (const { from, to } of marks) {
    parts.push(printable(text.slice(end, from)), `[${printable(text.slice(from, to))}]`);
    end = to;
  }
  return `${dayTime(at)}  ${channel}  ${cursor}  ${printable(by?.name ?? by?.user ?? '')}: ${parts.join('')}${printable(text.slice(end))}`;
}
