import { randomUUID } from 'node:crypto';
import { readFileSync } from 'node:fs';
import type {
  ArrivalDetail,
  ArrivalInfo,
  ArrivalState,
  Became,
  DeliveryDetail,
  DeliveryInfo,
  DeliveryState,
  FeedInfo,
  HookInfo,
  IntakeTrial,
} from '@nine-bells/client/backend';
import { BackendError } from '@nine-bells/client/backend';
import { defined, type Problem } from '@nine-bells/wire';
import { type Command, Option } from 'commander';
import colors from 'picocolors';
import { Webhook } from 'standardwebhooks';
import { CommandError, Exit, exitCodes } from './exitCodes.js';
import {
  backendOf,
  type CallOptions,
  calling,
  collect,
  duration,
  listing,
  noteNext,
  pageOf,
  wholeFrom,
} from './options.js';
import { dataText, dayTime, note, print, printable, printJson, table } from './output.js';

/** Commands for intakes, hooks and feeds. */
export function addWebhooks(program: Command): void {
  addArrivals(program);
  addIntakes(program);
  addDeliveries(program);
  addHooks(program);
  addFeeds(program);
}

/** A command with the options of all that call a service. */
interface ArrivalsOptions extends CallOptions {
  readonly intake?: string;
  readonly state?: ArrivalState;
  readonly limit: number;
  readonly again?: boolean;
}

function addArrivals(program: Command): void {
  listing(
    program
      .command('arrivals')
      .description('list arrivals at intakes with their results; or show one, or run it again')
      .argument('[id]', 'one event, with headers and body')
      .option('--intake <name>', 'only of this intake')
      .addOption(new Option('--state <state>', 'only these').choices(['waiting', 'done', 'ignored', 'failed']))
      .option('--again', 'with an id: run it again, by the routes of now'),
    20,
  ).action(async (id: string | undefined, options: ArrivalsOptions) => {
    const backend = backendOf(options);
    const { intake, state, again, json } = options;
    if (again && id === undefined) throw new CommandError(exitCodes.usage, 'say which: --again goes with an id');
    if (id !== undefined) {
      const ran = again ? await backend.runAgain(id) : undefined;
      const found = await backend.arrival(id);
      if (json) printJson(found);
      else print(arrivalText(found));
      if (ran?.state === 'failed') throw new Exit(exitCodes.failed);
      return;
    }
    const { arrivals, next } = await backend.arrivals({ ...pageOf(options), ...defined({ intake, state }) });
    if (json) for (const each of arrivals) printJson(each);
    else if (arrivals.length === 0) note('Nothing came in.');
    else print(table(['AT', 'INTAKE', 'ID', 'STATE', 'BECAME'], arrivals.map(arrivalRow)));
    noteNext(next);
  });
}

function arrivalRow(each: ArrivalInfo): string[] {
  return [dayTime(each.at), each.intake, each.id, each.state, printable(each.problem ?? becameText(each.became))];
}

function becameText(became: Became | undefined): string {
  if (became === undefined) return '';
  const { messages = [], notices = [], entries = [] } = became;
  const parts = [
    ...messages.map(({ channel, cursor }) => `${channel} ${cursor}`),
    ...notices.map(({ users }) => `a notice to ${users} ${users === 1 ? 'user' : 'users'}`),
    ...entries.map(({ channel, entry }) => `${entry} on ${channel}`),
  ];
  return parts.length === 0 ? 'nothing' : parts.join(', ');
}

function arrivalText(arrival: ArrivalDetail): string {
  const { id, intake, at, state, eventId, bytes, headers, body, isBase64, became, problem, tries } = arrival;
  const lines = [
    `${colors.bold(id)} through ${intake}, ${dayTime(at)}: ${stateText(state)}`,
    ...(eventId === undefined ? [] : [`  the sender calls it ${printable(eventId)}`]),
    ...(problem === undefined ? [] : [`  ${printable(problem)}${tries > 1 ? ` (${tries} tries)` : ''}`]),
    ...(became === undefined
      ? []
      : [`  became ${becameText(became)}${became.route === undefined ? '' : `, by route ${became.route + 1}`}`]),
    ...(became?.messages ?? []).map(({ id: message }) => colors.dim(`  ninebells trace ${message}`)),
    '',
    ...Object.entries(headers).map(([name, value]) => `${colors.dim(name)} ${printable(value)}`),
    `${bytes} bytes${isBase64 ? ', shown in base64' : ''}`,
    printable(isBase64 ? String(body) : JSON.stringify(body)),
  ];
  return lines.join('\n');
}

