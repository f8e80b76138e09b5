import {
  type Arrival,
  type ArrivalState,
  type Engine,
  type Intake,
  type Route as IntakeRoute,
  ShapeError,
} from '@nine-bells/core';
import { defined, type Json, ProblemError, refusal } from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import { forOthers, listOf, readYaml } from '@nine-bells/yaml';
import { IsObject, IsOptional, IsString } from 'class-validator';
import type { IntakeConfiguration } from '../config/types.js';
import { route as routeReader } from '../config/webhookSchema.js';
import { bodyOfArrival, keptBodyOf, readEventBody } from '../webhooks/bodies.js';
import { verifierOf } from '../webhooks/verify.js';
import { readBody } from './body.js';
import { IsJson, IsWords } from './publishDto.js';
import { numberAfter, pageOf, pageQuery, queryText, queryWhole } from './query.js';
import { type Route, route, type Serve } from './route.js';

/** Requests that a trial of routes counts for: reading them may take 50 ms. */
const trialCost = 1_000;

class TrialDto {
  /** The id of a kept event, in place of a body. */
  @IsOptional()
  @IsWords(64)
  arrival?: string;

  @IsOptional()
  @IsJson()
  body?: Json;

  /** The body as text, where it is no JSON, or where its signature is to be checked. */
  @IsOptional()
  @IsString()
  text?: string;

  @IsOptional()
  @IsObject()
  headers?: Record<string, string>;

  @IsOptional()
  @IsWords(16)
  method?: string;

  /** Routes in place of those of the configuration. */
  @IsOptional()
  @IsJson()
  routes?: Json;
}

/** `/v1/intakes` and `/v1/arrivals`: what other systems may say, and what they said. */
export function intakes(
  engine: Engine,
  configured: readonly IntakeConfiguration[],
  now: () => number,
): readonly Route[] {
  const { store } = engine;
  const intakeOf = (name: string): IntakeConfiguration => {
    const found = configured.find((each) => each.name === name);
    if (found === undefined) throw refusal('no-such-intake', `there is no intake ${JSON.stringify(name.slice(0, 60))}`);
    return found;
  };
  const arrivalOf = async (id: string): Promise<Arrival> => {
    const found = await store.intakes.arrival(id);
    if (found === undefined) throw refusal('no-such-event', `there is no arrival ${JSON.stringify(id.slice(0, 60))}`);
    return found;
  };

  const list: Serve<'GET /v1/intakes'> = async (_request, response) => {
    const { intakes: counts, missing } = await engine.webhookCounts();
    response.json({
      intakes: configured.map(({ name, verify, body, drop, routes, keepMs }) => ({
        name,
        path: `/in/${name}`,
        verify: verify.type,
        body,
        drop,
        routes: Array.isArray(routes) ? routes.length : 0,
        keepMs,
        ...engine.intakes.countsOf(name),
        ...counts[name],
      })),
      ...(missing.length === 0 ? {} : { missing }),
    });
  };

  const arrivals: Serve<'GET /v1/arrivals'> = async (request, response) => {
    const intake = queryText(request, 'intake');
    if (intake !== undefined) intakeOf(intake);
    const limit = queryWhole(request, 'limit', 1000) ?? 100;
    const found = await store.intakes.arrivals({
      intake,
      state: stateOf(queryText(request, 'state')),
      before: numberAfter(request),
      limit: limit + 1,
    });
    const { page, rest } = pageOf(found, limit, ({ number }) => number);
    response.json({ arrivals: page.map((each) => shown(each)), ...rest });
  };

  const arrival: Serve<'GET /v1/arrivals/:id'> = async (request, response) => {
    const found = await arrivalOf(String(request.params.id));
    const intake = engine.intakes.get(found.intake);
    response.json({
      ...shown(found),
      headers: found.headers,
      body: intake === undefined || found.isBase64 ? found.body : bodyOfArrival(intake, found),
      ...(found.isBase64 ? { isBase64: true } : {}),
    });
  };

  const again: Serve<'POST /v1/arrivals/:id/again'> = async (request, response) => {
    const found = await arrivalOf(String(request.params.id));
    if (found.state === 'done') throw refusal('bad-value', 'this event was published: it is not published twice');
    await engine.intakes.again(found);
    response.json(shown(await arrivalOf(found.id)));
  };

  const trial: Serve<'POST /v1/intakes/:name/test'> = async (request, response, caller) => {
    const intake = intakeOf(String(request.params.name));
    const dto = readBody(TrialDto, request.body);
    if (dto.routes !== undefined) caller.charge(trialCost);
    const event = dto.arrival == null ? givenEvent(intake, dto) : await arrivalOf(String(dto.arrival));
    const routed = engine.intakes.get(intake.name) as Intake;
    const tried: Intake = dto.routes === undefined ? routed : { ...routed, routes: routesIn(dto.routes) };
    const verification = dto.arrival == null ? verificationOf(intake, dto, now()) : undefined;
    const raw = intake.body === 'raw' ? event.body : readEventBody(intake.body, event.body);
    try {
      const { route, results } = await engine.intakes.shape(tried, event);
      response.json({ ...defined({ verification, route }), matched: route !== undefined, becomes: results, body: raw });
    } catch (error) {
      if (!(error instanceof ShapeError) && !(error instanceof ProblemError)) throw error;
      response.json({ ...defined({ verification }), matched: true, problem: error.message, body: raw });
    }
  };

  return [
    route('GET /v1/intakes', { right: 'read' }, list),
    route('POST /v1/intakes/:name/test', { right: 'hooks', body: TrialDto }, trial),
    route('GET /v1/arrivals', { right: 'read', query: ['intake', 'state', ...pageQuery] }, arrivals),
    route('GET /v1/arrivals/:id', { right: 'read' }, arrival),
    route('POST /v1/arrivals/:id/again', { right: 'hooks' }, again),
  ];
}

