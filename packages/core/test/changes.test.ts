import {
  type Cursor,
  channelName,
  type Entered,
  type Json,
  type Message,
  type Place,
  parseCursor,
} from '@nine-bells/wire';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { type AccessRule, type ChannelRule, readGrants } from '../src/index.js';
import { type Client, harness, slowly } from './harness.js';

const own: AccessRule = { any: [{ author: { withinMs: 10_000 } }, { role: 'chair' }] };
const allow = { enter: 'anyone', publish: 'anyone', revise: own, withdraw: own, moderate: { role: 'chair' } } as const;
const recent = { type: 'recent', bounds: { messages: 1000, forMs: 600_000 } } as const;
const rules: readonly ChannelRule[] = [
  {
    pattern: 'race/:race/chat',
    logbook: { type: 'kept' },
    keepsRevisions: true,
    dataBytes: 1000,
    allow: { ...allow, revisions: { role: 'chair' } },
  },
  { pattern: 'weather/:what', logbook: recent, allow },
  { pattern: 'closed/:what', logbook: recent, allow: { ...allow, enter: { role: 'chair' } } },
];
const chat = channelName('race/3/chat');
const weather = channelName('weather/wind');

async function start(channel = chat, options = {}) {
  const all = harness({ tailMessages: 4, ...options }, undefined, { rules });
  const mira = await all.welcomed('mira', { enter: [{ channel }] });
  const ask = async (client: Client, request: object): Promise<Record<string, Json>> => {
    const id = client.send({ channel, ...request });
    await all.settle();
    return client.reply(id) as Record<string, Json>;
  };
  const say = async (client: Client, data: Json, more: object = {}): Promise<Cursor> =>
    (await ask(client, { do: 'publish', data, ...more })).cursor as Cursor;
  const read = async (more: object = {}, client = mira): Promise<Message[]> =>
    (await ask(client, { do: 'read', ...more })).messages as unknown as Message[];
  return { ...all, mira, ask, say, read };
}

