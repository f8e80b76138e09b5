import type {
  DeliveryAttempt,
  DeliveryRecord,
  DeliverySelection,
  DeliveryState,
  Engine,
  HookFigures,
  HookInfo,
  HookState,
} from '@nine-bells/core';
import { deliveryId } from '@nine-bells/core';
import { defined, type Json, refusal } from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import { IsArray, IsOptional, IsString } from 'class-validator';
import type { HookRegistry } from '../webhooks/hookRegistry.js';
import { checkEventRights, checkHookRights } from '../webhooks/hookRights.js';
import { readBody } from './body.js';
import { numberAfter, pageOf, pageQuery, queryText, queryWhole } from './query.js';
import { type Caller, type Route, route, type Serve } from './route.js';

/** Most deliveries that are named in one request. */
const maxAtOnce = 1_000;

class ResendDto {
  @IsOptional()
  @IsArray()
  ids?: unknown[] | null;

  @IsOptional()
  @IsString()
  hook?: string;

  @IsOptional()
  @IsString()
  since?: string;

  @IsOptional()
  @IsString()
  state?: string;
}

/** `/v1/hooks` and `/v1/deliveries`: where events are sent to, and how it went. */
export function hooks(engine: Engine, registry: HookRegistry): readonly Route[] {
  const { store } = engine;
  const register: Serve<'POST /v1/hooks'> = async (request, response, { key }) => {
    const { name, hook } = registry.registrationOf('hook', request.body, key, await registeredIn(engine));
    await store.hooks.keepHook(name, hook);
    await engine.hooks.changed();
    response.json({ ...((await shownHook(engine, name)) as Http.HookInfo), secrets: hook.secrets });
  };

  const list: Serve<'GET /v1/hooks'> = async (_request, response) => {
    const figures = await store.hooks.hookFigures();
    const { hooks: counts, missing } = await engine.webhookCounts();
    const all = engine.hooks.all.filter(({ hook }) => hook.leaseMs === undefined);
    response.json({
      hooks: all.map((info) => ({
        ...(shownInfo(engine, info, figures[info.hook.name]) as Http.HookInfo),
        ...counts[info.hook.name],
      })),
      ...(missing.length === 0 ? {} : { missing }),
    });
  };

  const one: Serve<'GET /v1/hooks/:name'> = async (request, response) => {
    response.json(await shownHook(engine, String(request.params.name)));
  };

  const remove: Serve<'DELETE /v1/hooks/:name'> = async (request, response, caller) => {
    const name = String(request.params.name);
    await removeHook(engine, name, caller);
    response.json({ name, removed: true });
  };

  const pause: Serve<'POST /v1/hooks/:name/pause'> = async (request, response, { key }) => {
    const name = String(request.params.name);
    checkHookRights(key, engine.hooks.require(name));
    await engine.hooks.pause(name, `paused with the key ${JSON.stringify(key.name)}`);
    response.json(await shownHook(engine, name));
  };

  const resume: Serve<'POST /v1/hooks/:name/resume'> = async (request, response, { key }) => {
    const name = String(request.params.name);
    checkHookRights(key, engine.hooks.require(name));
    await engine.hooks.resume(name);
    response.json(await shownHook(engine, name));
  };

  const deliveries: Serve<'GET /v1/deliveries'> = async (request, response) => {
    const hook = queryText(request, 'hook');
    if (hook !== undefined) engine.hooks.require(hook);
    const failed = queryText(request, 'failed');
    if (failed !== undefined && failed !== 'true') throw refusal('bad-value', '`failed` is true', { where: '?failed' });
    const limit = queryWhole(request, 'limit', 1000) ?? 100;
    const found = await store.hooks.deliveries({
      hook,
      state: stateOf(queryText(request, 'state'), '?state'),
      failed: failed === 'true',
      before: numberAfter(request),
      limit: limit + 1,
    });
    const { page, rest } = pageOf(found, limit, ({ number }) => number);
    response.json({ deliveries: page.map((each) => shownDelivery(each)), ...rest });
  };

  const delivery: Serve<'GET /v1/deliveries/:id'> = async (request, response, { key }) => {
    const id = String(request.params.id);
    const found = await store.hooks.delivery(selectedDelivery(id, ':id'));
    if (found === undefined) throw refusal('no-such-event', `there is no delivery ${id.slice(0, 100)}`);
    checkEventRights(key, found.event, found.channel);
    const attempts = await store.hooks.attempts(found.number);
    response.json({
      ...shownDelivery(found),
      data: JSON.parse(found.dataText) as Json,
      tried: attempts.map(shownAttempt),
    });
  };

  const resend: Serve<'POST /v1/deliveries/resend'> = async (request, response, caller) => {
    const wish = readBody(ResendDto, request.body);
    const which = selectionOf(wish);
    if ('ids' in which) caller.charge(which.ids.length - 1);
    const named = 'ids' in which ? which.ids.map(({ hook }) => hook) : [which.hook];
    for (const each of new Set(named)) {
      // A delivery may be of a hook that is gone.
      const hook = 'ids' in which ? engine.hooks.get(each) : engine.hooks.require(each);
      if (hook !== undefined) checkHookRights(caller.key, hook);
    }
    response.json({ resent: await engine.hooks.resend(which) });
  };

  return [
    route('POST /v1/hooks', { right: 'hooks', statuses: [201] }, register),
    route('GET /v1/hooks', { right: 'read' }, list),
    route('GET /v1/hooks/:name', { right: 'read' }, one),
    route('DELETE /v1/hooks/:name', { right: 'hooks' }, remove),
    route('POST /v1/hooks/:name/pause', { right: 'hooks' }, pause),
    route('POST /v1/hooks/:name/resume', { right: 'hooks' }, resume),
    route('GET /v1/deliveries', { right: 'read', query: ['hook', 'state', 'failed', ...pageQuery] }, deliveries),
    route('GET /v1/deliveries/:id', { right: 'read' }, delivery),
    route('POST /v1/deliveries/resend', { right: 'hooks', body: ResendDto }, resend),
  ];
}

