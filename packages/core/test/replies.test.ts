import { channelName } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { type ChannelRule, carriedLine, LoggedMessage, readCarriedLine } from '../src/index.js';
import { type Client, harness } from './harness.js';

const chat = channelName('race/3/chat');
const allow = { enter: 'anyone', publish: 'anyone', revise: 'anyone', withdraw: 'anyone' } as const;
const rules: readonly ChannelRule[] = [
  { pattern: 'race/:race/chat', logbook: { type: 'kept' }, hasReplies: true, allow },
  { pattern: 'plain', logbook: { type: 'kept' }, allow },
];
const setUp = (options: object = {}) => harness({ pulseMs: 3_600_000, ...options }, undefined, { rules });
type Harness = ReturnType<typeof setUp>;

async function ask({ settle }: Harness, client: Client, request: object) {
  const id = client.send(request);
  await settle();
  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  return client.reply(id) as any;
}
const say = async (all: Harness, client: Client, text: string, more: object = {}): Promise<string> =>
  (await ask(all, client, { do: 'publish', channel: chat, data: { text }, ...more })).cursor;

describe('a reply', () => {
  // From what is held ready, and from the record.
  it.each([{ tailMessages: 256 }, { tailMessages: 0 }])(
    'comes with what it answers, and its thread is counted, for all who see it: %o',
    async (options) => {
      const all = setUp(options);
      const [mira, pia] = [await all.welcomed('mira'), await all.welcomed('pia')];
      await ask(all, pia, { do: 'enter', channel: chat });
      const root = await say(all, mira, `Petrel leads ${'by a length '.repeat(20)}`);
      const first = await say(all, pia, 'I saw it', { replyTo: root });
      const second = await say(all, mira, 'So did I', { replyTo: first });
      const [, one, two] = pia.pushes('message');
      expect(one).toMatchObject({ replyTo: root, thread: root, answers: { by: { user: 'mira' } } });
      expect(one.answers.text).toMatch(/^Petrel leads (by a length ?)+ by…$|^Petrel leads .{80,108}…$/);
      expect(two).toMatchObject({ replyTo: first, thread: root, answers: { by: { user: 'pia' }, text: 'I saw it' } });
      const late = async () =>
        (await all.welcomed('ines', { enter: [{ channel: chat, last: 10 }] })).frames[0].entered[0].messages;
      expect((await late())[0]).toMatchObject({ cursor: root, replies: { count: 2, at: two.at } });
      // What it answers is revised, then withdrawn: late comers see how it stands.
      await ask(all, pia, { do: 'revise', channel: chat, cursor: first, data: { text: 'I have seen it' } });
      expect((await late())[2].answers).toMatchObject({ text: 'I have seen it' });
      await ask(all, pia, { do: 'withdraw', channel: chat, cursor: first });
      const [begun, gone, answering] = await late();
      expect(answering.answers).toEqual({ by: { user: 'pia', name: 'PIA' }, withdrawn: true });
      expect(JSON.stringify([begun, gone, answering])).not.toContain('seen');
      expect([begun.replies.count, gone]).toEqual([1, expect.objectContaining({ withdrawn: true, thread: root })]);
      const change = pia.pushes('change').at(-1);
      expect(change.message).toMatchObject({ cursor: first, replyTo: root, thread: root, withdrawn: true });
      expect(await ask(all, mira, { do: 'read', channel: chat, after: root })).toMatchObject({
        messages: [{ cursor: first }, { cursor: second, answers: { withdrawn: true } }],
      });
    },
  );

  it('is entered and read with its thread, like a channel of its own', async () => {
    const all = setUp();
    const [mira, pia] = [await all.welcomed('mira'), await all.welcomed('pia')];
    const [root, other] = [await say(all, mira, 'Petrel leads'), await say(all, mira, 'The wind turns')];
    const filter = { thread: root };
    await ask(all, pia, { do: 'enter', channel: chat, last: 10, filter });
    const first = await say(all, mira, 'By a length', { replyTo: root });
    await say(all, mira, 'To the north', { replyTo: other });
    await say(all, mira, 'Now by two', { replyTo: first });
    expect(pia.data).toEqual([{ text: 'By a length' }, { text: 'Now by two' }]);
    const texts = ({ messages }: { messages: { data: { text: string } }[] }) => messages.map(({ data }) => data.text);
    const thread = ['Petrel leads', 'By a length', 'Now by two'];
    expect(texts(await ask(all, mira, { do: 'read', channel: chat, filter }))).toEqual(thread);
    const late = await all.welcomed('ines', { enter: [{ channel: chat, last: 10, filter }] });
    expect(texts(late.frames[0].entered[0])).toEqual(thread);
    await ask(all, mira, { do: 'withdraw', channel: chat, cursor: first });
    expect(pia.pushes('change')).toMatchObject([{ message: { cursor: first, withdrawn: true } }]);
  });

  it('is unread for those who take part in its thread, apart from the channel', async () => {
    const all = setUp();
    const [mira, pia, ines] = [await all.welcomed('mira'), await all.welcomed('pia'), await all.welcomed('ines')];
    const root = await say(all, mira, 'Petrel leads');
    const threads = async (client: Client) =>
      (await ask(all, client, { do: 'threads' })).threads.map(
        ({ unread, count }: { unread: number; count: number }) => [unread, count],
      );
    expect(await threads(mira)).toEqual([]);
    await say(all, pia, 'By a length', { replyTo: root });
    const last = await say(all, ines, 'By two', { replyTo: root });
    expect([await threads(mira), await threads(pia), await threads(ines)]).toEqual([[[2, 2]], [[1, 2]], [[0, 2]]]);
    const marked = { do: 'mark', channel: chat, thread: root, cursor: last };
    expect(await ask(all, mira, marked)).toMatchObject({ channel: chat, cursor: last, unread: 0 });
    expect(await threads(mira)).toEqual([[0, 2]]);
    await ask(all, ines, { do: 'withdraw', channel: chat, cursor: last });
    expect(await threads(pia)).toEqual([[0, 1]]);
    // A user may follow a thread without a word, and stop taking part.
    const jory = await all.welcomed('jory');
    expect(await ask(all, jory, { ...marked, cursor: root })).toMatchObject({ unread: 1 });
    expect(await ask(all, mira, { ...marked, cursor: null })).toMatchObject({ unread: 0 });
    expect([await threads(jory), await threads(mira)]).toEqual([[[1, 1]], []]);
    for (const [request, code] of [
      [{ ...marked, channel: 'plain' }, 'bad-value'],
      [{ ...marked, thread: root.replace(/\d+$/, '99') }, 'bad-cursor'],
    ] as const)
      expect((await ask(all, pia, request)).problem?.code).toBe(code);
  });

  it('is told live to those who take part in its thread and want to be told, a second apart', async () => {
    const all = setUp();
    const [mira, pia, ines] = [await all.welcomed('mira'), await all.welcomed('pia'), await all.welcomed('ines')];
    const root = await say(all, mira, 'Petrel leads');
    const first = await say(all, pia, 'By a length', { replyTo: root });
    expect((await ask(all, mira, { do: 'threads', follow: true })).threads).toMatchObject([{ unread: 1 }]);
    for (const client of [pia, ines]) await ask(all, client, { do: 'threads', follow: true });
    const told = (client: Client) =>
      client
        .pushes('threads')
        .map(({ threads, left }) => [
          ...threads.map(({ unread, count }: { unread: number; count: number }) => `${unread} of ${count}`),
          ...left.map(() => 'left'),
        ]);
    for (const n of [1, 2, 3]) await say(all, pia, `By ${n}`, { replyTo: root });
    await all.clock.run(1_000);
    // Three replies within a second are one push; Ines takes no part.
    expect([told(mira), told(pia), told(ines)]).toEqual([[['4 of 4']], [['0 of 4']], []]);
    await ask(all, pia, { do: 'withdraw', channel: chat, cursor: first });
    await all.clock.run(2_000);
    expect(told(mira).at(-1)).toEqual(['3 of 3']);
    await ask(all, mira, { do: 'mark', channel: chat, thread: root, cursor: root.replace(/\d+$/, '3') });
    await all.clock.run(2_000);
    expect(told(mira).at(-1)).toEqual(['2 of 3']);
    await ask(all, mira, { do: 'block', user: 'pia' });
    await all.clock.run(2_000);
    expect(told(mira).at(-1)).toEqual(['0 of 3']);
    await ask(all, mira, { do: 'mark', channel: chat, thread: root, cursor: null });
    await all.clock.run(2_000);
    expect(told(mira).at(-1)).toEqual(['left']);
    const before = told(mira).length;
    await say(all, pia, 'By four', { replyTo: root });
    await all.clock.run(2_000);
    expect(told(mira)).toHaveLength(before);
    expect(told(ines)).toEqual([]);
  });

  it.each([
    ['in a channel without', 'plain', (_: string) => 'v1:1', 'bad-value'],
    ['to nothing', chat, (root: string) => root.replace(/\d+$/, '99'), 'no-such-message'],
    ['to another volume', chat, (root: string) => root.replace(/^[^:]+/, 'other'), 'no-such-message'],
    ['to what is no cursor', chat, (_: string) => 'first', 'bad-cursor'],
  ])('is refused %s', async (_, channel, to, code) => {
    const all = setUp();
    const pia = await all.welcomed('pia');
    const root = await say(all, pia, 'first');
    const { problem } = await ask(all, pia, { do: 'publish', channel, data: 1, replyTo: to(root) });
    expect([problem?.code, problem?.where]).toEqual([code, '/replyTo']);
  });

  it('is refused to what was withdrawn, and known by its key if it was published before', async () => {
    const all = setUp();
    const pia = await all.welcomed('pia');
    const root = await say(all, pia, 'first');
    const reply = { do: 'publish', channel: chat, data: 1, replyTo: root, key: 'k' };
    const { cursor } = await ask(all, pia, reply);
    await ask(all, pia, { do: 'withdraw', channel: chat, cursor: root });
    expect(await ask(all, pia, reply)).toMatchObject({ cursor, repeated: true });
    expect(await ask(all, pia, { ...reply, key: 'other' })).toMatchObject({
      problem: { code: 'withdrawn', where: '/replyTo' },
    });
  });

  it('keeps the order of what its author publishes behind it', async () => {
    const all = setUp();
    const [mira, pia] = [await all.welcomed('mira'), await all.welcomed('pia')];
    await ask(all, pia, { do: 'enter', channel: chat });
    const root = await say(all, mira, 'first');
    for (const n of [1, 2, 3, 4])
      mira.send({ do: 'publish', channel: chat, data: n, ...(n % 2 === 1 ? { replyTo: root } : {}) });
    await all.settle();
    expect(pia.data.slice(1)).toEqual([1, 2, 3, 4]);
  });

  it('is passed over by an instance that does not know its mark, instead of being cut into a frame', () => {
    const place = { volume: 'v1', number: 7 };
    for (const line of ['5\t\t?9 "id":"m7","data":1}', '5\t\t~3 ?9 "id":"m7","data":1}']) {
      const { isVoid, isMessage } = readCarriedLine(chat, place, line);
      expect([isVoid, isMessage]).toEqual([true, false]);
    }
  });

  it('is carried between instances with what stands beside it', () => {
    const place = { volume: 'v1', number: 7 };
    const parts = { atMs: 5, except: ['s1'], tail: '"id":"m7","data":"~9 ^1,2 x"}' };
    const reply = { to: 5, thread: 3 };
    const replies = { count: 2, atMs: 9, number: 8 };
    for (const more of [
      {},
      { reply },
      { reply, answers: '{"text":"a b"}' },
      { replies },
      { reply, revision: 9, answers: '{}', replies },
      { of: 5, reply },
    ]) {
      const logged = new LoggedMessage(chat, place, { ...parts, ...more });
      const carried = readCarriedLine(chat, place, carriedLine(logged));
      expect([carried.text, carried.shown, carried.reply, carried.except]).toEqual([
        logged.text,
        logged.shown,
        logged.reply,
        logged.except,
      ]);
    }
  });
});
