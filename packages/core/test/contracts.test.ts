import { channelName, type DataFault, type Json } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { VirtualClock } from '../simulator/virtualClock.js';
import { type ChannelRule, type Contract, channelRule, defaultBoard } from '../src/index.js';
import { type Client, harness } from './harness.js';

const chat = channelName('race/3/chat');

/** Data with a text of at most so many characters. */
function withText(maxChars: number, more: Partial<Contract> = {}): Contract {
  const faults = (data: Json): readonly DataFault[] => {
    const text = (data as { text?: Json } | null)?.text;
    if (typeof text !== 'string') return [{ where: '/text', expected: 'text', found: 'nothing' }];
    return text.length > maxChars ? [{ where: '/text', expected: `at most ${maxChars} characters` }] : [];
  };
  return { fits: (data) => faults(data).length === 0, faults, ...more };
}

/** Time that passes while something is being worked out. */
class BusyClock extends VirtualClock {
  spentMs = 0;

  override monotonic(): number {
    return super.monotonic() + this.spentMs;
  }
}

const rule: ChannelRule = channelRule({
  pattern: 'race/:race/chat',
  logbook: { type: 'kept' },
  allow: { enter: 'anyone', publish: 'anyone', hail: 'anyone', set: 'anyone' },
  presence: { graceMs: 1_000, crowd: 100 },
  types: {
    message: withText(10, { from: 'clients' }),
    recall: { from: 'applications' },
    position: withText(100),
  },
  hails: { typing: withText(5) },
  status: withText(8),
  board: { ...defaultBoard, types: { position: { entry: '/boat' } }, contract: withText(6, { from: 'clients' }) },
});

async function start(more: Partial<ChannelRule> = {}, notices?: Contract) {
  const all = harness(notices === undefined ? {} : { notices }, undefined, { rules: [{ ...rule, ...more }] });
  const pia = await all.welcomed('pia', { enter: [{ channel: chat }] });
  const listener = await all.welcomed('mira', { enter: [{ channel: chat }] });
  const ask = async (request: object, by: Client = pia) => {
    const id = by.send({ channel: chat, ...request });
    await all.settle();
    return by.reply(id) as unknown as {
      problem?: { code: string; where?: string; detail?: string; faults?: object[] };
    };
  };
  return { ...all, pia, listener, ask };
}

