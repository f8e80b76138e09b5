import type { MemoryStore } from '@nine-bells/core/testing';
import { refusal } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { type ArrivalDraft, defaultHook, type Intake, type IntakeFunction, type Route } from '../src/index.js';
import { harness, rules, storeWith } from './harness.js';

const nothing = { messages: [], notices: [], entries: [] };
const wind: Route = {
  ...nothing,
  when: { at: '/kind', is: 'wind' },
  messages: [{ channel: 'weather/:station', with: {}, type: 'reading', data: { knots: '/speed' } }],
};
const berth: Route = {
  ...nothing,
  when: { at: '/berth', exists: true },
  messages: [{ channel: 'race/:race/chat', with: { race: { from: '/race', or: 1 } }, by: '/who' }],
  notices: [{ users: '/crew', title: '/text' }],
};

function service(routes: Intake['routes'], more: Parameters<typeof harness>[1] = undefined) {
  const intake: Intake = { name: 'buoy', body: 'json', drop: [], keepMs: 60_000, routes };
  const failed: string[] = [];
  const found = harness({ intakes: [intake] }, more, {
    rules,
    ports: { bodyOf: (_, { body }) => JSON.parse(body) },
  });
  const { engine, clock, memory } = found;
  let count = 0;
  const arrive = (body: object, more: Partial<ArrivalDraft> = {}) =>
    engine.intakes.arrive({
      id: `a${++count}`,
      intake: 'buoy',
      atMs: clock.now(),
      method: 'POST',
      headers: {},
      body: JSON.stringify(body),
      bytes: 1,
      hops: 0,
      ...more,
    });
  const settled = async (id: string, ms = 1_000) => {
    await clock.run(ms);
    return memory.arrival(id);
  };
  const chat = async (channel: string) => {
    const { messages } = await engine.messages.read(channel as never, {}, { messages: 99, bytes: 1e9 });
    return messages.map(({ message: { data, type, by } }) => ({ data, type, by: by?.user }));
  };
  return { ...found, intake, failed, arrive, settled, chat };
}

