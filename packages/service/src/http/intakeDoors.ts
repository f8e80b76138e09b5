import { createHash } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import {
  BoundedMap,
  canonicalAddress,
  type Engine,
  type Intake,
  type Rate,
  TokenBucket,
  unitOf,
  valueAt,
} from '@nine-bells/core';
import {
  defined,
  type Json,
  type Problem,
  ProblemError,
  problem,
  problemCatalogue,
  refusal,
  unfitCharacter,
} from '@nine-bells/wire';
import { type RequestHandler, Router } from 'express';
import proxyAddr from 'proxy-addr';
import rawBody from 'raw-body';
import type { IntakeConfiguration } from '../config/types.js';
import { type Logger, logEvent } from '../log.js';
import { keptBodyOf } from '../webhooks/bodies.js';
import { hopsHeader } from '../webhooks/hookSender.js';
import { type RawRequest, type Verifier, verifierOf } from '../webhooks/verify.js';
import { problemText } from './problems.js';

/** How often an address may send what cannot be verified. */
const strangerRate = { count: 50, perMs: 10_000 };
/** Byte limits of an address: bytes per request of the intake's rate, and a minimum per second. */
const bytesPerRequest = 4_096;
const minBytesPerS = 16 * 1_048_576;
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
  readonly log: Logger;
  /** Proxies whose word for the client's address is taken. */
  readonly trustedProxies: readonly string[];
}

/**
 * Where other systems say what has happened: `POST /in/NAME`. Nothing is believed before it is verified.
 *
 * Events are served without Express, which takes several times as long for a request as all that is done with the event.
 */
export class IntakeDoors {
  readonly #doors: ReadonlyMap<string, Door>;

  constructor(host: IntakeDoorsHost) {
    this.#doors = new Map(host.intakes.map((intake) => [`/in/${intake.name}`, new Door(intake, host)]));
  }

  /** Takes a request if it is an event for an intake. Returns whether it is. */
  take(request: IncomingMessage, response: ServerResponse): boolean {
    const { url = '', method } = request;
    if (!url.startsWith('/in/') || (method !== 'POST' && method !== 'PUT')) return false;
    const door = this.#doors.get(url.split('?', 1)[0] as string);
    if (door === undefined) return false;
    void door.serve(request, response);
    return true;
  }

