import { channelName, type Json, type MessageFilter, type Place, parseCursor } from '@nine-bells/wire';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { type ChannelRule, readGrants } from '../src/index.js';
import { type Client, harness } from './harness.js';

const race = channelName('race/3/signals');
const rules: readonly ChannelRule[] = [
  {
    pattern: 'race/:race/signals',
    logbook: { type: 'kept' },
    hasReplies: true,
    allow: { enter: { any: ['anyone', 'token-allows'] }, publish: 'anyone', hail: 'anyone' },
  },
];

async function start(tailMessages = 256) {
  const all = harness({ tailMessages }, undefined, {
    rules,
    ports: {
      tokens: {
        read: async (token) => ({
          user: token.split('?')[0] as string,
          guest: false,
          roles: [],
          claims: {},
          ...(token.includes('?') ? { grants: readGrants(JSON.parse(token.slice(token.indexOf('?') + 1))) } : {}),
        }),
      },
    },
  });
  const publish = async (type: string, data: Json, by = 'mira') => {
    const done = all.engine.messages.publish({ channel: race, type, data, by: { user: by } });
    await all.settle();
    return done;
  };
  const come = (wish: object, token = 'pia'): Promise<Client> =>
    all.welcomed(token, { enter: [{ channel: race, ...wish }] });
  return { ...all, publish, come };
}

const dataOf = ({ frames }: Client): Json[] =>
  frames.flatMap((frame) => [
    ...(frame.entered ?? []).flatMap(({ messages }: { messages: { data: Json }[] }) =>
      messages.map(({ data }) => data),
    ),
    ...(frame.on === 'message' ? [frame.data] : []),
  ]);

