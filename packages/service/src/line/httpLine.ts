import { timingSafeEqual } from 'node:crypto';
import { canonicalAddress, type Encoding, type Engine, type Rate, TokenBucket, unitOf } from '@nine-bells/core';
import {
  channelNameFault,
  closeCodes,
  defined,
  eventSource,
  filterFault,
  filterValue,
  isProblemCode,
  LINE_PATH,
  type MessageFilter,
  type Problem,
  parseCursor,
  problem,
  refusal,
} from '@nine-bells/wire';
import cors from 'cors';
import express, { type Request, type RequestHandler, type Router } from 'express';
import { sendProblem } from '../http/problems.js';
import { checkQuery, queryText, queryWhole } from '../http/query.js';
import { cloudEventEncoding } from './cloudEventEncoding.js';
import { eventStreamEncoding } from './eventStreamEncoding.js';
import { passOn, wasPassedOn } from './forward.js';
import { type Goodbye, ListenLink, SessionLink } from './httpLinks.js';
import { mayOpen } from './origins.js';

export interface HttpLineOptions {
  /** The service's name: the source of its events. */
  readonly name: string;
  /** Origins whose pages may open a line; all if absent. Programs that send no `Origin` are not meant. */
  readonly origins: readonly string[] | undefined;
}

/** Most channels of one stream that only listens. */
const listenChannels = 20;
const listenQuery = ['channel', 'last', 'type', 'by', 'notBy', 'where', 'format'];
/** What a hello has around it, in bytes. */
const bodyRoom = 1_024;
/** Requests of one address for sessions that are nowhere: each asks all instances. After a crash many clients send some. */
const strayRate: Rate = { count: 2_000, perMs: 60_000 };
/** Most addresses of which that is remembered. */
const maxStrays = 10_000;
/** Most requests in one array. */
const requestsAtOnce = 100;

interface Held {
  readonly link: SessionLink;
  readonly secret: Buffer;
}

/** The endpoint for clients that WebSockets do not reach: sessions over HTTP, and streams to listen to. */
export class HttpLine {
  readonly #engine: Engine;
  readonly #options: HttpLineOptions;
  /** One for all, so that what it makes is made once. */
  readonly #cloudEvents: Encoding;
  readonly #sessions = new Map<string, Held>();
  /** Requests for sessions that are nowhere, by address. */
  readonly #strays = new Map<string, TokenBucket>();

  constructor(engine: Engine, options: HttpLineOptions) {
    this.#cloudEvents = cloudEventEncoding(eventSource(options.name));
    this.#engine = engine;
    this.#options = options;
  }

