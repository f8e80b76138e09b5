import { refusal } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import type { Call, CallAnswer, CallRule } from '../src/index.js';
import { defaultCall, UnusableAnswer } from '../src/index.js';
import { type Client, harness, rules } from './harness.js';

type Answerer = (call: Call) => CallAnswer | Promise<CallAnswer>;

function service(answer: Answerer, more: Partial<CallRule> = {}) {
  const calls: Call[] = [];
  const call: CallRule = {
    ...defaultCall,
    name: 'declare-turn',
    channel: 'race/:race/chat',
    allow: { role: 'skipper' },
    answerer: 'https://committee.example/turn',
    ...more,
  };
  const found = harness({ calls: [call] }, undefined, {
    rules,
    ports: {
      callAsker: {
        call: async (_rule, _url, asked) => {
          calls.push(asked);
          return answer(asked);
        },
      },
    },
  });
  const ask = async (client: Client, request: object = {}, ms = 100) => {
    const id = client.send({ do: 'call', name: 'declare-turn', channel: 'race/3/chat', ...request });
    await found.clock.run(ms);
    return client.reply(id) as { data?: unknown; problem?: { code: string; detail?: string; refusal?: object } };
  };
  return { ...found, calls, ask, skipper: () => found.welcomed('tomas!skipper') };
}