describe('filters', () => {
  const cases: readonly [string, MessageFilter, number[]][] = [
    ['types', { types: ['finish'] }, [1, 3]],
    ['several types', { types: ['finish', 'start'] }, [0, 1, 3]],
    ['authors', { by: ['tomas'] }, [2]],
    ['all but some authors', { notBy: ['tomas', 'bram'] }, [0, 1, 3]],
    ['a member of the data', { where: { '/boat': 'petrel' } }, [1, 2]],
    ['members deep in the data', { where: { '/at/leg': 2, '/boat': 'petrel' } }, [2]],
    ['a null', { where: { '/boat': null } }, [3]],
    ['all of it together', { types: ['finish'], by: ['mira'], where: { '/boat': 'petrel' } }, [1]],
    ['what there is none of', { types: ['recall'] }, []],
  ];
  it.each(cases)(
    'by %s let the same through live, to who comes back, and as the last ones',
    async (_, filter, expected) => {
      const { publish, come } = await start();
      const live = await come({ filter });
      await publish('start', { n: 0 });
      await publish('finish', { n: 1, boat: 'petrel' });
      await publish('message', { n: 2, boat: 'petrel', at: { leg: 2 } }, 'tomas');
      await publish('finish', { n: 3, boat: null });
      const back = await come({ filter, after: `${live.frames[0].entered[0].cursor}` }, 'jory');
      const late = await come({ filter, last: 1 }, 'ines');
      const numbers = (client: Client): number[] => dataOf(client).map((data) => (data as { n: number }).n);
      expect(numbers(live)).toEqual(expected);
      expect(numbers(back)).toEqual(expected);
      expect(numbers(late)).toEqual(expected.slice(-1));
    },
  );

  it.each([
    [{ types: [] }, '/filter/types'],
    [{ types: Array.from({ length: 21 }, (_, n) => `t${n}`) }, '/filter/types'],
    [{ by: 'mira' }, '/filter/by'],
    [{ where: {} }, '/filter/where'],
    [{ where: Object.fromEntries(Array.from({ length: 9 }, (_, n) => [`/m${n}`, 1])) }, '/filter/where'],
    [{ where: { boat: 'petrel' } }, '/filter/where/boat'],
    [{ where: { '/a~b': 1 } }, '/filter/where/~1a~0b'],
    [{ where: { '/boat': { is: 'petrel' } } }, '/filter/where/~1boat'],
    [{ where: { '/boat': 'x'.repeat(201) } }, '/filter/where/~1boat'],
    [{ kinds: ['finish'] }, '/filter'],
    ['finish', '/filter'],
  ])('that are none are refused: %j', async (filter, where) => {
    const { welcomed, settle } = await start();
    const pia = await welcomed('pia');
    const id = pia.send({ do: 'enter', channel: race, filter });
    await settle();
    expect(pia.reply(id).problem).toMatchObject({ code: 'bad-filter', where });
  });

  it('that are equal share frames, in whatever order they are written', async () => {
    const { publish, come } = await start();
    const one = await come({ filter: { types: ['a', 'b'], where: { '/x': 1, '/y': 2 } } });
    const other = await come({ filter: { where: { '/y': 2, '/x': 1 }, types: ['b', 'a'] } }, 'jory');
    await publish('a', { x: 1, y: 2 });
    expect(dataOf(one)).toHaveLength(1);
    expect(dataOf(other)).toHaveLength(1);
  });

  it('leave no gap: a client is told how far the channel is, and comes back with that', async () => {
    const { publish, come, clock } = await start();
    const client = await come({ filter: { types: ['finish'] } });
    for (let n = 0; n < 20; n++) await publish('message', n);
    await clock.run(6_000);
    const passed = client.frames.filter(({ on }) => on === 'passed');
    expect(passed).toEqual([{ on: 'passed', channel: race, cursor: expect.stringMatching(/:20$/) }]);
    await clock.run(20_000);
    expect(client.frames.filter(({ on }) => on === 'passed')).toHaveLength(1);
    const back = await come({ filter: { types: ['finish'] }, after: passed[0].cursor });
    expect(back.frames[0].entered[0]).toMatchObject({ messages: [], more: false, cursor: passed[0].cursor });
    expect(back.frames[0].entered[0]).not.toHaveProperty('gap');
  });

  it('let through what is behind a gap, wherever the first search of the record ended', async () => {
    const { publish, come, memory } = await start(1);
    for (let n = 1; n <= 1_200; n++) await publish(n === 1_150 ? 'finish' : 'message', { n });
    await memory.prune(race, 10, 9);
    const { volume } = await memory.head(race);
    const at = (number: number): string => `${volume}:${number}`;
    const client = await come({ filter: { types: ['finish'] }, after: at(1) });
    const { gap, messages } = client.frames[0].entered[0];
    expect(messages.map(({ cursor }: { cursor: string }) => cursor)).toEqual([at(1_150)]);
    expect(gap).toEqual({ channel: race, after: at(1), cursor: at(1_009), why: 'expired' });
  });

  it('look at a bounded number of messages for one reply, which says where to go on', async () => {
    const { publish, come, settle, clock } = await start(1);
    for (let n = 0; n < 1_200; n++) await publish(n === 1_150 ? 'finish' : 'message', { n, text: 'x'.repeat(900) });
    const client = await come({ filter: { types: ['finish'] }, after: 'v1:0' });
    let reply = client.frames[0].entered[0];
    const seen = [...reply.messages];
    let rounds = 1;
    for (; reply.more; rounds++) {
      const id = client.send({ do: 'enter', channel: race, filter: { types: ['finish'] }, after: reply.cursor });
      await settle();
      await clock.run(100);
      reply = client.reply(id);
      seen.push(...reply.messages);
    }
    expect(rounds).toBeGreaterThan(1);
    expect(seen.map(({ data }) => data.n)).toEqual([1_150]);
    expect(reply.cursor).toMatch(/:1200$/);
  });

  it('hold for reading, whose reply says how far was looked', async () => {
    const { publish, come, settle } = await start();
    for (let n = 0; n < 10; n++) await publish(n % 5 === 0 ? 'finish' : 'message', n);
    const client = await come({});
    const id = client.send({ do: 'read', channel: race, limit: 3, filter: { types: ['finish'] } });
    await settle();
    expect(client.reply(id)).toMatchObject({ messages: [], more: true, cursor: expect.stringMatching(/:8$/) });
  });

  it('do not hold back hails, nor what others without a filter get', async () => {
    const { publish, come, settle } = await start();
    const some = await come({ filter: { types: ['finish'] } });
    const all = await come({}, 'jory');
    all.send({ do: 'hail', channel: race, type: 'wave' });
    await settle();
    await publish('message', 1);
    expect(some.frames.filter(({ on }) => on === 'hail')).toHaveLength(1);
    expect(dataOf(all)).toEqual([1]);
    all.send({ do: 'leave', channel: race });
    some.send({ do: 'leave', channel: race });
    await settle();
    await publish('finish', 2);
    expect([...dataOf(some), ...dataOf(all)]).toEqual([1]);
  });

  it('can be imposed by a token, whatever else lets the user in and whatever it asks for', async () => {
    const { publish, come, settle, welcomed } = await start();
    const grants = JSON.stringify([{ pattern: 'race/:race/signals', only: { where: { '/boat': 'petrel' } } }]);
    await publish('finish', { n: 0, boat: 'knot' });
    const tomas = await come({ last: 10 }, `tomas?${grants}`);
    const both = await come({ filter: { types: ['finish'] } }, `ines?${grants}`);
    await publish('finish', { n: 1, boat: 'knot' });
    await publish('finish', { n: 2, boat: 'petrel' });
    await publish('start', { n: 3, boat: 'petrel' });
    const numbers = (client: Client): number[] => dataOf(client).map((data) => (data as { n: number }).n);
    expect(numbers(tomas)).toEqual([2, 3]);
    expect(numbers(both)).toEqual([2]);
    const id = tomas.send({ do: 'read', channel: race });
    await settle();
    expect(
      (tomas.reply(id) as unknown as { messages: { data: { n: number } }[] }).messages.map(({ data }) => data.n),
    ).toEqual([2, 3]);

    // With a token that says something else, at once.
    tomas.send({ do: 'refresh', token: `tomas?${grants.replace('petrel', 'knot')}` });
    await settle();
    await publish('finish', { n: 4, boat: 'petrel' });
    await publish('finish', { n: 5, boat: 'knot' });
    expect(numbers(tomas)).toEqual([2, 3, 5]);
    const free = await welcomed('tomas', { enter: [{ channel: race, last: 10 }] });
    expect(numbers(free)).toHaveLength(6);
  });

  it.each([
    [{ only: { where: { '/boat': ':boat' } } }, /no parameter :boat/],
    [{ only: { kinds: [] } }, /only/],
  ])('of a token that are none are refused: %j', (grant, message) => {
    expect(() => readGrants([{ pattern: 'race/:race/signals', ...grant }])).toThrow(message);
  });

  it('imposed by a token show a reply without its quote, live and read again, also beside an equal wish', async () => {
    const { engine, publish, come, settle } = await start();
    const only = { where: { '/boat': 'petrel' } };
    const grants = JSON.stringify([{ pattern: 'race/:race/signals', only }]);
    const secret = await publish('finish', { boat: 'knot', text: 'a protest is coming' });
    const tomas = await come({}, `tomas?${grants}`);
    const excepted = await come({}, `ines?${grants}`);
    const wishing = await come({ filter: only });
    const except = [(excepted.frames[0] as { session: string }).session];
    const data = { boat: 'petrel', n: 1 };
    const replied = engine.messages.publish({
      channel: race,
      type: 'finish',
      data,
      replyTo: parseCursor(secret.cursor) as Place,
      except,
    });
    await settle();
    const { cursor } = await replied;
    const shown = (client: Client) => client.pushes('message').map(({ replyTo, answers }) => ({ replyTo, answers }));
    expect(shown(tomas)).toEqual([{ replyTo: secret.cursor, answers: undefined }]);
    expect(shown(wishing)).toEqual([
      { replyTo: secret.cursor, answers: { by: { user: 'mira' }, text: expect.any(String) } },
    ]);
    expect(shown(excepted)).toEqual([]);
    for (const request of [{ do: 'read' }, { do: 'enter', last: 5 }]) {
      const id = tomas.send({ channel: race, ...request });
      await settle();
      const reply = JSON.stringify(tomas.reply(id));
      expect([reply.includes(cursor), reply.includes('protest')]).toEqual([true, false]);
    }
  });

  it('stand in traces: who was passed over, and by what', async () => {
    const { engine, publish, come } = await start();
    await come({ filter: { types: ['finish'], where: { '/boat': 'petrel' } } });
    const { id } = await publish('finish', { boat: 'knot' });
    const { id: other } = await publish('finish', { boat: 'petrel' });
    const traced = await engine.cluster.trace(id, 'pia');
    expect(traced?.user?.fates).toMatchObject([{ outcome: 'filtered' }]);
    expect(traced?.user?.sentence).toContain('wants only messages of the type finish, where /boat is "petrel"');
    expect(traced?.instances).toMatchObject([{ connections: 0 }]);
    expect((await engine.cluster.trace(other, 'pia'))?.user?.fates).toMatchObject([{ outcome: 'handed' }]);
  });

  it('let through in any mixture what they let through one by one', async () => {
    const types = ['a', 'b'];
    const filters: readonly (MessageFilter | undefined)[] = [
      undefined,
      { types: ['a'] },
      { types: ['b'] },
      { by: ['mira'] },
      { notBy: ['mira', 'jory'] },
      { where: { '/n': 1 } },
    ];
    const message = fc.record({
      type: fc.constantFrom(...types),
      by: fc.constantFrom('mira', 'ines'),
      n: fc.constantFrom(1, 2),
    });
    await fc.assert(
      fc.asyncProperty(
        fc.array(message, { maxLength: 12 }),
        fc.array(fc.nat(filters.length - 1), { minLength: 1, maxLength: 6 }),
        async (messages, wishes) => {
          const { engine, come, settle } = await start();
          const clients = await Promise.all(
            wishes.map((index, n) => come(filters[index] === undefined ? {} : { filter: filters[index] }, `user${n}`)),
          );
          for (const { type, by, n } of messages)
            void engine.messages.publish({ channel: race, type, data: { n }, by: { user: by } });
          await settle();
          for (const [index, client] of clients.entries()) {
            const { types: some, by, notBy, where } = filters[wishes[index] as number] ?? {};
            const fits = messages.filter(
              (each) =>
                (some?.includes(each.type) ?? true) &&
                (by?.includes(each.by) ?? true) &&
                !notBy?.includes(each.by) &&
                (where === undefined || each.n === 1),
            );
            expect(dataOf(client)).toEqual(fits.map(({ n }) => ({ n })));
          }
        },
      ),
      { numRuns: 60 },
    );
  });
});

