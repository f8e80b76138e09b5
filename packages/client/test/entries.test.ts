import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { Typing } from '../src/index.js';
import { connected, FakeSocket, message, socket } from './fakeSocket.js';

beforeEach(() => void vi.useFakeTimers());
afterEach(() => {
  vi.useRealTimers();
  FakeSocket.all.length = 0;
});

const chat = 'race/3/chat';
const live = (upTo: number, more: object = {}) => ({
  channel: chat,
  cursor: `v:${upTo}`,
  messages: [],
  more: false,
  ...more,
});
const texts = (from: number, to: number) => Array.from({ length: to - from + 1 }, (_, n) => message(from + n));
const settle = () => vi.advanceTimersByTimeAsync(0);

/** What an entry was given, as numbers; a gap as its reason. */
function given(entry: ReturnType<Awaited<ReturnType<typeof connected>>['enter']>): unknown[] {
  const all: unknown[] = [];
  entry.addEventListener('message', ({ detail }) => all.push(detail.data));
  entry.addEventListener('gap', ({ detail }) => all.push(detail.why));
  return all;
}

describe('a board', () => {
  it('is asked for again where a frame does not continue from the version here', async () => {
    const line = await connected();
    const race = line.enter(chat);
    socket().welcome({ entered: [live(10, { board: { version: 'b:1', entries: { petrel: 1 } } })] });
    const push = { on: 'board', channel: chat };
    socket().say({ ...push, after: 'b:1', version: 'b:2', set: { petrel: 2 } });
    expect(race.board.get('petrel')).toBe(2);
    expect(socket().asked('enter')).toEqual([]);
    socket().say({ ...push, after: 'b:3', version: 'b:4', set: { petrel: 4 } });
    socket().say({ ...push, after: 'b:4', version: 'b:5', set: { petrel: 5 } });
    const [asked, ...more] = socket().asked('enter');
    expect(asked).toMatchObject({ channel: chat, after: 'v:10' });
    expect(more).toEqual([]);
    socket().say({ re: asked?.id, ...live(10, { board: { version: 'b:5', entries: { knot: 5 } } }) });
    expect([...race.board]).toEqual([['knot', 5]]);
    socket().say({ ...push, version: 'c:1', whole: true, set: { wigeon: 1 } });
    socket().say({ ...push, after: 'c:1', version: 'c:2', gone: ['wigeon'] });
    expect([...race.board]).toEqual([]);
    line.close();
  });
});