function stateText(state: string): string {
  const paint = { failed: colors.red, dead: colors.red, done: colors.green, delivered: colors.green }[state];
  return paint === undefined ? state : paint(state);
}

interface TrialOptions extends CallOptions {
  readonly file?: string;
  readonly arrival?: string;
  readonly header?: string[];
  readonly routes?: string;
}

function addIntakes(program: Command): void {
  const intake = program.command('intake').description('list intakes, and try them');
  calling(intake.command('list').description('list the intakes and their totals')).action(
    async (options: CallOptions) => {
      const { intakes } = await backendOf(options).intakes();
      if (options.json) for (const each of intakes) printJson(each);
      else if (intakes.length === 0) note('No intake is configured.');
      else
        print(
          table(
            ['INTAKE', 'PATH', 'VERIFIED BY', 'ARRIVED', 'REPEATED', 'REFUSED', 'FAILED'],
            intakes.map((each) => [
              each.name,
              each.path,
              each.verify,
              ...[each.arrived, each.repeated, each.refused, each.failed].map(String),
            ]),
          ),
        );
    },
  );
  calling(
    intake
      .command('send')
      .description('post an event, signed as Standard Webhooks says, to try an intake')
      .argument('<name>', 'the intake')
      .requiredOption('--file <file>', 'the body, JSON')
      .requiredOption('--secret <secret>', 'a secret of the intake: whsec_...')
      .option('--id <id>', 'your id of the event; by default a random one'),
  ).action(send);
  calling(
    intake
      .command('test')
      .description('show the verification, route and result of an event, without publishing')
      .argument('<name>', 'the intake')
      .option('--file <file>', 'the body')
      .option('--arrival <id>', 'a kept event in place of a body')
      .option('--header <name: value>', 'a header; may be given several times', collect)
      .option('--routes <file>', 'routes in place of those of the configuration: a YAML list'),
  ).action(async (name: string, options: TrialOptions) => {
    const { file, arrival, header, routes, json } = options;
    if ((file === undefined) === (arrival === undefined))
      throw new CommandError(exitCodes.usage, 'say what to try: --file or --arrival');
    const trial = await backendOf(options).tryIntake(name, {
      ...defined({ arrival, text: file === undefined ? undefined : read(file) }),
      headers: headersOf(header ?? []),
      ...(routes === undefined ? {} : { routes: read(routes) }),
    });
    if (json) printJson(trial);
    else print(trialText(trial));
    if (trial.problem !== undefined || !trial.matched) throw new Exit(exitCodes.failed);
  });
}

interface SendOptions extends CallOptions {
  readonly file: string;
  readonly secret: string;
  readonly id?: string;
}

/** Posts an event as a sender does that signs as Standard Webhooks says. */
async function send(name: string, { file, secret, id = randomUUID(), url, json }: SendOptions): Promise<void> {
  const body = read(file);
  const at = new Date();
  const signature = sign(secret, id, at, body);
  const response = await fetch(`${url}/in/${encodeURIComponent(name)}`, {
    method: 'POST',
    body,
    headers: {
      'content-type': 'application/json',
      'webhook-id': id,
      'webhook-timestamp': String(Math.floor(at.getTime() / 1000)),
      'webhook-signature': signature,
    },
  });
  const answer = (await response.json()) as { id: string; repeated?: boolean } & Problem;
  if (!response.ok) throw new BackendError(`${answer.title}: ${answer.detail ?? ''}`, response.status, answer);
  if (json) printJson(answer);
  else print(`${answer.id}${answer.repeated ? ' (came before)' : ''}`);
}

