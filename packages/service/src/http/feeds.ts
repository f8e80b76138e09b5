import type { Engine, FeedTaken, ShapedDelivery } from '@nine-bells/core';
import { refusal } from '@nine-bells/wire';
import type { FeedInfo } from '@nine-bells/wire/http';
import { IsArray, IsString } from 'class-validator';
import type { Request, Response } from 'express';
import { eventText } from '../webhooks/cloudEvents.js';
import type { HookRegistry } from '../webhooks/hookRegistry.js';
import { checkHookRights } from '../webhooks/hookRights.js';
import { readBody } from './body.js';
import { registeredIn, removeHook, shownHook, shownInfo } from './hooks.js';
import { queryText, queryWhole } from './query.js';
import { type Route, route, type Serve } from './route.js';

/** Most events of one answer, and that a stream has unacknowledged. */
const maxEvents = 500;
/** The longest wait for events, in seconds. */
const maxWaitS = 60;
/** Interval between heartbeats of a stream, in milliseconds. */
const aliveMs = 15_000;

class AckDto {
  @IsArray()
  @IsString({ each: true })
  ids!: string[];
}

class RewindDto {
  @IsString()
  since!: string;
}

/** `/v1/feeds`: events for those who would rather fetch them. */
export function feeds(engine: Engine, registry: HookRegistry, source: string): readonly Route[] {
  const { store, hooks } = engine;
  const { feeds: all } = hooks;

  const register: Serve<'POST /v1/feeds'> = async (request, response, { key }) => {
    const { name, hook } = registry.registrationOf('feed', request.body, key, await registeredIn(engine));
    await store.hooks.keepHook(name, hook);
    await hooks.changed();
    response.json((await shownHook(engine, name)) as FeedInfo);
  };

  const list: Serve<'GET /v1/feeds'> = async (_request, response) => {
    const figures = await store.hooks.hookFigures();
    const found = hooks.all.filter(({ hook }) => hook.leaseMs !== undefined);
    response.json({ feeds: found.map((info) => shownInfo(engine, info, figures[info.hook.name]) as FeedInfo) });
  };

  const remove: Serve<'DELETE /v1/feeds/:name'> = async (request, response, caller) => {
    const name = nameOf(request);
    all.require(name);
    await removeHook(engine, name, caller);
    response.json({ name, removed: true });
  };

  const take: Serve<'GET /v1/feeds/:name'> = async (request, response, caller) => {
    const name = nameOf(request);
    checkHookRights(caller.key, all.require(name));
    const most = queryWhole(request, 'most', maxEvents) ?? 100;
    if (/text\/event-stream/.test(request.get('accept') ?? '')) return stream(name, most, request, response);
    const waitS = queryText(request, 'wait') === '0' ? 0 : (queryWhole(request, 'wait', maxWaitS) ?? 20);
    const gone = goneWith(response);
    const taken = await all.take(name, most, waitS * 1000, gone);
    if (gone.aborted) {
      // The reader is gone: other readers get the events.
      await all.giveBack(name, idsOf(taken));
      return;
    }
    (response as Response<unknown>)
      .type('json')
      .send(
        `{"feed":${JSON.stringify(name)},"events":[${taken.events.map((each) => eventText(each, source)).join()}]}`,
      );
  };

  /** Gives events as they come, as long as the reader acknowledges them: at most `most` are not. */
  const stream = async (name: string, most: number, request: Request, response: Response): Promise<void> => {
    const gone = goneWith(response);
    response.set({ 'Content-Type': 'text/event-stream', 'Cache-Control': 'no-store', 'X-Accel-Buffering': 'no' });
    response.flushHeaders();
    const alive = setInterval(() => response.write(':\n\n'), aliveMs);
    let given: readonly string[] = [];
    try {
      while (!gone.aborted && !engine.draining) {
        if (given.length >= most) given = await all.room(name, given, most);
        if (given.length >= most) continue;
        const taken = await all.take(name, most - given.length, aliveMs, gone);
        given = [...new Set([...given, ...idsOf(taken)])];
        if (gone.aborted) break;
        response.write(taken.events.map((each) => frameOf(each, source)).join(''));
      }
    } catch (error) {
      // The feed was removed, or the database does not answer: the reader comes again and hears why.
      request.socket.destroy();
      if (!gone.aborted) throw error;
    } finally {
      clearInterval(alive);
      response.end();
      // Unacknowledged events go to other readers at once, though this one may have received them.
      await all.giveBack(name, given).catch(() => {});
    }
  };

  const acknowledge: Serve<'POST /v1/feeds/:name/ack'> = async (request, response, caller) => {
    const name = nameOf(request);
    checkHookRights(caller.key, all.require(name));
    const { ids } = readBody(AckDto, request.body);
    if (ids.length === 0 || ids.length > maxEvents)
      throw refusal('bad-value', `\`ids\` is a list of 1 to ${maxEvents} ids of events`, { where: '/ids' });
    response.json({ acknowledged: await all.acknowledge(name, ids) });
  };

  const rewind: Serve<'POST /v1/feeds/:name/rewind'> = async (request, response, { key }) => {
    const name = nameOf(request);
    checkHookRights(key, all.require(name));
    const fromMs = Date.parse(readBody(RewindDto, request.body).since);
    if (Number.isNaN(fromMs)) throw refusal('bad-value', '`since` is a time (RFC 3339)', { where: '/since' });
    response.json({ again: await hooks.resend({ hook: name, fromMs }) });
  };

  return [
    route('POST /v1/feeds', { right: 'hooks', statuses: [201] }, register),
    route('GET /v1/feeds', { right: 'read' }, list),
    route('DELETE /v1/feeds/:name', { right: 'hooks' }, remove),
    route('GET /v1/feeds/:name', { right: 'hooks', query: ['most', 'wait'] }, take),
    route('POST /v1/feeds/:name/ack', { right: 'hooks', body: AckDto }, acknowledge),
    route('POST /v1/feeds/:name/rewind', { right: 'hooks', body: RewindDto }, rewind),
  ];
}

function nameOf(request: Request): string {
  return String(request.params.name);
}

/** Becomes `aborted` when the client has gone. */
function goneWith(response: Response): { aborted: boolean } {
  const gone = { aborted: false };
  response.once('close', () => {
    gone.aborted = !response.writableFinished;
  });
  return gone;
}

function idsOf({ events }: FeedTaken): readonly string[] {
  return events.map(({ delivery }) => delivery.id);
}

/** An event of a stream (HTML, section 9.2). */
function frameOf(each: ShapedDelivery, source: string): string {
  const { id, event } = each.delivery;
  return `id: ${id}\nevent: ninebells.${event}\ndata: ${eventText(each, source)}\n\n`;
}