describe('contracts', () => {
  const fine = { text: 'short' };
  const set = { do: 'set', entry: 'petrel' };
  const cases: readonly [string, object, string | undefined, string?][] = [
    ['a message that fits', { do: 'publish', data: fine }, undefined],
    ['a message whose data does not fit', { do: 'publish', data: { text: 'much too long' } }, 'bad-data', '/data/text'],
    ['a message of a type that is not named', { do: 'publish', type: 'mesage', data: fine }, 'no-such-type', '/type'],
    ['a message that only applications publish', { do: 'publish', type: 'recall', data: 1 }, 'not-allowed', '/type'],
    ['a hail that fits', { do: 'hail', type: 'typing', data: { text: 'a' } }, undefined],
    ['a hail that does not', { do: 'hail', type: 'typing', data: { text: 'too long' } }, 'bad-data', '/data/text'],
    ['a hail without data', { do: 'hail', type: 'typing' }, 'bad-data', '/data/text'],
    ['a hail of a type that is not named', { do: 'hail', type: 'wave' }, 'no-such-type', '/type'],
    ['an entry that fits', { ...set, value: fine }, undefined],
    ['an entry that does not', { ...set, value: { text: 'too long' } }, 'bad-data', '/value/text'],
    ['the removal of an entry', { ...set, value: null }, undefined],
    [
      'a message that becomes an entry, and fits as both',
      { do: 'publish', type: 'position', data: { boat: 'knot', text: 'short' } },
      undefined,
    ],
    [
      'a message that becomes an entry, and does not fit as one',
      { do: 'publish', type: 'position', data: { boat: 'knot', text: 'too long' } },
      'bad-data',
      '/data/text',
    ],
    ['a status that fits', { do: 'status', status: { text: 'busy' } }, undefined],
    ['a status that does not', { do: 'status', status: 'busy' }, 'bad-data', '/status/text'],
    [
      'a status everywhere that one channel does not take',
      { do: 'status', channel: undefined, status: 'away' },
      'bad-data',
    ],
    ['a status on entering that does not fit', { do: 'enter', status: 'busy' }, 'bad-data', '/status/text'],
  ];
  it.each(cases)('of %s', async (_, request, code, where) => {
    const { ask, engine } = await start();
    const { problem } = await ask(request);
    expect(problem?.code).toBe(code);
    if (where !== undefined) expect(problem?.where).toBe(where);
    if (code === 'bad-data') expect(problem?.faults?.[0]).toMatchObject({ where: problem?.where });
    expect(engine.counters.misfits.get(rule.pattern)).toEqual(
      code === undefined ? undefined : { refused: 1, reported: 0 },
    );
  });

  it('refuse before a message takes a place, so that the next one is the first', async () => {
    const { ask, listener } = await start();
    await ask({ do: 'publish', data: {} });
    await ask({ do: 'publish', data: fine });
    const [message] = listener.frames.filter(({ on }) => on === 'message');
    expect(message).toMatchObject({ data: fine });
    expect(message.cursor).toMatch(/:1$/);
  });

  it('let types pass that are not named where the rule is open', async () => {
    const { ask } = await start({ open: true });
    expect(await ask({ do: 'publish', type: 'wind', data: 3 })).not.toHaveProperty('problem');
    expect(await ask({ do: 'hail', type: 'wave' })).not.toHaveProperty('problem');
    expect((await ask({ do: 'publish', data: 3 })).problem?.code).toBe('bad-data');
  });

  it('hold for applications too, who are told what only clients publish', async () => {
    const { engine, settle } = await start();
    const publish = async (type: string, data: Json) => {
      const done = engine.messages.publish({ channel: chat, type, data }).catch((error) => error.problem);
      await settle();
      return done;
    };
    expect(await publish('recall', 'anything')).toHaveProperty('cursor');
    expect(await publish('message', fine)).toMatchObject({ code: 'not-allowed', where: '/type' });
    expect(await publish('position', { text: 'no boat' })).toMatchObject({ code: 'bad-value', where: '/data/boat' });
    await expect(engine.boards.set(chat, { entry: 'knot', value: fine })).rejects.toMatchObject({
      problem: { code: 'not-allowed', where: '/value' },
    });
    expect(() => engine.messages.check({ channel: chat, type: 'wind', data: 1 })).toThrow(/no type wind/);
  });

  it('hold for notices of applications, and not for those of the service itself', async () => {
    const { engine } = await start({}, withText(5));
    const wish = { users: ['pia'], title: 'Start in ten minutes' };
    await expect(engine.inboxes.notify({ ...wish, data: { text: 'too long' } })).rejects.toMatchObject({
      problem: { code: 'bad-data', where: '/data/text' },
    });
    await expect(engine.inboxes.notify({ ...wish, isOwn: true, data: {} })).resolves.toMatchObject({ users: 1 });
  });

  it('report what they would refuse, and let it pass, where the rule says so', async () => {
    const told: object[] = [];
    const all = harness({}, undefined, {
      rules: [{ ...rule, reportOnly: true }],
      ports: { refused: (refused) => told.push(refused) },
    });
    const pia = await all.welcomed('pia', { enter: [{ channel: chat }] });
    for (const data of [{}, fine]) pia.send({ do: 'publish', channel: chat, data });
    await all.settle();
    expect(pia.frames.filter(({ on }) => on === 'message')).toHaveLength(2);
    expect(all.engine.counters.misfits.get(rule.pattern)).toEqual({ refused: 0, reported: 1 });
    expect(all.engine.counters.refusals).toBe(0);
    expect(told).toEqual([
      expect.objectContaining({ code: 'bad-data', act: 'publish', reportOnly: true, user: 'pia' }),
    ]);
    expect(all.engine.refusals.all).toEqual([
      expect.objectContaining({ code: 'bad-data', reportOnly: true, count: 1 }),
    ]);
  });

  it('show a member without a status that the channel does not take', async () => {
    const { welcomed, listener, settle, clock } = await start();
    const ines = await welcomed('ines');
    ines.send({ do: 'status', status: 'away' });
    ines.send({ do: 'enter', channel: chat });
    await settle();
    await clock.run(500);
    const joined = listener.frames.flatMap(({ on, joined: all }) => (on === 'members' ? all : []));
    expect(joined.find(({ user }) => user === 'ines')).not.toHaveProperty('status');
  });

  it('list a bounded number of faults, and of large data only the first', async () => {
    const many: Contract = {
      fits: () => false,
      faults: (_, all) =>
        Array.from({ length: all ? 500 : 1 }, (__, index) => ({ where: `/${index}`, expected: 'x'.repeat(9_999) })),
    };
    const { ask } = await start({ types: { message: many } });
    const { problem } = await ask({ do: 'publish', data: 1 });
    expect(problem?.faults).toHaveLength(20);
    expect(JSON.stringify(problem).length).toBeLessThan(8_000);
    expect(problem?.detail).toContain('and 499 more');
    expect((await ask({ do: 'publish', data: 'x'.repeat(32_000) })).problem?.faults).toHaveLength(20);
  });

  it('make a session wait whose data takes long to check, and no other', async () => {
    const clock = new BusyClock();
    // 300 ms for one check, of 400 in 4 s.
    const fits = (data: Json): boolean => {
      clock.spentMs += data === 'slow' ? 300 : 0;
      return true;
    };
    const { engine, connect } = harness({}, undefined, {
      rules: [{ ...rule, types: { message: { fits } } }],
      ports: { clock },
    });
    const [pia, jory] = ['pia', 'jory'].map((token) => {
      const client = connect(engine);
      client.send({ do: 'hello', token });
      return client;
    }) as [Client, Client];
    for (const data of ['slow', 'slow', 'quick']) pia.send({ do: 'publish', channel: chat, data });
    jory.send({ do: 'publish', channel: chat, data: 'quick' });
    await clock.run(0);
    expect(engine.counters.messagesIn).toBe(3);
    expect(jory.frames.at(-1)).toHaveProperty('cursor');
    await clock.run(4_000);
    expect(engine.counters.messagesIn).toBe(4);
  });

  it('are refused at the start for types that are the notes of the service', () => {
    expect(() => harness({}, undefined, { rules: [{ ...rule, types: { joined: {} } }] })).toThrow(/own notes/);
  });
});
