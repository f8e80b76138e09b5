import type { Call, Engine } from '@nine-bells/core';
import { defined, refusal } from '@nine-bells/wire';
import { IsInt, IsOptional, Max, Min } from 'class-validator';
import type { IntakeConfiguration } from '../config/types.js';
import { checkHookRights } from '../webhooks/hookRights.js';
import type { HookSender } from '../webhooks/hookSender.js';
import { type ForwardedRequest, requestOfArrival } from '../webhooks/signAgain.js';
import { readBody } from './body.js';
import { selectedDelivery } from './hooks.js';
import { IsWords } from './publishDto.js';
import { queryText, queryWhole } from './query.js';
import { type Caller, type Route, route, type Serve } from './route.js';

/** Most requests of one answer; the longest wait, in seconds; and how often it is looked meanwhile, in milliseconds. */
const maxRequests = 100;
const maxWaitS = 60;
const lookMs = 300;

class ReportDto {
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
  /** Returns the request of a call, signed for a time; `undefined` without a secret to sign calls with. */
  readonly callRequest: ((call: Call, atMs: number) => Pick<ForwardedRequest, 'headers' | 'body'>) | undefined;
  readonly now: () => number;
}

/** A source of copies. */
interface Source {
  /** Number of the last copy. */
  start(): Promise<number>;
  /** Returns copies behind a number, earliest first; `undefined` in place of those that cannot be sent. */
  after(number: number): Promise<readonly { readonly number: number; readonly request?: ForwardedRequest }[]>;
}

/** `/v1/forward/NAME`: copies of what passes an intake, goes to a hook or is called, for a developer's own machine. */
export function forwarding(host: ForwardingHost): readonly Route[] {
  const { engine, intakes, now } = host;
  const { store } = engine;

  const next: Serve<'GET /v1/forward/:name'> = async (request, response, caller) => {
    const source = sourceOf(host, String(request.params.name), caller);
    const given = queryText(request, 'after');
    // Without a number to go on from, it is asked for.
    const noWait = given === undefined || queryText(request, 'wait') === '0';
    const waitS = noWait ? 0 : (queryWhole(request, 'wait', maxWaitS) ?? 20);
    const after = given === undefined ? await source.start() : Number(given);
    if (!Number.isSafeInteger(after) || after < 0)
      throw refusal('bad-value', '`after` is a number', { where: '?after' });
    let fresh: Awaited<ReturnType<Source['after']>> = [];
    for (const endMs = Date.now() + waitS * 1000; ; ) {
      fresh = await source.after(after);
      if (fresh.length > 0 || Date.now() >= endMs || request.socket.destroyed || engine.draining) break;
      await new Promise((resolve) => setTimeout(resolve, lookMs));
    }
    response.json({
      after: fresh.at(-1)?.number ?? after,
      requests: fresh.flatMap((each) => each.request ?? []),
    });
  };

  const report: Serve<'POST /v1/forward/:name/report'> = async (request, response, caller) => {
    const name = String(request.params.name);
    sourceOf(host, name, caller);
    const { id, status, tookMs, answer } = readBody(ReportDto, request.body);
    // Arrivals and calls have no attempts: the command shows the outcome.
    if (!intakes.some((each) => each.name === name) && !isCall(engine, name)) {
      const found = await store.hooks.delivery(selectedDelivery(id, '/id'));
      if (found?.hook !== name) throw refusal('no-such-event', `there is no delivery ${id}`);
      const sent = { forwarded: `with the key ${JSON.stringify(caller.key.name)}, to a developer's machine` };
      const problem = status === undefined ? 'no answer' : status >= 300 ? `status ${status}` : undefined;
      await store.hooks.noteAttempt(found.number, {
        atMs: now(),
        tookMs,
        sent,
        ...defined({ status: status ?? undefined, problem, text: answer ?? undefined }),
      });
    }
    response.json({ id });
  };

  return [
    route('GET /v1/forward/:name', { right: 'hooks', query: ['after', 'wait'] }, next),
    route('POST /v1/forward/:name/report', { right: 'hooks', body: ReportDto }, report),
  ];
}

function isCall(engine: Engine, name: string): boolean {
  return engine.calls.rules.some((each) => each.name === name);
}

/** @throws {ProblemError} `no-such-hook`; `not-allowed` for a key that may not read it; `bad-value` where calls are not signed */
function sourceOf({ engine, intakes, sender, callRequest, now }: ForwardingHost, name: string, caller: Caller): Source {
  const { store } = engine;
  const kept = <Each extends { readonly number: number }>(
    latest: (limit: number) => Promise<readonly Each[]>,
    requestOf: (each: Each) => ForwardedRequest | undefined,
  ): Source => ({
    start: async () => (await latest(1))[0]?.number ?? 0,
    after: async (after) =>
      (await latest(maxRequests))
        .filter(({ number }) => number > after)
        .reverse()
        .map((each) => ({ number: each.number, ...defined({ request: requestOf(each) }) })),
  });

  const intake = intakes.find((each) => each.name === name);
  const isAboutChannels = intake === undefined && !isCall(engine, name);
  checkHookRights(caller.key, isAboutChannels ? engine.hooks.require(name) : { events: [] });
  if (intake !== undefined)
    return kept(
      (limit) => store.intakes.arrivals({ intake: name, limit }),
      (each) => requestOfArrival(intake, each, now()),
    );
  if (isAboutChannels)
    return kept(
      (limit) => store.hooks.deliveries({ hook: name, limit }),
      (each) => {
        const made = sender.requestFor(engine.hooks.require(name), each);
        const what = `${each.event}${each.channel === undefined ? '' : ` in ${each.channel}`}`;
        return made && { number: each.number, what, method: 'POST', ...made };
      },
    );
  if (callRequest === undefined)
    throw refusal('bad-value', 'calls are not signed here: `ask.secret` is not configured', { where: '/name' });
  return {
    start: async () => {
      // Calls are kept once they have been asked for.
      await engine.callCopies(name, 0);
      return now() * 1000;
    },
    after: async (after) =>
      (await engine.callCopies(name, after)).map(({ number, call }) => {
        const what = `call by ${call.who.user}${call.channel === undefined ? '' : ` in ${call.channel}`}`;
        const made = callRequest(call, now());
        return { number, request: { number, id: call.id, what, method: 'POST', ...made } };
      }),
  };
}