/** The hooks and feeds that were registered over HTTP. */
export async function registeredIn({ store }: Engine): Promise<readonly HookState[]> {
  return (await store.hooks.hookStates()).filter(({ registered }) => registered !== undefined);
}

/**
 * Removes a registered hook or feed with its queue.
 *
 * @throws {ProblemError} `no-such-hook`, `not-allowed`
 */
export async function removeHook(engine: Engine, name: string, { key }: Caller): Promise<void> {
  const state = (await registeredIn(engine)).find((each) => each.name === name);
  checkOwner(engine, name, state, key.id, key.rights.has('administer'));
  await engine.store.hooks.keepHook(name, null);
  await engine.hooks.changed();
}

function checkOwner(engine: Engine, name: string, state: HookState | undefined, key: string, mayAll: boolean): void {
  if (engine.hooks.isConfigured(name))
    throw refusal('not-allowed', `the hook ${name} stands in the configuration, and is removed there`);
  if (state?.registered === undefined) throw refusal('no-such-hook', `there is no hook ${JSON.stringify(name)}`);
  if (state.registered.key !== key && !mayAll)
    throw refusal('not-allowed', `the hook ${name} was registered with another key`);
}

function stateOf(text: string | undefined, where: string): DeliveryState | undefined {
  if (text === undefined || text === 'waiting' || text === 'delivered' || text === 'dead') return text;
  throw refusal('bad-value', '`state` is waiting, delivered or dead', { where });
}

/** Hook and event of a delivery's id. */
export function selectedDelivery(id: string, where: string): { readonly hook: string; readonly id: string } {
  const at = id.indexOf('_');
  if (at < 1) throw refusal('bad-value', 'the id of a delivery is HOOK_EVENT', { where });
  return { hook: id.slice(0, at), id: id.slice(at + 1) };
}