describe.each([
  ['a kept channel', chat],
  ['a recent channel', weather],
])('in %s', (_, channel) => {
  it('a change has a place of its own, and comes to all who are there', async () => {
    const { mira, ask, say, read, welcomed } = await start(channel);
    const pia = await welcomed('pia', { enter: [{ channel }] });
    const first = await say(mira, 'Petrel leads');
    await say(mira, 'Knot follows');
    const revised = await ask(mira, { do: 'revise', cursor: first, data: 'Knot leads' });
    const stands = { cursor: first, data: 'Knot leads', revision: revised.cursor, revisedBy: { user: 'mira' } };
    for (const each of [mira, pia])
      expect(each.pushes('change')).toMatchObject([{ channel, cursor: revised.cursor, message: stands }]);
    expect(await read()).toMatchObject([stands, { data: 'Knot follows' }]);
    const gone = await ask(mira, { do: 'withdraw', cursor: first, reason: 'wrong race' });
    expect(pia.pushes('change')[1]).toMatchObject({
      cursor: gone.cursor,
      message: { cursor: first, data: null, withdrawn: true, reason: 'wrong race', revision: gone.cursor },
    });
    expect(JSON.stringify(await read())).not.toMatch(/leads/);
    // Places go on behind the changes.
    expect(parseCursor(await say(mira, 'on'))?.number).toBe(5);
  });

  it('a client that comes back gets what was changed behind its cursor, and one that comes late what stands', async () => {
    const { mira, ask, say, welcomed } = await start(channel);
    const [a, b] = [await say(mira, 'a'), await say(mira, 'b')];
    const c = await say(mira, 'c');
    await ask(mira, { do: 'revise', cursor: a, data: 'a1' });
    const { cursor: a2 } = await ask(mira, { do: 'revise', cursor: a, data: 'a2' });
    const { cursor: gone } = await ask(mira, { do: 'withdraw', cursor: c });
    const back = (await welcomed('pia', { enter: [{ channel, after: b }] })).frames[0].entered[0];
    expect(back).toMatchObject({
      cursor: gone,
      messages: [{ cursor: c, data: null, withdrawn: true }],
      changes: [{ cursor: a, data: 'a2', revision: a2 }],
    });
    const late = (await welcomed('jory', { enter: [{ channel, last: 2 }] })).frames[0].entered[0];
    expect(late.messages).toMatchObject([{ cursor: b }, { cursor: c, withdrawn: true }]);
    expect(late.changes).toBeUndefined();
    // Reading on from a cursor, and backwards.
    expect(await ask(mira, { do: 'read', after: c })).toMatchObject({
      messages: [],
      changes: [{ data: 'a2' }, { withdrawn: true }],
      cursor: gone,
      more: false,
    });
    expect(await ask(mira, { do: 'read', limit: 2 })).toMatchObject({ messages: [{ cursor: b }, { cursor: c }] });
  });

  it('refuses what cannot be changed, each with a stable code', async () => {
    const { mira, ask, say, welcomed, clock } = await start(channel);
    const pia = await welcomed('pia', { enter: [{ channel }] });
    const chair = await welcomed('iris!chair', {});
    const cursor = await say(mira, 'first');
    const withdrawn = await say(mira, 'second');
    const { cursor: place } = await ask(mira, { do: 'withdraw', cursor: withdrawn });
    const { volume } = parseCursor(cursor) as { volume: string };
    const cases: readonly [string, Client, object, string][] = [
      ['of another', pia, { cursor }, 'not-allowed'],
      ['withdrawn', mira, { cursor: withdrawn }, 'withdrawn'],
      ['a change', mira, { cursor: place }, 'no-such-message'],
      ['beyond the head', mira, { cursor: `${volume}:99` }, 'no-such-message'],
      ['at the beginning', mira, { cursor: `${volume}:0` }, 'no-such-message'],
      ['of another volume', mira, { cursor: 'other:1' }, 'no-such-message'],
      ['with another id: of another channel', mira, { cursor, message: 'm99' }, 'no-such-message'],
      ['changed meanwhile', mira, { cursor, ifRevision: `${volume}:1` }, 'conflict'],
      ['changed in another volume', mira, { cursor, ifRevision: 'other:1' }, 'conflict'],
      ['no cursor', mira, { cursor: 'nonsense' }, 'bad-cursor'],
    ];
    for (const [what, client, request, code] of cases)
      for (const verb of [{ do: 'revise', data: 'x' }, { do: 'withdraw' }])
        expect(await ask(client, { ...verb, ...request }), what).toMatchObject({ problem: { code } });
    expect(await ask(mira, { do: 'revise', cursor, data: 'x'.repeat(2000) })).toMatchObject(
      channel === chat ? { problem: { code: 'too-large' } } : { cursor: expect.anything() },
    );
    // Its own for ten seconds; others' for who may.
    await clock.run(11_000);
    expect(await ask(mira, { do: 'withdraw', cursor })).toMatchObject({ problem: { code: 'not-allowed' } });
    expect(await ask(chair, { do: 'withdraw', cursor, reason: 'an insult' })).toMatchObject({ id: expect.anything() });
    expect(pia.pushes('change').at(-1).message).toMatchObject({ revisedBy: { user: 'iris' }, reason: 'an insult' });
  });

  it('of two who change it at once with ifRevision, one does; a key makes a change once', async () => {
    const { mira, ask, say, settle, read, welcomed } = await start(channel);
    const pia = await welcomed('pia', { enter: [{ channel }] });
    const cursor = await say(mira, 'first');
    const ids = [1, 2].map((n) => mira.send({ do: 'revise', channel, cursor, data: n, ifRevision: null }));
    await settle();
    expect(ids.map((id) => mira.reply(id).problem?.code)).toEqual([undefined, 'conflict']);
    const twice = { do: 'revise', cursor, data: 3, key: 'k' };
    const once = await ask(mira, twice);
    expect(await ask(mira, twice)).toMatchObject({ id: once.id, cursor: once.cursor, repeated: true });
    // Not the key of a message.
    expect(await ask(mira, { do: 'publish', data: 'next', key: 'k' })).not.toHaveProperty('repeated');
    const gone = { do: 'withdraw', cursor, key: 'l' };
    const { cursor: place } = await ask(mira, gone);
    expect(await ask(mira, gone)).toMatchObject({ cursor: place, repeated: true });
    expect(pia.pushes('change')).toHaveLength(3);
    expect(await read({ limit: 2 })).toMatchObject([{ withdrawn: true }, { data: 'next' }]);
  });
});

