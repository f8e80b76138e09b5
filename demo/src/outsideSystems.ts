import { createHmac } from 'node:crypto';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { text } from 'node:stream/consumers';
import type { Backend } from '@nine-bells/client/backend';
import type { Configuration } from '@nine-bells/service';
import { Webhook } from 'standardwebhooks';
import { boats } from './course.js';
import type { Boat, Regatta } from './regatta.js';
import { authorOf } from './seed.js';

/** Intervals of the buoy's reports, of new berths and of finishes, in milliseconds. */
const buoyEveryMs = 5_000;
const harbourEveryMs = 20_000;
const finishEveryMs = 12_000;

const crews: Readonly<Record<string, readonly string[]>> = { petrel: ['tomas'], turnstone: ['ines'] };
const directions = ['south-west', 'west', 'west-south-west'];

/** A report of the buoy: a reading, and the phone number of its keeper. */
export function reading(round: number): object {
  return {
    kind: 'wind',
    station: 'north-mark',
    speed: Math.round((13 + 4 * Math.sin(round / 7) + Math.random()) * 10) / 10,
    direction: directions[round % directions.length],
    keeper: { name: 'the keeper of the buoy', phone: '+00 555 0144' },
  };
}

/** Posts an event of the buoy. */
export async function postReading(url: string, configuration: Configuration, event: object): Promise<Response> {
  const secret = secretOf(configuration, 'buoy');
  const at = new Date();
  const id = `buoy-${at.getTime()}`;
  const body = JSON.stringify(event);
  return fetch(`${url}/in/buoy`, {
    method: 'POST',
    body,
    headers: {
      'content-type': 'application/json',
      'webhook-id': id,
      'webhook-timestamp': String(Math.floor(at.getTime() / 1000)),
      'webhook-signature': new Webhook(secret).sign(id, at, body),
    },
  });
}

/** Posts a berth that the harbour office has assigned. */
export async function postBerth(
  url: string,
  configuration: Configuration,
  boat: string,
  round: number,
): Promise<Response> {
  const berth = `${'ABC'[round % 3]}${1 + (round % 7)}`;
  const body = JSON.stringify({
    assignment: `berth-${Date.now()}`,
    boat,
    berth,
    crew: crews[boat] ?? ['mira'],
    text: `${boat[0]?.toUpperCase()}${boat.slice(1)}: berth ${berth} tonight`,
  });
  const time = String(Math.floor(Date.now() / 1000));
  const signature = createHmac('sha256', secretOf(configuration, 'harbour')).update(`${time}.${body}`).digest('hex');
  return fetch(`${url}/in/harbour`, {
    method: 'POST',
    body,
    headers: {
      'content-type': 'application/json',
      'x-harbour-time': time,
      'x-harbour-signature': `sha256=${signature}`,
    },
  });
}

function secretOf({ intakes }: Configuration, name: string): string {
  const { verify } = intakes.find((intake) => intake.name === name) ?? {};
  if (verify === undefined || verify.type === 'none') throw new RangeError(`the intake ${name} has no secret`);
  return verify.secrets[0] as string;
}

/** Lets the buoy report, the harbour office assign berths, and boats finish. Returns what stops them. */
export function runOutsideSystems(
  url: string,
  configuration: Configuration,
  backend: Backend<Regatta>,
  complain: (error: unknown) => void,
): () => void {
  const every = (ms: number, act: (round: number) => Promise<unknown>): (() => void) => {
    let round = 0;
    const go = (): void => void act(round++).catch(complain);
    go();
    const timer = setInterval(go, ms);
    return () => clearInterval(timer);
  };
  const stops = [
    every(buoyEveryMs, (round) => postReading(url, configuration, reading(round))),
    every(harbourEveryMs, (round) => postBerth(url, configuration, boats[round % boats.length] as Boat, round)),
    every(finishEveryMs, (round) => finish(backend, boats[round % boats.length] as Boat)),
  ];
  return () => {
    for (const stop of stops) stop();
  };
}

/** The committee writes down that a boat has finished. */
export async function finish(backend: Backend<Regatta>, boat: Boat): Promise<void> {
  await backend.publish({
    channel: 'race/3/signals',
    type: 'finish',
    by: authorOf('mira'),
    data: { boat, at: new Date().toISOString(), text: `Finish: ${boat}` },
  });
}

/** The results bureau: takes finishes, and at times says that it is too busy, fails, or says nothing at all. */
export interface ResultsBureau {
  readonly url: string;
  /** Finishes that it has taken, by the id of the event. */
  readonly taken: ReadonlyMap<string, unknown>;
  /** Number of requests received. */
  received(): number;
  stop(): Promise<void>;
}

/**
 * Starts the results bureau.
 *
 * @param secret - the one with which the service signs what it sends
 * @param port - 0 for any free one
 * @param mood - a number from 0 to 1 for each request: how it feels
 */
export async function startResultsBureau(
  secret: string,
  port: number,
  mood: () => number = Math.random,
): Promise<ResultsBureau> {
  const taken = new Map<string, unknown>();
  let received = 0;
  const webhook = new Webhook(secret);
  const server = createServer(async (request, response) => {
    const body = await text(request);
    received += 1;
    const feeling = mood();
    // Nobody is at the desk: the request is never answered.
    if (feeling < 0.08) return;
    if (feeling < 0.2) response.writeHead(500).end('the printer is on fire');
    else if (feeling < 0.35) response.writeHead(429, { 'retry-after': '2' }).end('too many finishes, later please');
    else
      try {
        const event = webhook.verify(body, request.headers as Record<string, string>) as { id: string; data: unknown };
        taken.set(event.id, event.data);
        response.writeHead(200).end(`noted, number ${taken.size}`);
      } catch {
        response.writeHead(401).end('this is not signed by the regatta');
      }
  });
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(port, '127.0.0.1', resolve);
  });
  return {
    url: `http://127.0.0.1:${(server.address() as AddressInfo).port}/finishes`,
    taken,
    received: () => received,
    stop: () => new Promise((resolve) => server.close(() => resolve()).closeAllConnections()),
  };
}