  /** The routes below `/line`. */
  routes(): Router {
    const { origins } = this.#options;
    const router = express.Router();
    router.use(this.#checkOrigin);
    router.use(
      cors({
        methods: ['GET', 'POST', 'DELETE'],
        origin: origins === undefined ? true : [...origins],
        allowedHeaders: ['Authorization', 'Content-Type', 'Last-Event-ID'],
        exposedHeaders: ['Retry-After'],
        maxAge: 3600,
      }),
    );
    // Nothing is inflated: a small body of a stranger could become a large one.
    const hello = express.json({ limit: this.#engine.options.frameBytes + bodyRoom, inflate: false });
    // An array of frames is read only for a session that there is.
    const json = express.json({ limit: this.#engine.options.frameBytes * 4, inflate: false });
    router.get('/listen', this.#listen);
    router.post('/sessions', hello, this.#hello);
    router.get('/sessions/:id/stream', this.#locate, this.#atHome, this.#stream);
    router.post('/sessions/:id/frames', this.#locate, json, this.#atHome, this.#frames);
    router.delete('/sessions/:id', this.#locate, this.#atHome, this.#leave);
    return router;
  }

  readonly #checkOrigin: RequestHandler = (request, response, next) => {
    const { origin, host } = request.headers;
    if (mayOpen(origin, host, this.#options.origins)) return next();
    const detail = `pages of ${origin} may not open a line here: \`service.origins\` does not list it`;
    this.#engine.refusals.add({ code: 'bad-origin', act: 'connect', address: addressOf(request), origin });
    sendProblem(response, problem('bad-origin', detail));
  };

  readonly #hello: RequestHandler = async (request, response) => {
    if (typeof request.body !== 'object' || request.body === null || Array.isArray(request.body))
      throw refusal('bad-frame', 'the body is the request `hello`, a JSON object', { where: '' });
    const link = new SessionLink(this.#engine, addressOf(request), request.headers.origin);
    const answer = (await link.hello(request.body)) as { session?: string; secret?: string; problem?: Problem };
    if (answer.session === undefined || answer.secret === undefined) {
      sendProblem(response, problemOf(answer));
      return;
    }
    const { session, secret } = answer;
    // A continued session has closed its earlier connection.
    this.#sessions.set(session, { link, secret: Buffer.from(secret) });
    link.whenEnded = () => {
      if (this.#sessions.get(session)?.link === link) this.#sessions.delete(session);
    };
    response
      .status(201)
      .location(`${LINE_PATH}/sessions/${encodeURIComponent(session)}`)
      .json(answer);
  };

  /**
   * Finds where the session is, before anything of the body is read. Any instance may get any of these requests; for one whose
   * session is nowhere the others are asked only so often.
   */
  readonly #locate: RequestHandler = async (request, response, next) => {
    const session = String(request.params.id);
    if (this.#sessions.has(session) || wasPassedOn(request)) {
      this.#linkOf(request);
      return next();
    }
    const strays = this.#straysOf(addressOf(request));
    const now = performance.now();
    const retryAfterMs = strays.isEmpty(strayRate, now) ? 1_000 : 0;
    if (retryAfterMs > 0)
      throw refusal('rate-limited', 'too many requests from here are for sessions that there are not', {
        retryAfterMs,
      });
    const home = await this.#engine.cluster.homeOf(session);
    if (home === undefined) {
      strays.take(strayRate, now);
      throw noSession();
    }
    response.locals.home = home;
    next();
  };

  readonly #atHome: RequestHandler = async (request, response, next) => {
    const { home } = response.locals as { home?: string };
    if (home === undefined) next();
    else await passOn(request, response, home);
  };

  #straysOf(address: string): TokenBucket {
    const unit = unitOf(address);
    let bucket = this.#strays.get(unit);
    if (bucket === undefined) {
      if (this.#strays.size >= maxStrays) this.#strays.clear();
      bucket = new TokenBucket(strayRate, performance.now());
      this.#strays.set(unit, bucket);
    }
    return bucket;
  }

  readonly #stream: RequestHandler = (request, response) => {
    const link = this.#linkOf(request);
    if (request.accepts(['text/event-stream', 'application/json']) === 'application/json')
      link.poll(response, Number(request.headers['last-event-id'] ?? 0) || 0);
    else link.stream(response);
  };

  readonly #frames: RequestHandler = async (request, response) => {
    const link = this.#linkOf(request);
    const { number, requests } = (request.body ?? {}) as { number?: unknown; requests?: unknown };
    if (!Number.isSafeInteger(number) || (number as number) < 1)
      throw refusal('bad-value', '`number` counts the arrays of a session, from 1', { where: '/number' });
    if (!Array.isArray(requests) || requests.length > requestsAtOnce)
      throw refusal('bad-value', `\`requests\` is a list of up to ${requestsAtOnce}`, { where: '/requests' });
    for (const [index, each] of requests.entries())
      if (Buffer.byteLength(JSON.stringify(each)) > this.#engine.options.frameBytes)
        throw refusal('too-large', `a frame has at most ${this.#engine.options.frameBytes} bytes`, {
          where: `/requests/${index}`,
        });
    if (!(await link.take(number as number, requests)))
      throw refusal('bad-value', `array ${number} comes before one that is missing`, { where: '/number' });
    // What is asked is answered on the stream, in the order in which everything else comes.
    response.status(202).json({ number });
  };

  readonly #leave: RequestHandler = (request, response) => {
    this.#linkOf(request).leave();
    response.status(204).end();
  };

  readonly #listen: RequestHandler = async (request, response) => {
    checkQuery(request, { query: listenQuery });
    const names = [request.query.channel ?? []].flat().map(String);
    if (names.length === 0 || names.length > listenChannels)
      throw refusal('bad-value', `name 1 to ${listenChannels} channels: ?channel=...&channel=...`, {
        where: '?channel',
      });
    for (const name of names) {
      const fault = channelNameFault(name);
      if (fault !== undefined) throw refusal('bad-name', fault, { where: '?channel' });
    }
    const last = queryText(request, 'last') === undefined ? undefined : queryWhole(request, 'last', 1000);
    const known = String(request.headers['last-event-id'] ?? '').split(' ');
    const cursors = new Map(names.map((name, index) => [name, known[index] || '-']));
    const format = queryText(request, 'format') ?? 'frames';
    if (format !== 'frames' && format !== 'cloudevents')
      throw refusal('bad-value', '`format` is frames or cloudevents', { where: '?format' });
    const wish = { quiet: true, ...defined({ filter: filterOf(request) }) };
    const enter = [...cursors].map(([channel, cursor]) => ({
      channel,
      ...wish,
      ...(parseCursor(cursor) === undefined ? (last === undefined ? {} : { last }) : { after: cursor }),
    }));
    const token = bearerOf(request);
    const link = new ListenLink(this.#engine, addressOf(request), request.headers.origin, {
      response,
      cursors,
      wish,
      encoding: format === 'cloudevents' ? this.#cloudEvents : eventStreamEncoding,
    });
    const refused = await link.begin({ ...defined({ token }), enter });
    if (refused !== undefined) sendProblem(response, problemOf(refused));
  };

  /** The session of a request that knows its secret. */
  #linkOf(request: Request): SessionLink {
    const held = this.#sessions.get(String(request.params.id));
    const given = Buffer.from(bearerOf(request) ?? '');
    if (held === undefined || given.length !== held.secret.length || !timingSafeEqual(given, held.secret))
      throw noSession();
    return held.link;
  }
}

/** What to listen to in the channels, as a filter: `type`, `by`, `notBy` and `where` (`/boat:petrel`), each as often as wished. */
function filterOf(request: Request): MessageFilter | undefined {
  const all = (name: string): string[] | undefined => {
    const given = [request.query[name] ?? []].flat().map(String);
    return given.length === 0 ? undefined : given;
  };
  const terms = all('where')?.map((term) => {
    const at = term.indexOf(':');
    if (at === -1) throw refusal('bad-filter', '`where` is a pointer and a value: /boat:petrel', { where: '?where' });
    return [term.slice(0, at), filterValue(term.slice(at + 1))];
  });
  const filter = defined({
    types: all('type'),
    by: all('by'),
    notBy: all('notBy'),
    where: terms && Object.fromEntries(terms),
  });
  if (Object.keys(filter).length === 0) return undefined;
  const fault = filterFault(filter);
  if (fault !== undefined) throw refusal('bad-filter', fault.detail, { where: `?${fault.where.split('/')[1] ?? ''}` });
  return filter;
}

function noSession(): Error {
  return refusal('token-ended', 'there is no such session here; say hello again');
}

/** Where the client is, as far as those can be believed who say so. */
function addressOf(request: Request): string {
  return canonicalAddress(request.ip ?? '');
}

function bearerOf(request: Request): string | undefined {
  return /^Bearer (\S+)$/i.exec(request.headers.authorization ?? '')?.[1];
}

/** Why a hello was refused: by a problem, or by a goodbye whose reason may be a problem's code. */
function problemOf(answer: object): Problem {
  const { problem: told, code, reason, title } = answer as Partial<Goodbye & Problem> & { problem?: Problem };
  if (told !== undefined) return told;
  if (title !== undefined) return answer as Problem;
  if (reason !== undefined && isProblemCode(reason)) return problem(reason);
  const known = Number(code) === closeCodes.drain ? 'draining' : 'busy';
  return problem(known, reason, { retryAfterMs: 1_000 });
}
