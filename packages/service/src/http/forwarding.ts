import type { Arrival, DeliveryRecord, Engine } from '@nine-bells/core';
import { defined, refusal } from '@nine-bells/wire';
import { IsInt, IsOptional, Max, Min } from 'class-validator';
import type { IntakeConfiguration } from '../config/types.js';
import type { HookSender } from '../webhooks/hookSender.js';
import { requestOfArrival } from '../webhooks/signAgain.js';
import { readBody } from './body.js';
import { selectedDelivery } from './hooks.js';
import { IsWords } from './publishDto.js';
import { queryText, queryWhole } from './query.js';
import type { Route } from './route.js';

/** Most requests of one answer; the longest wait, in seconds; and how often it is looked meanwhile, in milliseconds. */
const maxRequests = 100;
const maxWaitS = 60;
const lookMs = 300;

/** A request as its receiver would get it. */
export interface ForwardedRequest {
  readonly number: number;
  readonly id: string;
  /** What it is, for people. */
  readonly what: string;
  readonly method: string;
  readonly headers: Readonly<Record<string, string>>;
  readonly body: string;
}

class ReportDto {
  static readonly members = { id: true, status: true, tookMs: true, answer: true } as const;

  @IsWords(200)
  id!: string;

  @IsOptional()
  @IsInt()
  @Min(100)
  @Max(599)
  status?: number;

  @IsInt()
  @Min(0)
  tookMs!: number;

  @IsOptional()
  @IsWords(4_096)
  answer?: string;
}

export interface ForwardingHost {
  readonly engine: Engine;
  readonly intakes: readonly IntakeConfiguration[];
  readonly sender: HookSender;
  readonly now: () => number;
}

/** `/v1/forward/NAME`: copies of what passes an intake or goes to a hook, for a developer's own machine. */
export function forwarding({ engine, intakes, sender, now }: ForwardingHost): readonly Route[] {
  const { store } = engine;

  const next: Route['serve'] = async (request, response) => {
    const name = String(request.params.name);
    const intake = intakes.find((each) => each.name === name);
    if (intake === undefined) engine.hooks.require(name);
    const waitS = queryText(request, 'wait') === '0' ? 0 : (queryWhole(request, 'wait', maxWaitS) ?? 20);
    const latest = async (limit: number): Promise<readonly (Arrival | DeliveryRecord)[]> =>
      intake === undefined ? store.deliveries({ hook: name, limit }) : store.arrivals({ intake: name, limit });
    const given = queryText(request, 'after');
    const after = given === undefined ? ((await latest(1))[0]?.number ?? 0) : Number(given);
    if (!Number.isSafeInteger(after) || after < 0)
      throw refusal('bad-value', '`after` is a number', { where: '?after' });
    let fresh: readonly (Arrival | DeliveryRecord)[] = [];
    for (const endMs = Date.now() + waitS * 1000; ; ) {
      fresh = (await latest(maxRequests)).filter(({ number }) => number > after).reverse();
      if (fresh.length > 0 || Date.now() >= endMs || request.socket.destroyed || engine.draining) break;
      await new Promise((resolve) => setTimeout(resolve, lookMs));
    }
    const requests = fresh.flatMap((each): ForwardedRequest[] => {
      if (!('hook' in each)) return [requestOfArrival(intake as IntakeConfiguration, each, now())];
      const made = sender.requestFor(engine.hooks.require(name), each);
      const what = `${each.event}${each.channel === undefined ? '' : ` in ${each.channel}`}`;
      return made === undefined ? [] : [{ number: each.number, what, method: 'POST', ...made }];
    });
    response.json({ after: fresh.at(-1)?.number ?? after, requests });
  };

  const report: Route['serve'] = async (request, response, { key }) => {
    const name = String(request.params.name);
    const { id, status, tookMs, answer } = readBody(ReportDto, request.body);
    // What came in has no attempts: the command shows how it went.
    if (!intakes.some((each) => each.name === name)) {
      const found = await store.delivery(selectedDelivery(id, '/id'));
      if (found === undefined) throw refusal('no-such-event', `there is no delivery ${id}`);
      const sent = { forwarded: `with the key ${JSON.stringify(key.name)}, to a developer's machine` };
      const problem = status === undefined ? 'no answer' : status >= 300 ? `status ${status}` : undefined;
      await store.noteAttempt(found.number, {
        atMs: now(),
        tookMs,
        sent,
        ...defined({ status: status ?? undefined, problem, text: answer ?? undefined }),
      });
    }
    response.json({ id });
  };

  return [
    { method: 'get', path: '/forward/:name', query: ['after', 'wait'], right: 'hooks', serve: next },
    { method: 'post', path: '/forward/:name/report', right: 'hooks', serve: report },
  ];
}