  /** Serves what else is asked under `/in`. */
  routes(): Router {
    const router = Router();
    for (const [path, door] of this.#doors) if (door.challenge) router.get(path.slice(3), door.answerChallenge);
    router.use((request) => {
      if (this.#doors.has(`/in${request.path}`)) throw refusal('no-such-path', `${request.method} is not taken here`);
      throw refusal('no-such-intake', 'no intake has this name');
    });
    return router;
  }
}

/** One intake. */
class Door {
  readonly #intake: IntakeConfiguration;
  readonly #host: IntakeDoorsHost;
  readonly #verify: Verifier;
  readonly #isProxy: ReturnType<typeof proxyAddr.compile>;
  /** The headers that are kept with an event. */
  readonly #kept: ReadonlySet<string>;
  readonly #strangers = new BoundedMap<string, TokenBucket>(maxAddresses);
  readonly #senders = new BoundedMap<string, TokenBucket>(maxAddresses);
  readonly #bodies = new BoundedMap<string, TokenBucket>(maxAddresses);
  readonly #bytesRate: Rate;

  constructor(intake: IntakeConfiguration, host: IntakeDoorsHost) {
    this.#intake = intake;
    this.#host = host;
    this.#verify = verifierOf(intake.verify);
    this.#isProxy = proxyAddr.compile([...host.trustedProxies]);
    const { count, perMs } = intake.rate;
    this.#bytesRate = { count: Math.max((count * bytesPerRequest * 1_000) / perMs, minBytesPerS), perMs: 1_000 };
    this.#kept = new Set(['content-type', 'user-agent', ...intake.headers, ...headersIn(intake.routes)]);
  }

  /** The member of the query with which a sender proves the address, if there is one. */
  get challenge(): string | undefined {
    return this.#intake.challenge;
  }

  async serve(request: IncomingMessage, response: ServerResponse): Promise<void> {
    let address = '';
    try {
      address = proxyAddr(request, this.#isProxy);
      const kept = await this.#take(request, address);
      answer(response, 202, 'application/json', JSON.stringify(kept));
    } catch (error) {
      const refused = this.#problemOf(error, request);
      const about = { act: `${request.method} /in/${this.#intake.name}`, address: canonicalAddress(address) };
      this.#host.engine.refusals.addProblem(refused, about);
      const { retryAfterMs } = refused;
      if (retryAfterMs !== undefined) response.setHeader('Retry-After', Math.ceil(retryAfterMs / 1000));
      // What is left of a body that is too large is not read.
      if (!request.complete) response.setHeader('Connection', 'close');
      answer(response, problemCatalogue[refused.code].status, 'application/problem+json', problemText(refused));
    }
  }

  /** Answers a GET with a member of its query: so some senders find out whether an address is the receiver's own. */
  readonly answerChallenge: RequestHandler = (request, response) => {
    const value = request.query[this.#intake.challenge as string];
    if (typeof value !== 'string' || value.length > challengeChars)
      throw refusal('bad-value', `\`${this.#intake.challenge}\` is missing in the query`);
    response.set('X-Content-Type-Options', 'nosniff').type('text/plain').send(value);
  };

  async #take(request: IncomingMessage, address: string): Promise<{ id: string; repeated?: true }> {
    const { engine, ids, now } = this.#host;
    const { name, maxBytes } = this.#intake;
    this.#checkRate(address);
    const headers = headersOf(request);
    if ((headers['content-encoding'] ?? 'identity') !== 'identity')
      throw refusal('bad-value', `a body is taken as it is, not in the coding ${headers['content-encoding']}`);
    const length = headers['content-length'] ?? null;
    const body = await rawBody(request, { limit: maxBytes, length }).catch((error: { received?: number }) => {
      this.#charge(address, error.received ?? 0);
      throw error;
    });
    this.#charge(address, body.length);
    const atMs = now();
    const raw: RawRequest = { method: request.method as string, url: request.url as string, headers, body };
    this.#verified(raw, atMs, address);
    const hops = Number(/^[0-9]{1,3}$/.exec(headers[hopsHeader] ?? '')?.[0] ?? 0);
    if (hops >= maxHops)
      throw refusal('circle', `the event has come through ${hops} intakes: a hook of this service leads back to it`);
    this.#checkType(headers['content-type']);
    const { value, ...kept } = keptBodyOf(this.#intake, body);
    const { id, repeated } = await engine.intakes.arrive({
      id: ids.message(atMs),
      intake: name,
      atMs,
      method: raw.method,
      headers: this.#keptHeaders(headers),
      ...kept,
      bytes: body.length,
      hops,
      ...defined({ eventId: this.#eventIdOf(headers, value) }),
    });
    return repeated ? { id, repeated } : { id };
  }

  /** Before anything is read: an address whose signatures were not good, or that sends too often, is refused. */
  #checkRate(address: string): void {
    const nowMs = performance.now();
    const unit = unitOf(address);
    const retryAfterMs = this.#strangers.get(unit)?.owedMs(strangerRate, nowMs) ?? 0;
    if (retryAfterMs > 0)
      throw refusal('rate-limited', 'too many requests from here could not be verified', { retryAfterMs });
    const { rate, name } = this.#intake;
    const owedMs = this.#bodies.get(unit)?.owedMs(this.#bytesRate, nowMs) ?? 0;
    const waitMs = owedMs > 0 ? owedMs : bucketOf(this.#senders, unit, rate, nowMs).take(rate, nowMs);
    if (waitMs > 0)
      throw refusal('rate-limited', `the intake ${name} takes no more from here just now`, { retryAfterMs: waitMs });
  }

  /** Charges the address for the bytes read. Its next request is refused until they are paid off. */
  #charge(address: string, bytes: number): void {
    const nowMs = performance.now();
    bucketOf(this.#bodies, unitOf(address), this.#bytesRate, nowMs).spend(this.#bytesRate, nowMs, bytes);
  }

  #verified(raw: RawRequest, atMs: number, address: string): void {
    try {
      this.#verify(raw, atMs);
    } catch (error) {
      const nowMs = performance.now();
      bucketOf(this.#strangers, unitOf(address), strangerRate, nowMs).spend(strangerRate, nowMs, 1);
      throw error;
    }
  }

  #checkType(type: string | undefined): void {
    const { body, name } = this.#intake;
    if (type === undefined || body === 'raw') return;
    const isFit =
      body === 'json' ? /^[^;]*[/+]json\b/i.test(type) : /^application\/x-www-form-urlencoded\b/i.test(type);
    if (isFit) return;
    const expected = body === 'json' ? 'application/json' : 'application/x-www-form-urlencoded';
    throw refusal('bad-value', `the intake ${name} takes ${expected}, not ${JSON.stringify(type.slice(0, 80))}`);
  }

  #keptHeaders(headers: RawRequest['headers']): Record<string, string> {
    return Object.fromEntries(Object.entries(headers).filter(([name]) => this.#kept.has(name)));
  }

  #eventIdOf(headers: RawRequest['headers'], value: Json): string | undefined {
    const { eventId } = this.#intake;
    if (eventId === undefined) return undefined;
    const found = 'header' in eventId ? headers[eventId.header.toLowerCase()] : valueAt(value, eventId.at);
    if (typeof found !== 'string' && typeof found !== 'number') return undefined;
    const id = String(found);
    // Shortened, two events could be taken for one.
    return id.length > eventIdChars || unfitCharacter.test(id) ? `sha256:${digestOf(id)}` : id;
  }

  #problemOf(error: unknown, request: IncomingMessage): Problem {
    this.#host.engine.intakes.countsOf(this.#intake.name).refused += 1;
    if (error instanceof ProblemError) return error.problem;
    const { type = '' } = error as { type?: string };
    if (type === 'entity.too.large')
      return problem('too-large', `the intake ${this.#intake.name} takes at most ${this.#intake.maxBytes} bytes`);
    if (type.startsWith('request.')) return problem('bad-value', (error as Error).message);
    const facts = { intake: this.#intake.name, method: request.method ?? '' };
    logEvent(this.#host.log, 'error', 'intake-failed', facts, error);
    return problem('internal', 'the service has logged what happened');
  }
}

function digestOf(text: string): string {
  return createHash('sha256').update(JSON.stringify(text)).digest('base64url');
}

function answer(response: ServerResponse, status: number, type: string, text: string): void {
  response.writeHead(status, {
    'Content-Type': `${type}; charset=utf-8`,
    'Content-Length': Buffer.byteLength(text),
    'X-Content-Type-Options': 'nosniff',
  });
  response.end(text);
}

function bucketOf(buckets: Map<string, TokenBucket>, address: string, rate: Rate, nowMs: number): TokenBucket {
  let bucket = buckets.get(address);
  if (bucket === undefined) {
    bucket = new TokenBucket(rate, nowMs);
    buckets.set(address, bucket);
  }
  return bucket;
}

/** Headers by lower-case name; of those that may stand several times (`Set-Cookie` alone), the first. */
function headersOf({ headers }: IncomingMessage): RawRequest['headers'] {
  const { 'set-cookie': _, ...single } = headers;
  return single as Record<string, string>;
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
