import {
  connect,
  type Entry,
  type Line,
  LineError,
  type LineOptions,
  type LineState,
  type Removal,
} from '@nine-bells/client';
import { cloudEventOf, defined, eventSource, filterFault, filterValue, type MessageFilter } from '@nine-bells/wire';
import { type Command, Option } from 'commander';
import { CommandError, exitCodes } from './exitCodes.js';
import { failureOf } from './failure.js';
import { onInterrupt } from './interrupt.js';
import { backendOf, type CallOptions, calling, keyOf, wholeFrom } from './options.js';
import { dayTime, messageLine, note, print, printable, printJson } from './output.js';

interface ListenOptions extends CallOptions {
  readonly token?: string;
  readonly last?: number;
  readonly after?: string;
  readonly count?: number;
  readonly type?: readonly string[];
  readonly by?: readonly string[];
  readonly notBy?: readonly string[];
  readonly where?: readonly string[];
  readonly cloudevents?: boolean;
}

export function addListen(program: Command): void {
  calling(
    program
      .command('listen')
      .description('print messages of channels as they are published, until interrupted')
      .argument('<channel...>', 'such as race/3/chat')
      .option('--last <n>', 'begin with the last n messages', wholeFrom(0, 1000))
      .option('--after <cursor>', 'begin after this cursor (of one channel)')
      .option('--count <n>', 'end after n messages', wholeFrom(1, 1_000_000_000))
      .option('--type <types...>', 'only messages of these types')
      .option('--by <users...>', 'only messages by these users')
      .option('--not-by <users...>', 'no messages by these users')
      .option('--where <terms...>', 'only messages with this in their data, such as /boat=petrel')
      .option('--cloudevents', 'print each message as a CloudEvent, on a line of its own')
      .addOption(
        new Option('--token <token>', 'listen as this user; without it as the holder of the key, else as a guest').env(
          'NINEBELLS_TOKEN',
        ),
      ),
  ).action(async (channels: string[], options: ListenOptions) => {
    if (options.after !== undefined && options.last !== undefined)
      throw new CommandError(exitCodes.usage, 'give --last or --after, not both');
    if (options.after !== undefined && channels.length > 1)
      throw new CommandError(exitCodes.usage, '--after is a place in one channel; name only that one');
    await listen(channels, options);
  });
}

async function listen(channels: readonly string[], options: ListenOptions): Promise<void> {
  const filter = filterOf(options);
  const source = options.cloudevents ? await sourceOf(options) : '';
  const line = connect(options.url, await tokenOf(options));
  let forget = (): void => {};
  return new Promise<void>((resolve, reject) => {
    let left = options.count ?? Number.POSITIVE_INFINITY;
    const finish = (): void => {
      line.close();
      resolve();
    };
    forget = onInterrupt(finish);
    tellStates(line, reject);
    for (const channel of channels) {
      const entry = enter(line, channel, { ...options, filter });
      entry.addEventListener('message', ({ detail: { own: _, live: __, ...message } }) => {
        if (left <= 0) return;
        if (options.cloudevents) printJson(cloudEventOf(message, source));
        else if (options.json) printJson(message);
        else print(messageLine(message, channels.length > 1));
        left -= 1;
        if (left === 0) finish();
      });
      // Each message becomes one event; changes do not become events.
      if (!options.cloudevents)
        entry.addEventListener('change', ({ detail: { live: _, ...message } }) => {
          if (left <= 0) return;
          if (options.json) printJson(message);
          else print(messageLine(message, channels.length > 1));
        });
      entry.addEventListener('gap', ({ detail }) =>
        note(`${channel}: messages after ${detail.after} can no longer be recovered (${detail.why})`),
      );
      entry.addEventListener('waiting', ({ detail }) =>
        note(`${channel}: ${detail.detail ?? detail.title}; trying again soon`),
      );
      const over = (failure: CommandError): void => {
        line.close();
        reject(failure);
      };
      entry.addEventListener('removed', ({ detail }) =>
        over(new CommandError(exitCodes.refused, `${channel}: ${removedText(detail)}`)),
      );
      entry.addEventListener('refused', ({ detail }) => over(failureOf(LineError.from(detail))));
    }
  }).finally(() => forget());
}