describe('an intake', () => {
  it('publishes by the first route that is for an event, in the order in which events came', async () => {
    const { arrive, settled, chat, engine } = service([wind, berth]);
    for (const speed of [1, 2, 3]) await arrive({ kind: 'wind', station: 'north', speed });
    await arrive({ berth: 'A1', who: 'mira', crew: ['tomas', 'ines'], text: 'Berth A1', race: 7 });
    expect(await settled('a4')).toMatchObject({ state: 'done', became: { route: 1, notices: [{ users: 2 }] } });
    expect(await chat('weather/north')).toEqual(
      [1, 2, 3].map((knots) => ({ data: { knots }, type: 'reading', by: undefined })),
    );
    expect(await chat('race/7/chat')).toMatchObject([{ by: 'mira', data: { berth: 'A1' } }]);
    expect((await engine.inboxes.read('ines', undefined, 9)).notices).toMatchObject([{ title: 'Berth A1' }]);
  });

  it.each<[string, object, string]>([
    ['no route', { kind: 'fog' }, 'ignored: no route is for it'],
    ['a missing value', { kind: 'wind', station: 'north' }, 'failed: /speed finds nothing'],
    ['an odd value', { kind: 'wind', station: 'a/b', speed: 1 }, 'failed: "a/b" cannot stand for :station'],
    ['an odd name', { kind: 'wind', station: 'é', speed: 1 }, 'failed: the channel "weather/é"'],
    ['no such channel', { berth: 'x', race: '1/x', crew: 'ines', text: 'x', who: 'x' }, 'failed: "1/x" cannot stand'],
    ['an odd author', { berth: 'x', who: { a: 1 }, crew: 'ines', text: 'x' }, 'failed: {"a":1} cannot be the by'],
    [
      'an author that only the service may name',
      { berth: 'x', who: 'guest:x', crew: 'ines', text: 'x' },
      'failed: the author "guest:x": no user id may begin',
    ],
    [
      'an author that no database takes',
      { berth: 'x', who: 'a\u0000b', crew: 'ines', text: 'x' },
      'failed: the author "a\\u0000b": a user id has no control characters',
    ],
    [
      'a title that is too long',
      { berth: 'x', who: 'x', crew: 'ines', text: 'x'.repeat(201) },
      'failed: the title has 201 characters',
    ],
    ['odd users', { berth: 'x', who: 'x', crew: [1], text: 'x' }, 'failed: [1] are no user ids'],
  ])('keeps an event with %s, and says why', async (_, body, expected) => {
    const { arrive, settled } = service([wind, berth]);
    const { id } = await arrive(body);
    const found = await settled(id);
    expect(`${found?.state}: ${found?.problem}`.slice(0, expected.length)).toBe(expected);
  });

  it('keeps an event once that comes again under the same id, and publishes it once', async () => {
    const { arrive, settled, chat } = service([wind]);
    const event = { kind: 'wind', station: 'north', speed: 1 };
    const [first, second] = await Promise.all([arrive(event, { eventId: 'e1' }), arrive(event, { eventId: 'e1' })]);
    expect(second).toEqual({ id: first.id, repeated: true });
    await settled(first.id);
    expect(await chat('weather/north')).toHaveLength(1);
  });

  it('publishes later what cannot be published now, once', async () => {
    let isDown = true;
    const { arrive, settled, chat } = service([berth], (memory) =>
      storeWith(memory, {
        append: async (...args) => {
          const appended = await memory.append(...args);
          // It was done, and the answer is lost.
          if (isDown) throw refusal('unavailable');
          return appended;
        },
      }),
    );
    const { id } = await arrive({ berth: 'A1', who: 'mira', crew: 'ines', text: 'x' });
    expect(await settled(id)).toMatchObject({ state: 'waiting' });
    isDown = false;
    expect(await settled(id, 60_000)).toMatchObject({ state: 'done' });
    expect(await chat('race/1/chat')).toHaveLength(1);
  });

  it('publishes after a restart what the process before has taken', async () => {
    const { memory, engine, restarted, clock, chat } = service([wind]);
    await memory.arrive({
      id: 'left',
      intake: 'buoy',
      atMs: clock.now(),
      method: 'POST',
      headers: {},
      body: JSON.stringify({ kind: 'wind', station: 'north', speed: 9 }),
      bytes: 9,
      hops: 0,
      heldUntilMs: clock.now() + 30_000,
    });
    await engine.stop();
    const next = restarted();
    await clock.run(40_000);
    expect(await memory.arrival('left')).toMatchObject({ state: 'done' });
    expect(await chat('weather/north')).toEqual([]);
    const { messages } = await next.messages.read('weather/north' as never, {}, { messages: 9, bytes: 1e9 });
    expect(messages.map(({ message }) => message.data)).toEqual([{ knots: 9 }]);
  });

  it('runs an event again by the routes of now, and tells hooks of what has failed', async () => {
    let route: IntakeFunction = () => {
      throw new Error('not written yet');
    };
    const { arrive, settled, engine, memory, chat } = service((event) => route(event));
    const { id } = await arrive({ text: 'hello' });
    expect(await settled(id)).toMatchObject({ state: 'failed', problem: 'not written yet' });
    route = ({ body }) => ({ messages: [{ channel: 'weather/x' as never, data: (body as { text: string }).text }] });
    await engine.intakes.again((await memory.arrival(id)) as never);
    expect(await settled(id)).toMatchObject({ state: 'done', tries: 2 });
    expect(await chat('weather/x')).toMatchObject([{ data: 'hello' }]);
  });

  it.each(['tidyIntake', 'tidyHook'] as const)('goes on to forget while there is more: %s', async (method) => {
    let left = 38_000;
    const portion = async () => {
      const some = Math.min(left, 2_000);
      left -= some;
      return some;
    };
    const tidyHook = async () => ({ gaveUp: 0, forgot: await portion() });
    const store = (memory: MemoryStore) => storeWith(memory, { [method]: method === 'tidyHook' ? tidyHook : portion });
    const intake: Intake = { name: 'buoy', body: 'json', drop: [], keepMs: 60_000, routes: [] };
    const hook = { ...defaultHook, name: 'bureau', url: 'https://bureau.example/' };
    const { clock } = harness({ intakes: [intake], hooks: [hook] }, store, { rules });
    await clock.run(11_000);
    expect(left).toBe(0);
  });

  it('forgets what ended long ago', async () => {
    const { arrive, settled, memory } = service([wind]);
    const { id } = await arrive({ kind: 'wind', station: 'north', speed: 1 });
    await settled(id, 90_000);
    expect(await memory.arrivals({ limit: 9 })).toEqual([]);
  });
});