function sign(secret: string, id: string, at: Date, body: string): string {
  try {
    return new Webhook(secret).sign(id, at, body);
  } catch {
    throw new CommandError(exitCodes.usage, 'the secret is none of Standard Webhooks: whsec_ and base64');
  }
}

function read(file: string): string {
  try {
    return readFileSync(file, 'utf8');
  } catch (error) {
    throw new CommandError(exitCodes.usage, `${file} cannot be read: ${(error as Error).message}`);
  }
}

function headersOf(given: readonly string[]): Record<string, string> {
  return Object.fromEntries(
    given.map((each) => {
      const at = each.indexOf(':');
      if (at < 1) throw new CommandError(exitCodes.usage, `${each} is no header`, 'write it as "webhook-id: e17"');
      return [each.slice(0, at).trim(), each.slice(at + 1).trim()];
    }),
  );
}

function trialText({ verification, matched, route, becomes, problem, body }: IntakeTrial): string {
  const lines: string[] = [];
  if (verification !== undefined)
    lines.push(
      `Signature: ${verification === 'valid' ? colors.green('valid') : colors.yellow(printable(verification))}`,
    );
  lines.push(`Body: ${printable(JSON.stringify(body))}`);
  if (problem !== undefined) lines.push(`${colors.red('It could not be shaped:')} ${printable(problem)}`);
  else if (!matched) lines.push(colors.yellow('No route is for it.'));
  else {
    lines.push(`Route: ${route === undefined ? 'a function' : route + 1}`);
    const { messages = [], notices = [], entries = [] } = becomes ?? {};
    for (const each of messages)
      lines.push(
        `  message in ${each.channel}${each.type === undefined ? '' : ` (${each.type})`}: ${dataText(each.data)}`,
      );
    for (const each of notices)
      lines.push(`  notice to ${JSON.stringify(each.users ?? each.role)}: ${printable(String(each.title))}`);
    for (const each of entries) lines.push(`  ${each.entry} on ${each.channel}: ${dataText(each.value)}`);
    if (messages.length + notices.length + entries.length === 0) lines.push('  nothing becomes of it');
  }
  return lines.join('\n');
}

interface DeliveriesOptions extends CallOptions {
  readonly hook?: string;
  readonly state?: DeliveryState;
  readonly failed?: boolean;
  readonly limit: number;
}

interface ResendOptions extends CallOptions {
  readonly hook?: string;
  readonly since?: number;
  readonly dead?: boolean;
}

function addDeliveries(program: Command): void {
  listing(
    program
      .command('deliveries')
      .description('list deliveries to hooks and feeds; or show one with all its attempts')
      .argument('[id]', 'one delivery')
      .option('--hook <name>', 'only of this hook or feed')
      .addOption(new Option('--state <state>', 'only these').choices(['waiting', 'delivered', 'dead']))
      .option('--failed', 'only what has failed at least once'),
    20,
  ).action(async (id: string | undefined, options: DeliveriesOptions) => {
    const backend = backendOf(options);
    const { hook, state, failed, json } = options;
    if (id !== undefined) {
      const found = await backend.delivery(id);
      if (json) printJson(found);
      else print(deliveryText(found));
      return;
    }
    const { deliveries, next } = await backend.deliveries({
      ...pageOf(options),
      ...defined({ hook, state }),
      ...(failed ? { failed } : {}),
    });
    if (json) for (const each of deliveries) printJson(each);
    else if (deliveries.length === 0) note('Nothing was sent, and nothing waits.');
    else print(table(['AT', 'DELIVERY', 'EVENT', 'CHANNEL', 'STATE', 'TRIES', 'SAYS'], deliveries.map(deliveryRow)));
    noteNext(next);
  });
  calling(
    program
      .command('resend')
      .description('send deliveries again: these, or all of a hook since a time')
      .argument('[id...]', 'deliveries, as `ninebells deliveries` lists them')
      .option('--hook <name>', 'all of this hook')
      .option('--since <time>', 'with --hook: how far back, such as 2h', duration)
      .option('--dead', 'with --hook: only what was given up'),
  ).action(async (ids: readonly string[], options: ResendOptions) => {
    const { hook, since, dead, json } = options;
    if ((ids.length === 0) !== (hook !== undefined && since !== undefined))
      throw new CommandError(exitCodes.usage, 'say what to send again: ids, or --hook with --since');
    const { resent } = await backendOf(options).resend(
      ids.length > 0
        ? { ids }
        : {
            hook: hook as string,
            since: new Date(Date.now() - (since as number)).toISOString(),
            ...(dead ? { state: 'dead' } : {}),
          },
    );
    if (json) printJson({ resent });
    else print(`${resent} ${resent === 1 ? 'delivery is' : 'deliveries are'} sent again.`);
    if (resent === 0) throw new Exit(exitCodes.failed);
  });
}

