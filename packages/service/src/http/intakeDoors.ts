import { BoundedMap, type Engine, type Intake, TokenBucket, unitOf, valueAt } from '@nine-bells/core';
import { defined, type Json, refusal } from '@nine-bells/wire';
import express, { type Request, type RequestHandler, type Response, Router } from 'express';
import type { IntakeConfiguration } from '../config/types.js';
import { keptBodyOf } from '../webhooks/bodies.js';
import { hopsHeader } from '../webhooks/hookSender.js';
import { type RawRequest, type Verifier, verifierOf } from '../webhooks/verify.js';

/** How often an address may send what cannot be verified. */
const strangerRate = { count: 50, perMs: 10_000 };
/** Most addresses of which that is remembered. */
const maxAddresses = 10_000;
/** An event that has come through so many intakes goes round in a circle. */
const maxHops = 5;
/** Most characters of the sender's own id of an event, and of the answer to a challenge. */
const eventIdChars = 255;
const challengeChars = 500;

export interface IntakeDoorsHost {
  readonly engine: Engine;
  readonly intakes: readonly IntakeConfiguration[];
  readonly ids: { message(atMs: number): string };
  readonly now: () => number;
}

/** Where other systems say what has happened: `POST /in/NAME`. Nothing is believed before it is verified. */
export function intakeDoors(host: IntakeDoorsHost): Router {
  const router = Router();
  for (const intake of host.intakes) {
    const door = new Door(intake, host);
    // A path of its own for each: so refusals say which intake it was.
    const path = `/${intake.name}`;
    const body = express.raw({ type: () => true, limit: intake.maxBytes, inflate: false });
    router.post(path, door.slow, body, door.take);
    router.put(path, door.slow, body, door.take);
    if (intake.challenge !== undefined) router.get(path, door.answerChallenge);
  }
  router.use((request) => {
    const names = host.intakes.map(({ name }) => name);
    if (names.includes(request.path.slice(1))) throw refusal('no-such-path', `${request.method} is not taken here`);
    throw refusal('no-such-intake', 'no intake has this name');
  });
  return router;
}

class Door {
  readonly #intake: IntakeConfiguration;
  readonly #host: IntakeDoorsHost;
  readonly #verify: Verifier;
  readonly #strangers = new BoundedMap<string, TokenBucket>(maxAddresses);
  readonly #senders = new BoundedMap<string, TokenBucket>(maxAddresses);

  constructor(intake: IntakeConfiguration, host: IntakeDoorsHost) {
    this.#intake = intake;
    this.#host = host;
    this.#verify = verifierOf(intake.verify);
  }

