import { Backend } from '@nine-bells/client/backend';
import { defined } from '@nine-bells/wire';
import { type Command, InvalidArgumentError, type Option, Option as OptionClass } from 'commander';
import { note } from './output.js';

/** Options of every command that calls a service. */
export interface CallOptions {
  readonly url: string;
  readonly key?: string;
  readonly json?: boolean;
}

export const urlOption = (): Option =>
  new OptionClass('--url <url>', 'where the service is').env('NINEBELLS_URL').default('http://127.0.0.1:9119');

export const keyOption = (): Option => new OptionClass('--key <key>', 'an API key').env('NINEBELLS_KEY');

export const jsonOption = (): Option => new OptionClass('--json', 'one JSON object a line, for scripts');

/** Adds the options of a command that calls a service. */
export function calling(command: Command): Command {
  return command.addOption(urlOption()).addOption(keyOption()).addOption(jsonOption());
}

/** Options of a command that prints a page of a list. */
export interface ListOptions extends CallOptions {
  readonly limit: number;
  readonly after?: string;
}

/** Adds the options of a command that prints a page of a list. */
export function listing(command: Command, limit: number, maxLimit = 1_000): Command {
  return calling(command)
    .option('--limit <n>', `page size, at most ${maxLimit}`, wholeFrom(1, maxLimit), limit)
    .option('--after <place>', 'continue behind this place, as the previous page says');
}

/** Selects the page that the options ask for. */
export function pageOf({ limit, after }: ListOptions): { readonly limit: number; readonly after?: string } {
  return { limit, ...defined({ after }) };
}

/** Tells how to get the next page, if there is one. */
export function noteNext(next: string | undefined): void {
  if (next !== undefined) note(`Next page: --after ${next}`);
}

export const portOption = (): Option =>
  new OptionClass('--port <port>', 'the port to listen on; 0 for any free one')
    .env('NINEBELLS_PORT')
    .argParser(wholeFrom(0, 65_535));

export const dataOption = (): Option =>
  new OptionClass('--data <folder>', 'the folder for the database and the first API key').env('NINEBELLS_DATA');

export const relayOption = (): Option =>
  new OptionClass('--relay <url>', 'where several instances meet, such as redis://127.0.0.1:6379').env(
    'NINEBELLS_RELAY',
  );

export const databaseOption = (): Option =>
  new OptionClass(
    '--database <url>',
    'a database that several machines share, such as postgres://db.example/bells',
  ).env('NINEBELLS_DATABASE');

export const workersOption = (): Option =>
  new OptionClass('--workers <n>', 'processes of this machine that share the work; 0: one process does it all')
    .env('NINEBELLS_WORKERS')
    .argParser(wholeFrom(0, 256));

/** Reads a whole number within bounds. */
export function wholeFrom(least: number, most: number): (value: string) => number {
  return (value) => {
    const number = Number(value);
    if (!/^[0-9]{1,10}$/.test(value) || number < least || number > most)
      throw new InvalidArgumentError(`A whole number from ${least} to ${most} is expected.`);
    return number;
  };
}

const timeUnits: Readonly<Record<string, number>> = { ms: 1, s: 1000, m: 60_000, h: 3_600_000, d: 86_400_000 };

/** Reads a length of time such as `30m`, as in the configuration; in milliseconds. */
export function duration(value: string): number {
  const match = /^([1-9][0-9]{0,9})(ms|s|m|h|d)$/.exec(value);
  if (match === null) throw new InvalidArgumentError('A time such as 90s, 30m, 12h or 7d is expected.');
  return Number(match[1]) * (timeUnits[match[2] as string] as number);
}

/** Adds each value of an option that may be given several times. */
export function collect(value: string, before: string[] = []): string[] {
  return [...before, value];
}

export function backendOf(options: CallOptions): Backend {
  const key = keyOf(options);
  return new Backend(options.url, key === undefined ? {} : { key });
}

/** The key that was given; an empty one, as an unset variable may leave it, is none. */
export function keyOf({ key }: CallOptions): string | undefined {
  return key?.trim() || undefined;
}