describe('to who has a token with a filter, a message that it hides', () => {
  const anyone = ['enter', 'publish', 'revise', 'withdraw', 'revisions', 'react'].map((act) => [act, 'anyone']);
  const chat: ChannelRule = {
    pattern: 'race/:race/signals',
    logbook: { type: 'kept' },
    keepsRevisions: true,
    hasReplies: true,
    reactions: { kinds: 3, each: 3 },
    allow: { ...Object.fromEntries(anyone), moderate: 'nobody' },
  };
  const grants = readGrants([{ pattern: 'race/:race/signals', only: { where: { '/public': true } } }]);
  async function startWithFilter() {
    const tokens = { read: async (user: string) => ({ user, guest: false, roles: [], claims: {}, grants }) };
    const all = harness({}, undefined, { rules: [chat], ports: { tokens } });
    const publish = async (data: Json) => {
      const [{ cursor }] = await Promise.all([all.engine.messages.publish({ channel: race, data }), all.settle()]);
      return cursor;
    };
    const pia = await all.welcomed('pia');
    const ask = async (request: object) => {
      const id = pia.send({ channel: race, ...request });
      await all.settle();
      return pia.reply(id);
    };
    return { ...all, publish, ask };
  }

  it.each([
    ['revise', { do: 'revise', data: { public: true } }],
    ['withdraw', { do: 'withdraw' }],
    ['revisions', { do: 'revisions' }],
    ['react', { do: 'react', word: 'wow' }],
    ['reactors', { do: 'reactors' }],
    ['report', { do: 'report' }],
    ['publish', { do: 'publish', data: { public: true } }],
  ])('is not there: %s', async (_, request) => {
    const { publish, ask } = await startWithFilter();
    for (const [data, code] of [
      [{ public: true }, undefined],
      [{ public: false }, 'no-such-message'],
    ] as const) {
      const cursor = await publish(data);
      const named = request.do === 'publish' ? { replyTo: cursor } : { cursor };
      expect((await ask({ ...request, ...named })).problem?.code).toBe(code);
    }
  });

  it('was not there before it was shown', async () => {
    const { publish, ask, engine, settle } = await startWithFilter();
    const cursor = await publish({ public: false, word: 'petrel' });
    const [volume = '', number] = cursor.split(':');
    const place = { volume, number: Number(number) };
    await Promise.all([engine.messages.change({ channel: race, place, data: { public: true } }), settle()]);
    expect(await ask({ do: 'revisions', cursor })).toMatchObject({ revisions: [] });
  });
});