describe('a call', () => {
  it('is answered by the application, which knows who calls, about what, and under which key', async () => {
    const { calls, ask, skipper } = service(({ data }) => ({ data: { number: 7, data } }));
    const tomas = await skipper();
    expect(await ask(tomas, { data: 'touched the mark', key: 'k1' })).toMatchObject({
      data: { number: 7, data: 'touched the mark' },
    });
    expect(calls).toMatchObject([
      {
        name: 'declare-turn',
        channel: 'race/3/chat',
        parameters: { race: '3' },
        who: { user: 'tomas', roles: ['skipper'] },
        key: 'k1',
        data: 'touched the mark',
      },
    ]);
  });

  it.each([
    ['user', 32, 'tomas!skipper', 'ines!skipper'],
    ['address', 128, undefined, 'ines!skipper'],
  ])('of one %s is made only so often at a time, so that others are answered', async (_, most, user, other) => {
    const { calls, welcomed, settle } = service(() => new Promise(() => {}));
    let refused = 0;
    for (let n = 0; n * 16 < most + 16; n++) {
      const client = await welcomed(user ?? `user${n}!skipper`, {}, undefined, '192.0.2.7');
      const ids = Array.from({ length: 16 }, () =>
        client.send({ do: 'call', name: 'declare-turn', channel: 'race/3/chat' }),
      );
      await settle();
      refused += ids.filter(
        (id) => (client.reply(id) as { problem?: { code: string } })?.problem?.code === 'busy',
      ).length;
    }
    expect([calls.length, refused]).toEqual([most, 16]);
    const ines = await welcomed(other, {}, undefined, '192.0.2.8');
    ines.send({ do: 'call', name: 'declare-turn', channel: 'race/3/chat' });
    await settle();
    expect(calls.length).toBe(most + 1);
  });

  it('is refused in the words of the application, which are never ours', async () => {
    const { ask, skipper } = service(() => ({ refuse: { code: 'not-allowed', text: 'The race is over' } }));
    expect((await ask(await skipper())).problem).toMatchObject({
      code: 'call-refused',
      detail: 'The race is over',
      refusal: { code: 'not-allowed', text: 'The race is over' },
    });
  });

  it('publishes what comes with the answer before the reply, in order', async () => {
    const publish: CallAnswer['publish'] = [
      { message: { channel: 'race/3/chat' as never, data: 'one' } },
      { hail: { channel: 'race/3/chat' as never, type: 'bell' } },
      { notice: { users: ['ines'], title: 'A turn' } },
    ];
    const { ask, skipper, engine } = service(() => ({ data: 1, publish }));
    const tomas = await skipper();
    tomas.send({ do: 'enter', channel: 'race/3/chat' });
    await ask(tomas);
    const shown = tomas.frames.map((frame) => frame.on ?? (frame.data === 1 ? 'reply' : '')).filter(Boolean);
    expect(shown).toEqual(['message', 'reply']);
    expect((await engine.inboxes.read('ines', undefined, 9)).notices).toHaveLength(1);
  });

  it('gets the first answer when it comes again with its key, also while the first is under way', async () => {
    let number = 0;
    const { calls, ask, skipper, clock } = service(async () => {
      number += 1;
      await new Promise<void>((resolve) => void clock.setTimer(200, resolve));
      return { data: number, publish: [{ message: { channel: 'race/3/chat' as never, data: number } }] };
    });
    const tomas = await skipper();
    const id = tomas.send({ do: 'call', name: 'declare-turn', channel: 'race/3/chat', key: 'k' });
    expect(await ask(tomas, { key: 'k', again: true }, 1_000)).toMatchObject({ data: 1 });
    expect(tomas.reply(id)).toMatchObject({ data: 1 });
    expect(await ask(tomas, { key: 'k' })).toMatchObject({ data: 1 });
    expect(await ask(tomas, { key: 'other' }, 1_000)).toMatchObject({ data: 2 });
    expect(calls).toHaveLength(2);
  });

  it.each([
    ['of another user', ['ann', 'lee k1', '3'], ['ann lee', 'k1', '3']],
    ['about another channel', ['ann', 'k1', '3'], ['ann', 'k1', '4']],
    ['with another long key', ['ann', `1${'x'.repeat(127)}`, '3'], ['ann', `2${'x'.repeat(127)}`, '3']],
  ])('is not taken for one %s', async (_, ...made) => {
    const { ask, welcomed, memory } = service(({ data, channel = '' }) => ({
      data,
      publish: [{ message: { channel: channel as never, data } }],
    }));
    for (const [n, [user, key, race]] of made.entries()) {
      const channel = `race/${race}/chat`;
      const client = await welcomed(`${user}!skipper`);
      expect(await ask(client, { channel, key, data: n })).toMatchObject({ data: n });
      const { messages } = await memory.before(channel as never, undefined, { messages: 1, bytes: 1_000 });
      expect(messages.map(({ message: { data } }) => data)).toEqual([n]);
    }
  });

  it('does not hold up what the client does meanwhile', async () => {
    const { ask, skipper } = service(() => new Promise(() => {}));
    const tomas = await skipper();
    void ask(tomas);
    const id = tomas.send({ do: 'publish', channel: 'race/3/chat', data: 'meanwhile' });
    await ask(tomas);
    expect(tomas.reply(id)).toMatchObject({ cursor: expect.any(String) });
  });

  it.each<[string, Answerer]>([
    ['does not answer in time', () => new Promise(() => {})],
    ['cannot be reached', () => Promise.reject(new Error('connection refused'))],
    ['answers with too much', () => ({ data: 'x'.repeat(70_000) })],
    [
      'publishes where it may not',
      () => ({ data: 1, publish: [{ message: { channel: 'regatta/notices' as never, data: 1 } }] }),
    ],
    [
      'publishes under an odd name',
      () => ({ data: 1, publish: [{ message: { channel: 'race/3/chat' as never, data: 1, type: 'ö' } }] }),
    ],
  ])('fails when the application %s, and publishes nothing', async (_, answer) => {
    const { ask, skipper, engine, reports } = service(answer);
    expect((await ask(await skipper(), {}, 10_000)).problem?.code).toBe('call-failed');
    const read = (channel: string) => engine.messages.read(channel as never, {}, { messages: 9, bytes: 1e6 });
    expect([...(await read('race/3/chat')).messages, ...(await read('regatta/notices')).messages]).toEqual([]);
    expect(reports.length).toBeGreaterThan(0);
  });

  it('is not asked of an application that is down, for a while', async () => {
    const { calls, ask, skipper, clock } = service(() => Promise.reject(new Error('connection refused')));
    const tomas = await skipper();
    for (let n = 0; n < 8; n++) await ask(tomas);
    expect(calls).toHaveLength(5);
    await clock.run(6_000);
    await ask(tomas);
    expect(calls).toHaveLength(6);
  });

  it.each<[string, string, object, string]>([
    ['no such call', 'tomas!skipper', { name: 'none' }, 'no-such-call'],
    ['a user without the role', 'pia', {}, 'not-allowed'],
    ['no channel', 'tomas!skipper', { channel: undefined }, 'bad-value'],
    ['another channel', 'tomas!skipper', { channel: 'regatta/notices' }, 'bad-value'],
    ['too much data', 'tomas!skipper', { data: 'x'.repeat(20_000) }, 'too-large'],
    ['an odd name', 'tomas!skipper', { name: '' }, 'bad-value'],
  ])('is refused for %s', async (_, token, request, code) => {
    const { ask, welcomed, calls } = service(() => ({ data: 1 }));
    expect((await ask(await welcomed(token), request)).problem?.code).toBe(code);
    expect(calls).toEqual([]);
  });

  it('is asked of an application that fails on the data of one user', async () => {
    const { calls, ask, skipper, welcomed } = service(({ who }) => {
      if (who.user === 'tomas') throw new UnusableAnswer('it answered with status 500');
      return { data: 1 };
    });
    const [tomas, pia] = [await skipper(), await welcomed('pia!skipper')];
    for (let n = 0; n < 8; n++) expect((await ask(tomas)).problem?.code).toBe('call-failed');
    expect([await ask(pia), calls.length]).toMatchObject([{ data: 1 }, 9]);
  });

  it('is refused to a banned user, and above its rate', async () => {
    const { ask, skipper, welcomed, engine, calls } = service(() => ({ data: 1 }), {
      rate: { count: 2, perMs: 60_000 },
    });
    const tomas = await skipper();
    await ask(tomas);
    await ask(tomas);
    expect((await ask(tomas)).problem?.code).toBe('rate-limited');
    await engine.moderation.ban({ user: 'ines', channel: 'race/3/chat' as never }, { kind: 'key', id: 'k' });
    expect((await ask(await welcomed('ines!skipper'))).problem?.code).toBe('banned');
    expect(calls).toHaveLength(2);
  });

  it('takes no more than sixteen of a session at a time', async () => {
    const { ask, skipper, calls } = service(() => new Promise(() => {}), { rate: { count: 100, perMs: 1_000 } });
    const tomas = await skipper();
    for (let n = 0; n < 16; n++) void tomas.send({ do: 'call', name: 'declare-turn', channel: 'race/3/chat' });
    expect((await ask(tomas)).problem?.code).toBe('busy');
    expect(calls).toHaveLength(16);
  });

  it('says who may, and on which facts', async () => {
    const { engine } = service(() => ({}));
    const who = { user: 'pia', guest: false, roles: [], claims: {} };
    const explained = await engine.calls.explain('declare-turn', 'race/3/chat' as never, { who });
    expect(explained).toMatchObject({ act: 'call', call: 'declare-turn', allowed: false });
    expect(() => engine.calls.explain('none', undefined, { who })).toThrow(refusal('no-such-call').problem.title);
  });

  it('is answered by a function in code', async () => {
    const answerer = ({ who }: Call): CallAnswer => ({ data: `hello ${who.user}` });
    const { ask, skipper, calls } = service(() => ({}), { answerer });
    expect(await ask(await skipper())).toMatchObject({ data: 'hello tomas' });
    expect(calls).toEqual([]);
  });
});
