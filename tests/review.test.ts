import { afterEach, describe, expect, it } from 'vitest';
import { RealRedis, redisIsThere } from './realRedis.js';
import { type Behaviour, Receiver, secret } from './receiver.js';
import { openLine, type StartedService, startInstances } from './startedService.js';

const chat = 'race/3/chat';
const textOf = (url: string, otherwise: string) => `
service: { port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
ask: { secret: ${secret} }
channels:
  - pattern: "race/:race/chat"
    logbook: kept
    mentions: true
    allow: { enter: anyone, publish: signed-in, revise: { author: always } }
    review: { ask: "${url}/review", within: 400ms, otherwise: ${otherwise} }
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
  it.each(['websocket', 'stream', 'poll'] as const)(
    'shows the application what a client publishes, over %s',
    async (transport) => {
      const { application, services } = await start(answer({ allow: true, data: { text: 'A w*rd' } }));
      const [service] = services;
      const mira = await openLine(clean, service, 'mira', { transport, rights: { roles: ['umpire'] } });
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
    },
  );

  it.each([
    ['a no', answer({ allow: false, reason: 'mind your tongue' }), 'review-refused'],
    ['a no without a reason', answer({ allow: false }), 'review-refused'],
    ['rubbish', answer('<html>'), 'review-failed'],
    ['another shape', answer({ allow: 'yes' }), 'review-failed'],
    ['an unknown member', answer({ allow: true, hold: 1 }), 'review-failed'],
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