  /** Before anything is read: an address that is not known by its signatures, or sends too often, is refused. */
  readonly slow: RequestHandler = (request, _response, next) => {
    const nowMs = performance.now();
    const address = unitOf(request.ip ?? '');
    const owedMs = this.#strangers.get(address)?.owedMs(strangerRate, nowMs) ?? 0;
    if (owedMs > 0) throw this.#refused('rate-limited', 'too many requests from here could not be verified', owedMs);
    const { rate, name } = this.#intake;
    const waitMs = bucketOf(this.#senders, address, rate, nowMs).take(rate, nowMs);
    if (waitMs > 0) throw this.#refused('rate-limited', `the intake ${name} takes no more from here just now`, waitMs);
    next();
  };

  readonly take = async (request: Request, response: Response): Promise<void> => {
    const { engine, ids, now } = this.#host;
    const { name } = this.#intake;
    const raw: RawRequest = {
      method: request.method,
      url: request.originalUrl,
      headers: headersOf(request),
      body: Buffer.isBuffer(request.body) ? request.body : Buffer.alloc(0),
    };
    const atMs = now();
    this.#verified(raw, atMs, request.ip ?? '');
    const hops = Number(/^[0-9]{1,3}$/.exec(raw.headers[hopsHeader] ?? '')?.[0] ?? 0);
    if (hops >= maxHops)
      throw this.#refused(
        'circle',
        `the event has come through ${hops} intakes: a hook of this service leads back to it`,
      );
    this.#checkType(raw);
    const { value, ...kept } = this.#kept(raw.body);
    const { id, repeated } = await engine.intakes.arrive({
      id: ids.message(atMs),
      intake: name,
      atMs,
      method: raw.method,
      headers: this.#keptHeaders(raw),
      ...kept,
      bytes: raw.body.length,
      hops,
      ...defined({ eventId: this.#eventIdOf(raw, value) }),
    });
    response.status(202).json({ id, ...(repeated ? { repeated } : {}) });
  };

  /** Answers a GET with a member of its query: so some senders find out whether an address is the receiver's own. */
  readonly answerChallenge: RequestHandler = (request, response) => {
    const value = request.query[this.#intake.challenge as string];
    if (typeof value !== 'string' || value.length > challengeChars)
      throw refusal('bad-value', `\`${this.#intake.challenge}\` is missing in the query`);
    response.set('X-Content-Type-Options', 'nosniff').type('text/plain').send(value);
  };

  #verified(raw: RawRequest, atMs: number, ip: string): void {
    try {
      this.#verify(raw, atMs);
    } catch (error) {
      this.#host.engine.intakes.countsOf(this.#intake.name).refused += 1;
      const nowMs = performance.now();
      bucketOf(this.#strangers, unitOf(ip), strangerRate, nowMs).spend(strangerRate, nowMs, 1);
      throw error;
    }
  }

  #kept(body: Buffer): ReturnType<typeof keptBodyOf> {
    try {
      return keptBodyOf(this.#intake, body);
    } catch (error) {
      this.#host.engine.intakes.countsOf(this.#intake.name).refused += 1;
      throw error;
    }
  }

  #checkType({ headers }: RawRequest): void {
    const type = headers['content-type'];
    const { body, name } = this.#intake;
    if (type === undefined || body === 'raw') return;
    const isFit =
      body === 'json' ? /^[^;]*[/+]json\b/i.test(type) : /^application\/x-www-form-urlencoded\b/i.test(type);
    if (isFit) return;
    const expected = body === 'json' ? 'application/json' : 'application/x-www-form-urlencoded';
    throw this.#refused('bad-value', `the intake ${name} takes ${expected}, not ${JSON.stringify(type.slice(0, 80))}`);
  }

  /** The headers that routes look at, and those that are kept by wish. */
  #keptHeaders({ headers }: RawRequest): Record<string, string> {
    const names = new Set([...this.#intake.headers, 'content-type', 'user-agent', ...headersIn(this.#intake.routes)]);
    return Object.fromEntries(Object.entries(headers).filter(([name]) => names.has(name)));
  }

  #eventIdOf({ headers }: RawRequest, value: Json): string | undefined {
    const { eventId } = this.#intake;
    if (eventId === undefined) return undefined;
    const found = 'header' in eventId ? headers[eventId.header.toLowerCase()] : valueAt(value, eventId.at);
    if (typeof found !== 'string' && typeof found !== 'number') return undefined;
    return String(found).slice(0, eventIdChars);
  }

  #refused(code: 'rate-limited' | 'circle' | 'bad-value', detail: string, retryAfterMs?: number): Error {
    this.#host.engine.intakes.countsOf(this.#intake.name).refused += 1;
    return refusal(code, detail, defined({ retryAfterMs }));
  }
}

function bucketOf(
  buckets: Map<string, TokenBucket>,
  address: string,
  rate: { readonly count: number; readonly perMs: number },
  nowMs: number,
): TokenBucket {
  let bucket = buckets.get(address);
  if (bucket === undefined) {
    bucket = new TokenBucket(rate, nowMs);
    buckets.set(address, bucket);
  }
  return bucket;
}

function headersOf(request: Request): Record<string, string> {
  const headers = Object.entries(request.headers);
  return Object.fromEntries(
    headers.flatMap(([name, value]) => (value === undefined ? [] : [[name, [value].flat()[0] ?? '']])),
  );
}

/** The headers that the routes of an intake name. */
function headersIn(routes: Intake['routes']): readonly string[] {
  const found: string[] = [];
  JSON.stringify(routes, (key, value) => {
    if (key === 'header' && typeof value === 'string') found.push(value.toLowerCase());
    return value;
  });
  return found;
}
