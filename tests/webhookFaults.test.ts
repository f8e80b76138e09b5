import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Backend } from '@nine-bells/client/backend';
import { afterEach, describe, expect, it } from 'vitest';
import { serve } from './support/command.js';
import { postgresIsThere } from './support/realPostgres.js';
import { RealRedis, redisIsThere } from './support/realRedis.js';
import { type Received, Receiver, secret, signed } from './support/receiver.js';
import { configurationText } from './support/service.js';
import { makeMigratedDatabase } from './support/shared.js';
import { until, wait } from './support/until.js';

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const textFor = (
  receiver: string,
  name: string,
): string => `${configurationText.replace('port: 0,', `port: 0, instance: ${name}, secret: the-own-secret-of-the-test-regatta-service,`)}
intakes:
  buoy:
    verify: { standard: ${secret} }
    routes: [{ message: { channel: "race/:race/signals", type: reading, data: /n } }]
hooks:
  ordered: { url: "${receiver}/ordered", secrets: ${secret}, order: channel, atOnce: 4, retry: { first: 50ms, most: 500ms }, within: 2s }
  batches: { url: "${receiver}/batches", secrets: ${secret}, batch: { most: 20, within: 50ms }, retry: { first: 50ms, most: 500ms }, within: 2s }
`;

interface Running {
  readonly url: string;
  kill(): Promise<void>;
}

/** Starts an instance on a port, or on any. */
async function start(
  folder: string,
  port: number,
  text: string,
  args: readonly string[],
): Promise<Running & { key: string }> {
  const { command, url, key } = await serve(folder, port, { text, args });
  const kill = async (): Promise<void> => {
    command.process.kill('SIGKILL');
    await command.ended;
  };
  clean.push(kill);
  return { url, key, kill };
}

/** Failures in a row at most: five would suspend a hook, for up to a minute. */
const maxFailures = 3;

/** A receiver that fails at random, and remembers which events it has taken, in the order in which they came first. */
async function failingReceiver() {
  const taken = new Map<string, string[]>();
  const failures = new Map<string, number>();
  const receiver = await Receiver.start(async ({ url, body, isSigned }: Received, response) => {
    await wait(Math.random() * 10);
    const failed = failures.get(url) ?? 0;
    const dice = failed < maxFailures ? Math.random() : 1;
    failures.set(url, dice < 0.2 ? failed + 1 : 0);
    if (!isSigned || dice < 0.1) {
      response.writeHead(500).end();
      return;
    }
    for (const { id, subject } of [JSON.parse(body)].flat() as { id: string; subject: string }[]) {
      const key = `${url.slice(1)} ${subject}`;
      const known = taken.get(key) ?? [];
      taken.set(key, known);
      if (!known.includes(id)) known.push(id);
    }
    // The answer is lost.
    if (dice < 0.15) response.destroy();
    else if (dice < 0.2) response.writeHead(429, { 'retry-after': '0' }).end();
    else response.end();
  });
  clean.push(() => receiver.stop());
  return { receiver, taken };
}

/** Posts events to whichever instance answers, each again and again until it is acknowledged. */
function postAll(urls: () => readonly string[], total: number): { done: Promise<void>; acknowledged: () => number } {
  let acknowledged = 0;
  const post = async (n: number): Promise<void> => {
    const body = JSON.stringify({ race: 1 + (n % 3), n });
    for (let tries = 0; ; tries++) {
      const all = urls();
      const url = all[(n + tries) % all.length];
      const response = await fetch(`${url}/in/buoy`, {
        method: 'POST',
        body,
        headers: signed(`event-${n}`, body),
        signal: AbortSignal.timeout(3_000),
      }).catch(() => undefined);
      if (response?.status === 202) break;
      await wait(20 + Math.random() * 50);
    }
    acknowledged += 1;
  };
  const posters = Array.from({ length: 16 }, async (_, poster) => {
    for (let n = poster; n < total; n += 16) await post(n);
  });
  return { done: Promise.all(posters).then(() => {}), acknowledged: () => acknowledged };
}

/** Each event became one message, and each message reached both hooks, in order where wished. */
async function check(
  backend: Backend,
  taken: ReadonlyMap<string, string[]>,
  total: number,
  inOrder: boolean,
): Promise<void> {
  const messages = async () => {
    const all = await Promise.all([1, 2, 3].map((race) => backend.read(`race/${race}/signals`, { limit: 1000 })));
    return all.map((each) => each.messages);
  };
  const read = await until(async () => {
    const all = await messages();
    return all.flat().length >= total && all;
  });
  const numbers = read.flat().map(({ data }) => data as number);
  expect(numbers.sort((a, b) => a - b)).toEqual(Array.from({ length: total }, (_, n) => n));
  for (const [index, logged] of read.entries())
    for (const hook of ['ordered', 'batches']) {
      const ids = logged.map(({ id }) => id);
      const key = `${hook} race/${index + 1}/signals`;
      await until(() => new Set(taken.get(key)).size >= ids.length).catch(() => {});
      if (inOrder && hook === 'ordered') expect(taken.get(key)).toEqual(ids);
      else expect(new Set(taken.get(key))).toEqual(new Set(ids));
    }
  await until(async () => {
    const { hooks } = await backend.hooks();
    return hooks.every(({ waiting }) => waiting === 0);
  });
}

describe('events between other systems', () => {
  it('are neither lost nor doubled when the service is killed again and again, and hooks hear of each', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'bells-webhooks-'));
    clean.push(() => rmSync(folder, { recursive: true, force: true }));
    const { receiver, taken } = await failingReceiver();
    const text = textFor(receiver.url, 'one');
    let running = await start(folder, 0, text, []);
    const port = Number(new URL(running.url).port);
    const total = 900;
    const posting = postAll(() => [running.url], total);
    for (let kills = 1; kills <= 3; kills++) {
      await until(() => posting.acknowledged() > (kills * total) / 5);
      await running.kill();
      running = await start(folder, port, text, []);
    }
    await posting.done;
    // A killed instance leaves what it had taken: another one takes it over after half a minute.
    await check(new Backend(running.url, { key: running.key }), taken, total, true);
  });

  it.skipIf(!redisIsThere || !postgresIsThere)(
    'are neither lost nor doubled when instances that share PostgreSQL are killed in turn',
    async () => {
      const redis = await RealRedis.start();
      clean.push(() => redis.remove());
      const database = await makeMigratedDatabase();
      const { receiver, taken } = await failingReceiver();
      const args = ['--relay', redis.url, '--database', database];
      // The first key is one of the database: both instances start from one folder.
      const folder = mkdtempSync(join(tmpdir(), 'bells-webhooks-'));
      clean.push(() => rmSync(folder, { recursive: true, force: true }));
      const begin = (index: number, port = 0) => start(folder, port, textFor(receiver.url, `i${index}`), args);
      const first = await begin(0);
      const all: Running[] = [first, await begin(1)];
      const total = 600;
      const posting = postAll(() => all.map(({ url }) => url), total);
      for (const index of [0, 1]) {
        await until(() => posting.acknowledged() > ((index + 1) * total) / 4);
        const { url } = all[index] as Running;
        await all[index]?.kill();
        await wait(1_000);
        all[index] = await begin(index, Number(new URL(url).port));
      }
      await posting.done;
      await check(new Backend(first.url, { key: first.key }), taken, total, false);
    },
  );
});
