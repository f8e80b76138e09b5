import { Backend } from '@nine-bells/client/backend';
import { afterEach, describe, expect, it } from 'vitest';
import { ninebells } from './support/command.js';
import { RealRedis, redisIsThere } from './support/realRedis.js';
import { type Behaviour, Receiver, secret } from './support/receiver.js';
import { openLine, type StartedService, startInstances } from './support/service.js';
import { startTwo } from './support/twoInstances.js';
import { until } from './support/until.js';

const chat = 'race/3/chat';
const textOf = (url: string, otherwise: string) => `
service: { port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
ask: { secret: ${secret} }
channels:
  - pattern: "race/:race/chat"
    logbook: kept
    mentions: true
    replies: true
    allow: { enter: anyone, publish: signed-in, revise: { author: always } }
    review: { ask: "${url}/review", within: 400ms, otherwise: ${otherwise} }
hooks: { desk: { url: "${url}/desk", secrets: ${secret}, events: [pending] } }
`;
const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const answer =
  (body: unknown, status = 200, afterMs = 0): Behaviour =>
  async (_, response) => {
    if (afterMs > 0) await new Promise((resolve) => setTimeout(resolve, afterMs));
    response.writeHead(status, { 'content-type': 'application/json' });
    response.end(typeof body === 'string' ? body : JSON.stringify(body));
  };

async function start(behave: Behaviour, otherwise = 'refuse', more: Parameters<typeof startInstances>[2] = {}) {
  const application = await Receiver.start(behave);
  clean.push(() => application.stop());
  const services = await startInstances(textOf(application.url, otherwise), clean, more);
  return { application, services: services as [StartedService, ...StartedService[]] };
}

describe('review', () => {
  it('shows the application what a client publishes', async () => {
    const { application, services } = await start(answer({ allow: true, data: { text: 'A w*rd' } }));
    const [service] = services;
    const mira = await openLine(clean, service, 'mira', { rights: { roles: ['umpire'] } });
    const said = await mira.publish(chat, { text: 'A word' }, { key: 'k1', mentions: { users: ['mira'] } });
    expect(said.data).toEqual({ text: 'A w*rd' });
    expect((await mira.read(chat)).messages).toMatchObject([{ data: { text: 'A w*rd' }, key: 'k1' }]);
    expect((await mira.revise(chat, said, { text: 'Another word' })).data).toEqual({ text: 'A w*rd' });
    await service.backend.publish({ channel: chat, data: { text: 'The application itself is not asked' } });
    const bodies = application.got.map(({ body }) => JSON.parse(body));
    expect(bodies).toMatchObject([
      {
        type: 'message.review',
        data: {
          channel: chat,
          parameters: { race: '3' },
          user: 'mira',
          roles: ['umpire'],
          message: { type: 'message', key: 'k1', mentions: { users: ['mira'] }, data: { text: 'A word' } },
        },
      },
      { data: { message: { revises: said.cursor, data: { text: 'Another word' } } } },
    ]);
    expect(application.got.every(({ isSigned }) => isSigned)).toBe(true);
  });

  it.each([
    ['a no', answer({ allow: false, reason: 'mind your tongue' }), 'review-refused'],
    ['a no without a reason', answer({ allow: false }), 'review-refused'],
    ['rubbish', answer('<html>'), 'review-failed'],
    ['another shape', answer({ allow: 'yes' }), 'review-failed'],
    ['an unknown member', answer({ allow: true, held: 1 }), 'review-failed'],
    ['yes and later', answer({ allow: true, hold: true }), 'review-failed'],
    ['neither yes nor no', answer({ reason: 'hm' }), 'review-failed'],
    ['no, and not later', answer({ hold: false }), 'review-failed'],
    ['a failure', answer({ allow: true }, 500), 'review-failed'],
    ['too late a yes', answer({ allow: true }, 200, 900), 'review-failed'],
    ['data without end', answer({ allow: true, data: 'x'.repeat(70_000) }), 'review-failed'],
    ['data that is larger than the channel takes', answer({ allow: true, data: 'x'.repeat(40_000) }), 'too-large'],
    [
      'data that is nested without end',
      answer({ allow: true, data: JSON.parse('['.repeat(70) + ']'.repeat(70)) }),
      'review-failed',
    ],
  ])('makes of %s a stable code', async (_, behave, code) => {
    const { services } = await start(behave);
    const mira = await openLine(clean, services[0], 'mira');
    await expect(mira.publish(chat, { text: 'A word' })).rejects.toMatchObject({ code });
    expect((await mira.read(chat)).messages).toEqual([]);
  });

  it.skipIf(!redisIsThere)(
    'lets pass where the rule says so and there is no answer, in order, on both of two instances',
    async () => {
      const redis = await RealRedis.start();
      clean.push(() => redis.remove());
      const behave: Behaviour = async ({ body }, response) => {
        const { data } = JSON.parse(body).data.message;
        await answer({ allow: true }, data === 2 ? 500 : 200, data === 0 ? 200 : 0)({} as never, response);
      };
      const { services } = await start(behave, 'pass', { count: 2, relay: redis.url });
      const [one, two] = services as [StartedService, StartedService];
      const [mira, pia] = [await openLine(clean, one, 'mira'), await openLine(clean, two, 'pia')];
      await pia.enter(chat).ready;
      await Promise.all([0, 1, 2].map((n) => mira.publish(chat, n)));
      expect((await pia.read(chat)).messages.map(({ data }) => data)).toEqual([0, 1, 2]);
    },
  );
});