function givenEvent(
  intake: IntakeConfiguration,
  { body, text, headers, method }: TrialDto,
): Parameters<Engine['intakes']['shape']>[1] {
  if ((body === undefined) === (text == null))
    throw refusal('bad-value', 'name one of `arrival`, `body` and `text`', { where: '/body' });
  const kept = keptBodyOf(intake, Buffer.from(text ?? JSON.stringify(body)));
  return { id: 'trial', atMs: Date.now(), body: kept.body, headers: headersOf(headers), method: method ?? 'POST' };
}

function headersOf(given: unknown): Readonly<Record<string, string>> {
  if (given == null) return {};
  if (typeof given !== 'object' || Object.values(given).some((each) => typeof each !== 'string'))
    throw refusal('bad-value', '`headers` is a map of text', { where: '/headers' });
  return Object.fromEntries(
    Object.entries(given as Record<string, string>).map(([name, each]) => [name.toLowerCase(), each]),
  );
}

/** Verifies a body with its headers. */
function verificationOf(intake: IntakeConfiguration, { text, body, headers, method }: TrialDto, nowMs: number): string {
  const raw = Buffer.from(text ?? JSON.stringify(body));
  try {
    const request = { method: method ?? 'POST', url: `/in/${intake.name}`, headers: headersOf(headers), body: raw };
    verifierOf(intake.verify)(request, nowMs);
    return 'valid';
  } catch (error) {
    return (error as Error).message;
  }
}

/** Routes that are tried, in the grammar of the configuration: JSON, or the text of YAML. */
function routesIn(given: Json): readonly IntakeRoute[] {
  const text = typeof given === 'string' ? given : JSON.stringify(given);
  const { value, faults } = readYaml(text, 'routes', listOf(routeReader, 1), forOthers);
  if (value !== undefined) return value;
  const [first] = faults;
  throw refusal('bad-value', `routes, line ${first?.line}: ${first?.path ? `${first.path}: ` : ''}${first?.detail}`, {
    where: '/routes',
  });
}

function stateOf(text: string | undefined): ArrivalState | undefined {
  const states = ['waiting', 'done', 'ignored', 'failed'] as const;
  const state = states.find((each) => each === text);
  if (text !== undefined && state === undefined)
    throw refusal('bad-value', `\`state\` is ${states.join(', ')}`, { where: '?state' });
  return state;
}

function shown({
  id,
  number,
  intake,
  eventId,
  atMs,
  method,
  bytes,
  state,
  tries,
  became,
  problem,
  endedAtMs,
}: Arrival): Http.ArrivalInfo {
  return {
    id,
    number,
    intake,
    at: new Date(atMs).toISOString(),
    method,
    bytes,
    state,
    tries,
    ...defined({ eventId, became, problem }),
    ...(endedAtMs === undefined ? {} : { ended: new Date(endedAtMs).toISOString() }),
  };
}