describe('access to changes', () => {
  it('tells no user of messages that it may not read', async () => {
    const closed = channelName('closed/door');
    const all = await start(closed);
    const chair = await all.welcomed('iris!chair', {});
    const cursor = await all.say(chair, 'secret');
    for (const each of [cursor, cursor.replace(/\d+$/, '99')])
      expect(await all.ask(all.mira, { do: 'withdraw', channel: closed, cursor: each })).toMatchObject({
        problem: { code: 'not-allowed' },
      });
  });

  it.each([
    ['always', 12_000, true],
    ['within 10s', 9_000, true],
    ['within 10s', 11_000, false],
  ])('a token may bring the condition: %s, after %d ms: %s', async (author, ageMs, may) => {
    const grants = readGrants([{ pattern: 'race/:race/chat', allow: { withdraw: { author } } }] as never);
    const all = harness({}, undefined, {
      rules: [{ pattern: 'race/:race/chat', logbook: recent, allow: { ...allow, withdraw: 'token-allows' } }],
      ports: { tokens: { read: async (user) => ({ user, guest: false, roles: [], claims: {}, grants }) } },
    });
    const pia = await all.welcomed('pia', { enter: [{ channel: chat }] });
    const id = pia.send({ do: 'publish', channel: chat, data: 1 });
    await all.settle();
    const { cursor } = pia.reply(id) as unknown as { cursor: string };
    await all.clock.run(ageMs);
    const gone = pia.send({ do: 'withdraw', channel: chat, cursor });
    await all.settle();
    expect(pia.reply(gone).problem === undefined).toBe(may);
  });

  it('a silence forbids to revise and to give a reason, and lets take back', async () => {
    const { mira, ask, say, engine, settle } = await start();
    const cursor = await say(mira, 'first');
    await engine.moderation.silence({ user: 'mira', channel: chat }, { kind: 'operator', id: 'iris' } as never);
    await settle();
    for (const each of [
      { do: 'revise', data: 1 },
      { do: 'withdraw', reason: 'Knot cheats' },
    ])
      expect(await ask(mira, { cursor, ...each })).toMatchObject({ problem: { code: 'silenced' } });
    expect(await ask(mira, { do: 'withdraw', cursor })).toHaveProperty('cursor');
  });
});

describe('what a message held before', () => {
  it('is kept where the rule says so, for those who may read it, and goes when it is withdrawn', async () => {
    const { mira, ask, say, welcomed } = await start();
    const chair = await welcomed('iris!chair', {});
    const cursor = await say(mira, 'one');
    const { cursor: second } = await ask(mira, { do: 'revise', cursor, data: 'two' });
    await ask(mira, { do: 'revise', cursor, data: 'three' });
    const { revisions } = await ask(chair, { do: 'revisions', cursor });
    expect(revisions).toMatchObject([{ data: 'one' }, { data: 'two', revision: second, by: { user: 'mira' } }]);
    const page = await ask(chair, { do: 'revisions', cursor, limit: 1 });
    const rest = await ask(chair, { do: 'revisions', cursor, after: page.next });
    expect([page.revisions, rest.revisions].flat()).toEqual(revisions);
    expect(rest.next).toBeUndefined();
    expect(await ask(mira, { do: 'revisions', cursor })).toMatchObject({ problem: { code: 'not-allowed' } });
    await ask(mira, { do: 'withdraw', cursor });
    expect(await ask(chair, { do: 'revisions', cursor })).toMatchObject({ revisions: [] });
  });
});