describe('two entries of one channel', () => {
  it('have each their own history, share what comes, and one does not end the other’s', async () => {
    const line = await connected();
    const first = line.enter(chat);
    const ofFirst = given(first);
    socket().welcome({ entered: [live(10)] });
    const second = line.enter(chat, { last: 3 });
    const ofSecond = given(second);
    socket().say({ on: 'message', ...message(11) });
    const [asked] = socket().asked('enter');
    expect(asked).toMatchObject({ channel: chat, last: 3 });
    socket().say({ re: asked?.id, ...live(11, { messages: texts(9, 11) }) });
    socket().say({ on: 'message', ...message(12) });
    expect([ofFirst, ofSecond]).toEqual([
      [11, 12],
      [9, 10, 11, 12],
    ]);
    expect([first.hasEarlier, second.hasEarlier]).toEqual([true, true]);
    first.leave();
    expect(socket().asked('leave')).toEqual([]);
    socket().say({ on: 'message', ...message(13) });
    expect([ofFirst.length, ofSecond.at(-1)]).toEqual([2, 13]);
    await expect(first.publish(1)).rejects.toMatchObject({ code: 'left' });
    second.leave();
    expect(socket().asked('leave')).toHaveLength(1);
    line.close();
  });

  it('need not ask where one is live and the other wants only what comes', async () => {
    const line = await connected();
    line.enter(chat);
    const members = [{ user: 'pia', sessions: 1, since: '' }];
    socket().welcome({ entered: [live(0, { members, count: 1 })] });
    const second = line.enter(chat);
    const told: unknown[] = [];
    second.addEventListener('members', ({ detail }) => told.push(detail.joined.map(({ user }) => user)));
    await second.ready;
    expect(socket().asked('enter')).toEqual([]);
    expect([second.cursor, second.hasEarlier, told]).toEqual(['v:0', false, [['pia']]]);
    expect(second.members).toBe(second.members);
    line.close();
  });

  it('go on behind the one that is further back, and neither sees anything twice', async () => {
    const line = await connected({ backOff: { firstMs: 100, maxMs: 100 } });
    const first = line.enter(chat);
    const ofFirst = given(first);
    socket().welcome({ entered: [live(10)] });
    const second = line.enter(chat, { after: 'v:2' });
    const ofSecond = given(second);
    const [asked] = socket().asked('enter');
    socket().say({ re: asked?.id, ...live(5, { messages: texts(3, 5), more: true }) });
    socket().onclose?.({ code: 1006, reason: '' });
    await vi.advanceTimersByTimeAsync(200);
    socket().onopen?.();
    expect(socket().asked('hello')[0]).toMatchObject({ enter: [{ channel: chat, after: 'v:5' }] });
    // What the second one has missed is gone in part, and the first one has it.
    const gap = { channel: chat, after: 'v:5', cursor: 'v:8', why: 'expired' };
    socket().welcome({ continued: true, entered: [live(12, { messages: texts(9, 12), gap })] });
    expect([ofFirst, ofSecond]).toEqual([
      [11, 12],
      [3, 4, 5, 'expired', 9, 10, 11, 12],
    ]);
    line.close();
  });

  it('are refused each for itself, and ended together when the stay ends', async () => {
    const line = await connected();
    const first = line.enter(chat);
    socket().welcome({ entered: [live(10)] });
    const second = line.enter(chat, { last: 5 });
    const [asked] = socket().asked('enter');
    socket().say({ re: asked?.id, problem: { code: 'not-allowed', title: 'Not allowed' } });
    expect([first.state, second.state]).toEqual(['live', 'refused']);
    const third = line.enter(chat);
    await third.ready;
    socket().say({ on: 'removed', channel: chat, reason: 'enough' });
    expect([first.state, third.state]).toEqual(['removed', 'removed']);
    line.close();
  });
});

describe('a first listener that is added late', () => {
  const late = async (messages: object[], more: object[] = []) => {
    const line = await connected();
    const entry = line.enter(chat, { last: 3 });
    socket().welcome({ entered: [live(messages.length, { messages })] });
    for (const each of more) socket().say({ on: 'message', ...each });
    await settle();
    return { line, entry };
  };

  it.each([
    ['after a moment', 1],
    ['twice, as an effect does that is cleaned up and run again', 2],
  ])('gets everything since `enter`, in order and once: %s', async (_, times) => {
    const { line, entry } = await late(texts(1, 2), texts(3, 3));
    const all: unknown[] = [];
    const listener = ({ detail }: CustomEvent): void => void all.push(detail.data);
    for (let n = 1; n < times; n++) {
      entry.addEventListener('message', listener);
      entry.removeEventListener('message', listener);
    }
    entry.addEventListener('message', listener);
    socket().say({ on: 'message', ...texts(4, 4)[0] });
    await settle();
    socket().say({ on: 'message', ...texts(5, 5)[0] });
    expect(all).toEqual(texts(1, 5).map(({ data }) => data));
    const second: unknown[] = [];
    entry.addEventListener('message', ({ detail }) => second.push(detail.data));
    await settle();
    expect(second).toEqual([]);
    line.close();
  });

  it('gets them by `for await`, also of a channel that was left by a moderator meanwhile', async () => {
    const { line, entry } = await late(texts(1, 2));
    socket().say({ on: 'removed', channel: chat });
    const all: unknown[] = [];
    for await (const { data } of entry) all.push(data);
    expect(all).toEqual(texts(1, 2).map(({ data }) => data));
    line.close();
  });

  it.each([
    ['more than 1,000 of them', texts(1, 1_100)],
    ['more than 1 MiB', texts(1, 40).map((each) => ({ ...each, data: 'x'.repeat(30_000) }))],
  ])('gets a gap in place of %s, and what comes after it', async (_, messages) => {
    const { line, entry } = await late([], messages);
    const gaps: unknown[] = [];
    const all: unknown[] = [];
    entry.addEventListener('gap', ({ detail }) => gaps.push(detail));
    entry.addEventListener('message', ({ detail }) => all.push(detail.data));
    await settle();
    const last = messages.length;
    expect(gaps).toEqual([{ channel: chat, after: 'v:0', cursor: `v:${last}`, why: 'unheard' }]);
    socket().say({ on: 'message', ...message(last + 1), data: 'next' });
    expect(all).toEqual(['next']);
    line.close();
  });
});