/** Holds what has `landlubber` in it. */
const watchful: Behaviour = ({ url, body }, response) => {
  if (url === '/desk') return void response.end();
  const { data } = JSON.parse(body).data.message;
  const isRude = JSON.stringify(data).includes('landlubber');
  return answer(isRude ? { hold: true, reason: 'a moderator looks at it' } : { allow: true })({} as never, response);
};

describe('a message that a moderator looks at', () => {
  it('is waited for by its author', async () => {
    const { services } = await start(watchful);
    const [service] = services;
    const [jory, second] = [await openLine(clean, service, 'jory'), await openLine(clean, service, 'jory')];
    const told: string[] = [];
    second.addEventListener('pending', ({ detail }) => told.push(`${detail.state} ${detail.reason ?? ''}`.trim()));
    const first = await jory.publish(chat, { text: 'Hello' });
    const rude = jory.publish(chat, { text: 'You landlubber' }, { replyTo: first.cursor, key: 'k1' });
    const error = await rude.catch((problem) => problem);
    expect(error).toMatchObject({ code: 'pending', problem: { detail: 'a moderator looks at it' } });
    const behind = await jory.publish(chat, { text: 'Just joking' }).catch(({ code }) => code);
    const third = await jory.publish(chat, { text: 'landlubber!' }).catch(({ problem }) => problem.pending);
    expect(behind).toBe('pending');
    expect(await jory.takeBack(third)).toMatchObject({ state: 'taken-back', channel: chat });
    expect((await jory.pending(chat)).map(({ data, cleared }) => [data, cleared])).toEqual([
      [{ text: 'You landlubber' }, undefined],
      [{ text: 'Just joking' }, true],
    ]);
    expect((await jory.read(chat)).messages).toHaveLength(1);
    const { id } = (await service.backend.pending()).pending[0] as { id: string };
    expect(id).toBe(error.problem.pending);
    expect(await service.backend.approve(id, { by: { user: 'mira' } })).toMatchObject({ state: 'published', id });
    const { messages } = await jory.read(chat);
    expect(messages).toMatchObject([
      { data: { text: 'Hello' } },
      { data: { text: 'You landlubber' }, replyTo: first.cursor, key: 'k1', by: { user: 'jory' } },
      { data: { text: 'Just joking' } },
    ]);
    await until(() => told.filter((each) => each === 'published').length === 2);
    expect(told).toContain('waiting a moderator looks at it');
    expect(told).toContain('waiting an earlier message of yours waits for a moderator');
    expect(await jory.publish(chat, { text: 'You landlubber' }, { key: 'k1' })).toMatchObject({ repeated: true });
  });

  it.skipIf(!redisIsThere)('is decided once at two instances, by the command line and over HTTP', async () => {
    const application = await Receiver.start(watchful);
    clean.push(() => application.stop());
    const [one, two] = await startTwo(textOf(application.url, 'hold'), clean);
    const [jory, pia] = [await openLine(clean, one, 'jory'), await openLine(clean, two, 'pia')];
    const seen: unknown[] = [];
    const entry = pia.enter(chat);
    entry.addEventListener('message', ({ detail }) => seen.push((detail.data as { text: string }).text));
    await entry.ready;
    const texts = Array.from({ length: 6 }, (_, n) => `landlubber ${n}`);
    const states = await Promise.all(texts.map((text) => jory.publish(chat, { text }).catch(({ code }) => code)));
    expect(states).toEqual(texts.map(() => 'pending'));
    const run = async (...args: string[]) => {
      const ended = await ninebells(args, { NINEBELLS_URL: two.url, NINEBELLS_KEY: two.key });
      return `${ended.out}${ended.err}`;
    };
    const list = await run('pending', '--channel', chat);
    expect(list).toMatch(/WHY IT WAITS[\s\S]*landlubber 0.*a moderator looks at it/);
    // Why is it not there?
    expect(await run('explain', 'publish', chat, '--user', 'jory')).toMatch(
      /allowed[\s\S]*sees the message, within 0.4 s; without an answer a moderator decides\n.*it waits behind them/,
    );
    expect((await two.backend.explain('publish', chat, { user: 'pia', roles: [], claims: {} })).review).toEqual({
      withinMs: 400,
      otherwise: 'hold',
      waits: false,
    });
    const metrics = await fetch(`${one.url}/metrics`, { headers: { authorization: `Bearer ${one.key}` } });
    expect(await metrics.text()).toMatch(/bells_reviews_total\{said="held"[^}]*\} 6/);
    const { pending } = await two.backend.pending({ user: 'jory' });
    expect(pending).toHaveLength(6);
    const ids = pending.map(({ id }) => id) as [string, string, string, string, string, string];
    expect(await run('reject', ids[1], '--reason', 'mind your tongue')).toContain('Refused the message of jory');
    expect(await run('approve', ids[2])).toMatch(/Approved\. It is published when the earlier messages/);
    // Two moderators at once, at two instances.
    const both = await Promise.allSettled(
      [one, two].map(({ backend }) => backend.approve(ids[0], { by: { user: 'mira' } })),
    );
    expect(both.map(({ status }) => status)).toEqual(['fulfilled', 'fulfilled']);
    const either = await Promise.allSettled([one.backend.approve(ids[3]), two.backend.reject(ids[3])]);
    expect(either.some(({ status }) => status === 'fulfilled')).toBe(true);
    await Promise.all([one.backend.approve(ids[5]), two.backend.approve(ids[4])]);
    await until(() => seen.includes('landlubber 5'));
    // An approval whose answer was lost is repeated.
    const again = await one.backend.approve(ids[5]);
    expect(again).toMatchObject({ id: ids[5], state: 'published', data: { text: 'landlubber 5' } });
    expect((await two.backend.read(chat, { limit: 100 })).messages.some(({ cursor }) => cursor === again.cursor)).toBe(
      true,
    );
    const texted = seen.filter((text) => text !== 'landlubber 3');
    expect(texted).toEqual([0, 2, 4, 5].map((n) => `landlubber ${n}`));
    expect(seen.filter((text) => text === 'landlubber 3').length).toBeLessThanOrEqual(1);
    expect(await run('pending')).toContain('No messages wait.');
    expect(await run('pending', '--refused')).toMatch(/landlubber 1.*mind your tongue/);
    expect((await jory.pending()).find(({ id }) => id === ids[1])).toMatchObject({
      state: 'refused',
      reason: 'mind your tongue',
    });
    expect(await run('approve', ids[1])).toContain('no message of this id waits');
    expect(await run('audit')).toMatch(/reject +jory +race\/3\/chat +mind your tongue/);
  });

  it('is decided only with a key for its channel, and sent to hooks', async () => {
    const { services, application } = await start(watchful);
    const [service] = services;
    const jory = await openLine(clean, service, 'jory');
    const { problem } = await jory.publish(chat, { text: 'landlubber' }).catch((error) => error);
    const sent = await until(() => application.got.find(({ url }) => url === '/desk'));
    expect(JSON.parse(sent.body)).toMatchObject({
      type: 'ninebells.pending',
      subject: chat,
      data: { id: problem.pending, state: 'waiting', by: { user: 'jory' }, data: { text: 'landlubber' } },
    });
    const reader = await service.backend.makeKey({ name: 'reader', rights: ['read'] });
    const [delivery] = (await service.backend.deliveries({ hook: 'desk' })).deliveries;
    const seen = new Backend(service.url, { key: reader.key }).delivery(delivery?.id as string);
    await expect(seen).rejects.toMatchObject({ problem: { code: 'not-allowed' } });
    const { key } = await service.backend.makeKey({ name: 'elsewhere', rights: ['moderate:race/9/chat'] });
    const ask = async (path: string, body?: object) => {
      const headers = { authorization: `Bearer ${key}`, 'content-type': 'application/json' };
      const init = body === undefined ? { headers } : { headers, method: 'POST', body: JSON.stringify(body) };
      const response = await fetch(`${service.url}/v1/pending${path}`, init);
      return [response.status, ((await response.json()) as { code?: string }).code];
    };
    expect(await ask('')).toEqual([403, 'not-allowed']);
    expect(await ask(`?channel=${encodeURIComponent(chat)}`)).toEqual([403, 'not-allowed']);
    for (const act of ['approve', 'reject'])
      expect(await ask(`/${problem.pending}/${act}`, {})).toEqual([404, 'no-such-id']);
    expect(await ask('?channel=race/9/chat&state=odd')).toEqual([400, 'bad-value']);
    expect(await ask('?channel=race/9/chat')).toEqual([200, undefined]);
  });
});