function selectionOf({ ids, hook, since, state }: ResendDto): DeliverySelection {
  if ((ids == null) === (hook == null))
    throw refusal('bad-value', 'name `ids`, or a `hook` and `since`', { where: '/ids' });
  if (ids != null) {
    if (
      !Array.isArray(ids) ||
      ids.length === 0 ||
      ids.length > maxAtOnce ||
      ids.some((each) => typeof each !== 'string')
    )
      throw refusal('bad-value', `\`ids\` is a list of 1 to ${maxAtOnce} ids of deliveries`, { where: '/ids' });
    return { ids: ids.map((each, index) => selectedDelivery(String(each), `/ids/${index}`)) };
  }
  const fromMs = Date.parse(since ?? '');
  if (Number.isNaN(fromMs)) throw refusal('bad-value', '`since` is a time (RFC 3339)', { where: '/since' });
  const ended = stateOf(state ?? undefined, '/state');
  if (ended === 'waiting') throw refusal('bad-value', 'what waits is sent anyway', { where: '/state' });
  return { hook: hook as string, fromMs, ...defined({ state: ended }) };
}

export async function shownHook(engine: Engine, name: string): Promise<Http.HookInfo | Http.FeedInfo> {
  engine.hooks.require(name);
  const info = engine.hooks.all.find(({ hook }) => hook.name === name) as HookInfo;
  return shownInfo(engine, info, (await engine.store.hooks.hookFigures())[name]);
}

export function shownInfo(
  engine: Engine,
  { hook, state, isDown, isFull }: HookInfo,
  figures: HookFigures | undefined,
): Http.HookInfo | Http.FeedInfo {
  const { name, url, events, channels, types, ordered, atOnce, leaseMs } = hook;
  const { paused, failingSinceMs } = state ?? {};
  const queue = {
    name,
    events,
    ...defined({ channels, types }),
    from: engine.hooks.isConfigured(name) ? 'configuration' : 'http',
    state: stateNameOf(paused !== undefined, isFull, isDown || failingSinceMs !== undefined),
    ...(paused === undefined ? {} : { paused: { at: timeText(paused.atMs), why: paused.why } }),
    ...(failingSinceMs === undefined ? {} : { failingSince: timeText(failingSinceMs) }),
    waiting: figures?.waiting ?? 0,
    waitingBytes: figures?.waitingBytes ?? 0,
    deadKept: figures?.dead ?? 0,
    ...(figures?.oldestMs === undefined ? {} : { oldest: timeText(figures.oldestMs) }),
  } as const;
  return leaseMs === undefined ? { ...queue, url, order: ordered ? 'channel' : 'none', atOnce } : { ...queue, leaseMs };
}

function stateNameOf(isPaused: boolean, isFull: boolean, isFailing: boolean): Http.HookInfo['state'] {
  if (isPaused) return 'paused';
  return isFull ? 'full' : isFailing ? 'failing' : 'active';
}

function shownDelivery(each: DeliveryRecord): Http.DeliveryInfo {
  const { number, hook, id, event, channel, atMs, state, attempts, dueAtMs, endedAtMs, status, problem } = each;
  return {
    id: deliveryId(each),
    number,
    hook,
    event,
    eventId: id,
    ...defined({ channel }),
    at: timeText(atMs),
    state,
    attempts,
    ...(dueAtMs === undefined ? {} : { next: timeText(dueAtMs) }),
    ...(endedAtMs === undefined ? {} : { ended: timeText(endedAtMs) }),
    ...defined({ status, problem }),
  };
}

function shownAttempt({ atMs, tookMs, status, problem, sent, text }: DeliveryAttempt): Http.DeliveryAttempt {
  return { at: timeText(atMs), tookMs: Math.round(tookMs), ...defined({ status, problem, sent, answer: text }) };
}

function timeText(ms: number): string {
  return new Date(ms).toISOString();
}