function deliveryRow({ at, id, event, channel, state, attempts, status, problem, next }: DeliveryInfo): string[] {
  const later = next === undefined ? '' : `; again ${dayTime(next)}`;
  const says = problem === undefined ? (status === undefined ? '' : String(status)) : `${printable(problem)}${later}`;
  return [dayTime(at), id, event, channel ?? '', state, String(attempts), says];
}

function deliveryText(delivery: DeliveryDetail): string {
  const { id, hook, event, channel, at, state, next, data, tried } = delivery;
  const lines = [
    `${colors.bold(id)}: ${stateText(state)}${next === undefined ? '' : `, tried again ${dayTime(next)}`}`,
    `  ${event}${channel === undefined ? '' : ` in ${channel}`}, ${dayTime(at)}, for ${hook}`,
    `  ${printable(JSON.stringify(data))}`,
  ];
  for (const { at: tryAt, tookMs, status, problem, answer, sent } of tried) {
    lines.push(
      '',
      `${dayTime(tryAt)}  ${problem === undefined ? colors.green(String(status)) : colors.red(printable(problem))}  ${tookMs} ms`,
    );
    for (const [name, value] of Object.entries(sent ?? {})) lines.push(colors.dim(`  ${name}: ${printable(value)}`));
    if (answer) lines.push(`  ${printable(answer.slice(0, 400))}`);
  }
  return lines.join('\n');
}

interface HookOptions extends CallOptions {
  readonly event?: string[];
  readonly channel?: string[];
  readonly type?: string[];
  readonly order?: boolean;
}

function addHooks(program: Command): void {
  const hook = program.command('hook').description('list hooks, and register, pause and resume them');
  calling(hook.command('list').description('list hooks and their states')).action(async (options: CallOptions) => {
    const { hooks } = await backendOf(options).hooks();
    if (options.json) for (const each of hooks) printJson(each);
    else if (hooks.length === 0) note('There is no hook.');
    else print(table(['HOOK', 'STATE', 'WAITING', 'OLDEST', 'DEAD', 'EVENTS', 'CHANNELS', 'URL'], hooks.map(hookRow)));
    for (const { name, paused } of hooks)
      if (paused !== undefined && !options.json) note(`${name} is paused since ${dayTime(paused.at)}: ${paused.why}`);
  });
  calling(
    hook
      .command('add')
      .description('register or replace a hook, and print its signing secret')
      .argument('<name>')
      .argument('<url>', 'where events are sent to')
      .option('--event <event>', 'what it hears; may be given several times. Default: message', collect)
      .option('--channel <pattern>', 'only in these channels; may be given several times', collect)
      .option('--type <type>', 'only messages of this type; may be given several times', collect)
      .option('--order', 'one after another in each channel'),
  ).action(async (name: string, url: string, options: HookOptions) => {
    const { event: events, channel: channels, type: types, order } = options;
    const added = await backendOf(options).addHook({
      name,
      url,
      ...defined({ events, channels, types }),
      ...(order ? { order: 'channel' } : {}),
    });
    if (options.json) printJson(added);
    else print(`${added.name} hears of ${added.events.join(', ')}. Its secret: ${added.secrets.join(' ')}`);
  });
  for (const [verb, description] of [
    ['remove', 'remove a hook that was registered, and its queue'],
    ['pause', 'send nothing to a hook; its events wait'],
    ['resume', 'let a paused hook go on'],
  ] as const)
    calling(hook.command(verb).description(description).argument('<name>')).action(
      async (name: string, options: CallOptions) => {
        const backend = backendOf(options);
        const done = await (verb === 'remove'
          ? backend.removeHook(name)
          : verb === 'pause'
            ? backend.pauseHook(name)
            : backend.resumeHook(name));
        if (options.json) printJson(done);
        else print(`${name}: ${verb === 'remove' ? 'removed' : `${verb}d`}.`);
      },
    );
}