function enter(
  line: Line,
  channel: string,
  { last, after, filter }: ListenOptions & { readonly filter: MessageFilter | undefined },
): Entry {
  try {
    return line.enter(channel, {
      ...defined({ last, after, filter }),
      quiet: true,
    });
  } catch (error) {
    line.close();
    throw new CommandError(exitCodes.usage, `${channel}: ${(error as Error).message}`);
  }
}

function filterOf({ type, by, notBy, where }: ListenOptions): MessageFilter | undefined {
  const terms = where?.map((term) => {
    const at = term.indexOf('=');
    if (at === -1)
      throw new CommandError(exitCodes.usage, `${term}: write a pointer and a value, such as /boat=petrel`);
    return [term.slice(0, at), filterValue(term.slice(at + 1))];
  });
  const filter: MessageFilter = defined({ types: type, by, notBy, where: terms && Object.fromEntries(terms) });
  if (Object.keys(filter).length === 0) return undefined;
  const fault = filterFault(filter);
  if (fault !== undefined)
    throw new CommandError(exitCodes.usage, `the filter is not one: ${fault.where} ${fault.detail}`);
  return filter;
}

/** The source of the service's events: as in what it sends itself, where a key may ask for its name. */
async function sourceOf(options: ListenOptions): Promise<string> {
  if (keyOf(options) === undefined) return '/ninebells';
  const { name } = await backendOf(options).overview();
  return eventSource(name);
}

/** Returns the token to listen with. A refused key or an unreachable service ends the command at once. */
async function tokenOf(options: ListenOptions): Promise<LineOptions> {
  const given = options.token?.trim();
  if (given) return { token: given };
  if (keyOf(options) === undefined) return {};
  const backend = backendOf(options);
  let first: string | undefined = (await backend.observerToken()).token;
  return {
    token: async () => {
      const token = first ?? (await backend.observerToken()).token;
      first = undefined;
      return token;
    },
  };
}

/** Prints the state of the line on standard error. The command ends if the service refuses or was never reachable. */
function tellStates(line: Line, reject: (error: Error) => void): void {
  let wasOpen = false;
  line.addEventListener('state', ({ detail }: { detail: LineState }) => {
    if (detail.name === 'open') {
      const who = detail.user.startsWith('observer:') ? 'looking on with the key' : 'as';
      note(`${wasOpen ? 'connected again' : 'connected'}, ${who} ${detail.userName ?? detail.user}`);
      wasOpen = true;
    } else if (detail.name === 'waiting') {
      if (wasOpen) {
        note(`not connected: ${detail.reason}; trying again in ${Math.ceil((detail.retryAt - Date.now()) / 1000)} s`);
        return;
      }
      line.close();
      reject(new CommandError(exitCodes.unreachable, `the service could not be reached: ${detail.reason}`, startHint));
    } else if (detail.name === 'closed' && detail.closedBy === 'service') {
      if (detail.problem === undefined) reject(new CommandError(exitCodes.refused, detail.reason));
      else reject(failureOf(LineError.from(detail.problem)));
    }
  });
}

/** Returns the actor and the reason of a removal. */
function removedText({ reason, by, until }: Removal): string {
  return [
    'removed',
    ...(by === undefined ? [] : [`by ${printable(by.name ?? by.user)}`]),
    ...(until === undefined ? [] : [`until ${dayTime(until)}`]),
    ...(reason === undefined ? [] : [`because: ${printable(reason)}`]),
  ].join(' ');
}

const startHint =
  'start one with `ninebells serve --config bells.yaml`, or say where it is with --url or NINEBELLS_URL';