describe('many channels', () => {
  it('are entered in parts where one hello has no room for all, and told of in parts', async () => {
    const line = await connected();
    const names = Array.from({ length: 900 }, (_, n) => `quay/${'x'.repeat(90)}${n}`);
    for (const name of names) line.enter(name);
    const limits = { frameBytes: 65_536, dataBytes: 500, channels: 10_000 };
    socket().onopen?.();
    const [hello] = socket().asked('hello') as unknown as [{ enter: { channel: string }[]; partial?: true }];
    expect(JSON.stringify(hello).length).toBeLessThan(65_536);
    expect(hello.partial).toBe(true);
    const at = (channel: string) => ({ channel, cursor: 'v:1', messages: [], more: false });
    socket().say({ ...socket().greeting, re: 1, limits, entered: hello.enter.map(({ channel }) => at(channel)) });
    for (const { id, channel } of socket().asked('enter')) socket().say({ re: id, ...at(String(channel)) });
    await settle();
    const entered = [...hello.enter, ...socket().asked('enter')].map(({ channel }) => channel);
    expect(new Set(entered)).toEqual(new Set(names));
    for (let n = 0; n < 6; n++) {
      await vi.advanceTimersByTimeAsync(10_000);
      socket().say({ on: 'pulse' });
    }
    const pulses = socket().asked('pulse') as unknown as { got?: object }[];
    for (const pulse of pulses) expect(JSON.stringify(pulse).length).toBeLessThan(65_536 / 2 + 200);
    const told = pulses.flatMap(({ got }) => Object.keys(got ?? {}));
    // Each once: what has not changed is not told again.
    expect([told.length, new Set(told).size]).toEqual([900, 900]);
    line.close();
  });

  it('are named in a smaller hello after one that was too large', async () => {
    const line = await connected({ backOff: { firstMs: 100, maxMs: 100 } });
    for (let n = 0; n < 500; n++) line.enter(`quay/${'x'.repeat(90)}${n}`);
    const sizes: number[] = [];
    for (let n = 0; n < 4; n++) {
      socket().onopen?.();
      sizes.push(JSON.stringify(socket().asked('hello')[0]).length);
      socket().onclose?.({ code: 1009, reason: '' });
      await vi.advanceTimersByTimeAsync(200);
    }
    expect(sizes[3]).toBeLessThan((sizes[0] as number) / 4);
    line.close();
  });
});

describe('a connection from which no answer comes', () => {
  it.each([
    ['when a request waits', (line: Awaited<ReturnType<typeof connected>>) => void line.read(chat).catch(() => {})],
    ['when the browser says that it is offline', () => void globalThis.dispatchEvent(new Event('offline'))],
  ])('is doubted %s, and given up when a probe has no answer', async (_, act) => {
    const target = new EventTarget();
    vi.stubGlobal('addEventListener', target.addEventListener.bind(target));
    vi.stubGlobal('dispatchEvent', target.dispatchEvent.bind(target));
    const line = await connected();
    socket().welcome({ pulseMs: 60_000 });
    await vi.advanceTimersByTimeAsync(6_000);
    const reasons: string[] = [];
    line.addEventListener('state', ({ detail }) => detail.name === 'waiting' && reasons.push(detail.reason));
    const first = socket();
    act(line);
    await vi.advanceTimersByTimeAsync(5_100);
    const probes = first.asked('pulse').filter(({ id }) => id !== undefined);
    expect(probes).toHaveLength(1);
    await vi.advanceTimersByTimeAsync(5_100);
    expect(reasons).toEqual(['the service did not answer']);
    line.close();
    vi.unstubAllGlobals();
  });

  it('is kept when the probe is answered, however long the request takes', async () => {
    const line = await connected();
    socket().welcome({ pulseMs: 60_000 });
    line.read(chat).catch(() => {});
    for (let n = 0; n < 10; n++) {
      await vi.advanceTimersByTimeAsync(5_000);
      for (const { id } of socket().asked('pulse')) if (id !== undefined) socket().say({ re: id });
    }
    expect(line.state.name).toBe('open');
    line.close();
  });
});