describe('filters and changes', () => {
  it('tell of a message that fits no more without what it holds, and nothing where type or author do not fit', async () => {
    const { mira, ask, say, welcomed } = await start();
    const filters: readonly (readonly [object, unknown[]])[] = [
      [
        { where: { '/boat': 'petrel' } },
        [
          { unfit: true, data: null },
          { withdrawn: true, data: null },
        ],
      ],
      [{ where: { '/boat': 'knot' } }, [{ data: { boat: 'knot' } }, { withdrawn: true }]],
      [{ by: ['jory'] }, []],
      [{ types: ['message'] }, [{ data: { boat: 'knot' } }, { withdrawn: true }]],
    ];
    const cursor = await say(mira, { boat: 'petrel' });
    const there = await Promise.all(
      filters.map(([filter]) => welcomed('pia', { enter: [{ channel: chat, last: 1, filter }] })),
    );
    await ask(mira, { do: 'revise', cursor, data: { boat: 'knot' } });
    const back = await Promise.all(
      filters.map(([filter]) => welcomed('pia', { enter: [{ channel: chat, after: cursor, filter }] })),
    );
    await ask(mira, { do: 'withdraw', cursor });
    for (const [index, [filter, told]] of filters.entries()) {
      const pushed = there[index]?.pushes('change').map(({ message }) => message);
      expect(pushed, JSON.stringify(filter)).toMatchObject(told);
      if (told.length > 0) expect(back[index]?.frames[0].entered[0].changes).toMatchObject([told[0]]);
      else expect(back[index]?.frames[0].entered[0].changes).toBeUndefined();
    }
  });
});

/** How a client sees a channel that it knows from the beginning, as the protocol says to read what comes. */
class View {
  readonly messages = new Map<string, Message>();
  readonly changesSeen: string[] = [];
  cursor: Cursor | undefined;

  take(frames: unknown[]): void {
    for (const frame of frames.splice(0)) {
      const all = frame as never as {
        on?: string;
        cursor: Cursor;
        message?: Message;
        entered?: { cursor: Cursor; messages: Message[]; changes?: Message[] }[];
      };
      if (all.on === 'message') {
        const { on: _, ...message } = all as never as Message & { on: string };
        this.#message(message);
      } else if (all.on === 'change') {
        this.#change(all.message as Message);
        this.cursor = all.cursor;
      }
      for (const { cursor, messages, changes = [] } of all.entered ?? []) {
        for (const each of messages) this.#message(each);
        for (const each of changes) this.#change(each);
        this.cursor = cursor;
      }
    }
  }

  #message(message: Message): void {
    expect(this.messages.has(message.cursor)).toBe(false);
    this.messages.set(message.cursor, message);
    this.cursor = message.cursor;
  }

  #change(message: Message): void {
    const known = this.messages.get(message.cursor);
    // Nothing withdrawn is delivered afterwards, and nothing is changed twice.
    if (known?.revision === message.revision) return;
    expect(known?.withdrawn).toBeUndefined();
    expect(this.changesSeen).not.toContain(message.revision);
    this.changesSeen.push(message.revision as string);
    this.messages.set(message.cursor, message);
  }
}

describe('all who are connected agree how each message stands', () => {
  const act = fc.oneof(
    { weight: 4, arbitrary: fc.record({ do: fc.constant('publish' as const), data: fc.nat(99) }) },
    {
      weight: 4,
      arbitrary: fc.record({
        do: fc.constantFrom('revise' as const, 'revise' as const, 'withdraw' as const),
        of: fc.nat(20),
        data: fc.nat(99),
      }),
    },
    { weight: 3, arbitrary: fc.record({ do: fc.constantFrom('leave' as const, 'come' as const), who: fc.nat(2) }) },
  );

  it.each([
    [chat, 3],
    [weather, 3],
    [chat, 64],
    [weather, 64],
  ])('%s with a window of %i messages', async (channel, tailMessages) => {
    await fc.assert(
      fc.asyncProperty(fc.array(act, { minLength: 10, maxLength: 60 }), async (acts) => {
        const all = await start(channel, { tailMessages });
        const views = [new View(), new View(), new View()];
        const clients: (Client | undefined)[] = [undefined, undefined, undefined];
        const places: Cursor[] = [];
        const come = async (who: number): Promise<void> => {
          const view = views[who] as View;
          const wish = view.cursor === undefined ? { last: 1000 } : { after: view.cursor };
          clients[who] ??= await all.welcomed('pia', { enter: [{ channel, ...wish }] });
        };
        const look = (): void => {
          for (const [who, each] of clients.entries()) if (each) views[who]?.take(each.frames);
        };
        for (const who of [0, 1, 2]) await come(who);
        for (const each of acts) {
          if (each.do === 'publish') places.push(await all.say(all.mira, each.data));
          else if (each.do === 'come') await come(each.who);
          else if (each.do === 'leave') {
            clients[each.who]?.close(1000, '');
            clients[each.who] = undefined;
          } else if ('of' in each && places.length > 0) {
            const cursor = places[each.of % places.length];
            await all.ask(all.mira, each.do === 'revise' ? { ...each, cursor } : { do: each.do, cursor });
          }
          look();
        }
        for (const who of [0, 1, 2]) await come(who);
        look();
        const record = await all.read({ limit: 1000 });
        for (const view of views) expect([...view.messages.values()]).toEqual(record);
        const late = new View();
        late.take((await all.welcomed('jory', { enter: [{ channel, last: 1000 }] })).frames);
        expect([...late.messages.values()]).toEqual(record);
      }),
      { numRuns: 60 },
    );
  });
});