function hookRow({ name, state, waiting, oldest, deadKept, events, channels, url }: HookInfo): string[] {
  const old = oldest === undefined ? '' : dayTime(oldest);
  return [
    name,
    state,
    String(waiting),
    old,
    String(deadKept),
    events.join(','),
    channels?.join(' ') ?? '(all)',
    printable(url),
  ];
}

interface FeedOptions extends CallOptions {
  readonly event?: string[];
  readonly channel?: string[];
  readonly type?: string[];
  readonly lease?: string;
}

function addFeeds(program: Command): void {
  const feed = program.command('feed').description('list feeds, and make, read and rewind them');
  calling(feed.command('list').description('list feeds and their backlogs')).action(async (options: CallOptions) => {
    const { feeds } = await backendOf(options).feeds();
    if (options.json) for (const each of feeds) printJson(each);
    else if (feeds.length === 0) note('There is no feed.');
    else print(table(['FEED', 'STATE', 'BEHIND', 'OLDEST', 'EVENTS', 'CHANNELS'], feeds.map(feedRow)));
  });
  calling(
    feed
      .command('add')
      .description('create a feed; it queues events from now on')
      .argument('<name>')
      .option('--event <event>', 'what it has; may be given several times. Default: message', collect)
      .option('--channel <pattern>', 'only in these channels; may be given several times', collect)
      .option('--type <type>', 'only messages of this type; may be given several times', collect)
      .option('--lease <time>', 'how long a reader has to acknowledge an event, such as 60s'),
  ).action(async (name: string, options: FeedOptions) => {
    const { event: events, channel: channels, type: types, lease } = options;
    const added = await backendOf(options).addFeed({ name, ...defined({ events, channels, types, lease }) });
    if (options.json) printJson(added);
    else print(`${added.name} has ${added.events.join(', ')} from now on.`);
  });
  calling(feed.command('remove').description('remove a feed with its backlog').argument('<name>')).action(
    async (name: string, options: CallOptions) => {
      const done = await backendOf(options).removeFeed(name);
      if (options.json) printJson(done);
      else print(`${name}: removed.`);
    },
  );
  calling(
    feed
      .command('read')
      .description('print and acknowledge the events of a feed, one JSON object a line')
      .argument('<name>')
      .option('--count <n>', 'end after so many', wholeFrom(1, 1_000_000)),
  ).action(async (name: string, options: CallOptions & { readonly count?: number }) => {
    let left = options.count ?? Number.POSITIVE_INFINITY;
    for await (const event of backendOf(options).feed(name, { most: Math.min(100, left) })) {
      printJson(event);
      left -= 1;
      if (left <= 0) {
        await backendOf(options).acknowledge(name, [event.id]);
        return;
      }
    }
  });
  calling(
    feed
      .command('rewind')
      .description('deliver events again, such as those of the last hour')
      .argument('<name>')
      .requiredOption('--since <time>', 'how far back, such as 2h', duration),
  ).action(async (name: string, options: CallOptions & { readonly since: number }) => {
    const since = new Date(Date.now() - options.since).toISOString();
    const { again } = await backendOf(options).rewindFeed(name, since);
    if (options.json) printJson({ again });
    else print(`${again} ${again === 1 ? 'event comes' : 'events come'} again.`);
  });
}

function feedRow({ name, state, waiting, oldest, events, channels }: FeedInfo): string[] {
  const old = oldest === undefined ? '' : dayTime(oldest);
  return [name, state, String(waiting), old, events.join(','), channels?.join(' ') ?? '(all)'];
}