describe('tokens', () => {
  it.each([
    ['gives bad ones', () => 'bad', 'token-invalid'],
    ['gives nothing', () => undefined as unknown as string, 'gave nothing'],
    ['fails', () => Promise.reject(new Error('no session')), 'no session'],
  ])('of a function that %s: `opened` gives up after three, and the line goes on', async (_, token, why) => {
    const line = await connected({ token, backOff: { firstMs: 100, maxMs: 100 } });
    const opened = line.opened().catch((error: unknown) => error);
    for (let n = 0; n < 4; n++) {
      if (FakeSocket.all.length > 0) {
        socket().onopen?.();
        socket().say({
          re: socket().asked('hello')[0]?.id,
          problem: { code: 'token-invalid', title: 'The token is bad' },
        });
        socket().onclose?.({ code: 1008, reason: 'token-invalid' });
      }
      await vi.advanceTimersByTimeAsync(200);
    }
    expect(await opened).toMatchObject({ code: 'token-invalid' });
    if (why !== 'token-invalid') expect(line.state).toMatchObject({ reason: expect.stringContaining(why) });
    expect(line.state.name).not.toBe('closed');
    line.close();
  });

  it('are asked for by `refresh`, and what was refused is entered again with the new one', async () => {
    let token = 'plain';
    const line = await connected({ token: () => token });
    const crew = line.enter('crew/petrel');
    const refused = vi.fn();
    crew.addEventListener('refused', refused);
    const problem = { code: 'not-allowed', title: 'Not allowed' };
    socket().welcome({ entered: [{ channel: 'crew/petrel', problem }] });
    expect(refused).toHaveBeenCalledOnce();
    token = 'skipper';
    const done = line.refresh();
    await settle();
    const [asked] = socket().asked('refresh');
    expect(asked).toMatchObject({ token: 'skipper' });
    socket().say({ re: asked?.id, lost: [] });
    await done;
    const [again] = socket().asked('enter');
    expect([again?.channel, crew.state]).toEqual(['crew/petrel', 'entering']);
    socket().say({ re: again?.id, channel: 'crew/petrel', cursor: 'v:0', messages: [], more: false });
    await crew.ready;
    expect(crew.state).toBe('live');
    line.close();
  });
});

describe('lists that a page shows', () => {
  it('are the same object until they change', async () => {
    const line = await connected();
    const entry = line.enter(chat);
    const typing = new Typing(entry);
    const member = (user: string) => ({ user, sessions: 1, since: '' });
    socket().welcome({ entered: [live(0, { members: [member('pia')], count: 1 })] });
    const lists = () => [entry.members, line.outbox.messages, typing.authors];
    const before = lists();
    expect(lists().every((list, index) => list === before[index])).toBe(true);
    socket().say({ on: 'members', channel: chat, changed: [member('pia')], count: 1 });
    expect(entry.members).toBe(before[0]);
    socket().say({ on: 'members', channel: chat, joined: [member('jory')], count: 2 });
    line.publish(chat, 1).catch(() => {});
    socket().say({ on: 'hail', channel: chat, type: 'typing', by: { user: 'jory' }, data: true });
    expect(lists().map((list, index) => list === before[index])).toEqual([false, false, false]);
    line.close();
  });
});

describe('a message that is published while the connection closes', () => {
  it('is not sent into it, is shown as waiting once it has closed, and goes out on the next', async () => {
    const line = await connected({ backOff: { firstMs: 100, maxMs: 100 } });
    socket().welcome();
    const closing = socket() as FakeSocket & { readyState?: number };
    closing.readyState = 2;
    line.publish(chat, 1).catch(() => {});
    expect(closing.asked('publish')).toEqual([]);
    const waiting: boolean[] = [];
    line.outbox.addEventListener('change', () => waiting.push(...line.outbox.messages.map(({ sent }) => !sent)));
    closing.onclose?.({ code: 1006, reason: '' });
    await settle();
    expect(waiting).toEqual([true]);
    await vi.advanceTimersByTimeAsync(200);
    socket().welcome();
    expect(socket().asked('publish')).toHaveLength(1);
    line.close();
  });
});