describe('a client that catches up in several reads', () => {
  const [odd, even, revised] = [{ odd: true }, { odd: false }, { odd: true, n: 1 }];
  const filter = { where: { '/odd': true } };
  const cases: readonly [string, { wish?: object; before?: Json; now?: Json; told?: Json }][] = [
    ['after a cursor', {}],
    ['from the last messages', { wish: { last: 6 } }],
    ['with a filter that still fits', { wish: { filter } }],
    ['with a filter that no longer fits', { wish: { filter }, now: even, told: null }],
    ['with a filter that fits only now', { wish: { filter }, before: even }],
  ];
  it.each(cases)(
    'gets a change made between two of them: %s',
    async (_, { wish = {}, before = odd, now = revised, ...more }) => {
      const all = harness(
        { tailMessages: 1 },
        slowly(['since', 'before'], 50, () => all.clock),
        { rules },
      );
      const { clock, engine, welcomed } = all;
      const publish = async (data: Json): Promise<Cursor> => {
        const published = engine.messages.publish({ channel: chat, data, by: { user: 'mira' } });
        await clock.run(0);
        return (await published).cursor;
      };
      const [first, second] = [await publish(odd), await publish(before)];
      for (let n = 0; n < 5; n++) await publish(odd);
      const [mira, pia] = [await welcomed('mira'), await welcomed('pia')];
      // The change is made 50 ms from now, between the first read for the client and its answer.
      mira.send({ do: 'revise', channel: chat, cursor: second, data: now });
      await clock.run(30);
      const asked = pia.send({ do: 'enter', channel: chat, ...('last' in wish ? {} : { after: first }), ...wish });
      await clock.run(500);
      let reply = pia.reply(asked) as unknown as Entered;
      const shown: Pick<Message, 'cursor' | 'data'>[] = [...reply.messages];
      while (reply.more) {
        const again = pia.send({ do: 'enter', channel: chat, ...wish, last: undefined, after: reply.cursor });
        await clock.run(500);
        reply = pia.reply(again) as unknown as Entered;
        shown.push(...((reply.changes ?? []) as Message[]), ...reply.messages);
      }
      const told = shown.filter(({ cursor }) => cursor === second).at(-1);
      expect(told).toBeDefined();
      expect(told?.data).toEqual('told' in more ? more.told : now);
    },
  );
});

it('a change that an instance reads together with its message reaches a client that reconnects', async () => {
  const { engine, restarted, welcomed, settle } = harness({}, undefined, { rules });
  const [publish, other] = [(data: Json) => engine.messages.publish({ channel: chat, data }), restarted()];
  await Promise.all([publish('first'), settle()]);
  const ines = await welcomed('ines', { enter: [{ channel: chat }] }, other);
  const [{ cursor }] = await Promise.all([publish('Petrel wins'), settle()]);
  const place = parseCursor(cursor) as Place;
  await Promise.all([engine.messages.change({ channel: chat, place, data: 'Knot wins' }), settle()]);
  // Behind it, the other instance reads what it has not heard of.
  await Promise.all([other.messages.publish({ channel: chat, data: 'next' }), settle()]);
  expect(ines.data).toEqual(['Knot wins', 'next']);
  const back = await welcomed('jory', { enter: [{ channel: chat, after: cursor }] }, other);
  expect(back.frames[0].entered[0].changes).toMatchObject([{ cursor, data: 'Knot wins' }]);
});
