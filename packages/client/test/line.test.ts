import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { type ReceivedMessage, Typing } from '../src/index.js';
import { FakeSocket, message, connected as open, socket } from './fakeSocket.js';

beforeEach(() => void vi.useFakeTimers());
afterEach(() => {
  vi.useRealTimers();
  FakeSocket.all.length = 0;
});

describe('a line', () => {
  it('says how it stands: connecting, open, waiting, open again', async () => {
    const line = await open();
    const states: string[] = [line.state.name];
    line.addEventListener('state', ({ detail }) => states.push(detail.name));
    socket().welcome();
    socket().onclose?.({ code: 1006, reason: '' });
    expect(line.state).toMatchObject({ name: 'waiting', reason: 'the connection broke' });
    await vi.advanceTimersByTimeAsync(500);
    socket().welcome({ continued: true });
    expect(states).toEqual(['connecting', 'open', 'waiting', 'connecting', 'open']);
    expect(FakeSocket.all[0]?.url).toBe('ws://regatta.example/base/line');
    expect(socket().asked('hello')[0]).toMatchObject({ session: 's_1', secret: '1.x' });
    line.close();
  });

  it.each<[string, (line: Awaited<ReturnType<typeof open>>) => Promise<unknown>]>([
    ['publish', (line) => line.publish('race/3/chat', 1)],
    ['revise', (line) => line.revise('race/3/chat', 'v:1', 2)],
    ['read', (line) => line.read('race/3/chat')],
    ['mark', (line) => line.mark('race/3/chat', 'v:1')],
    ['markThread', (line) => line.markThread('race/3/chat', 'v:1', 'v:2')],
    ['block', (line) => line.block('jory')],
    ['setLevel', (line) => line.setLevel('race/3/chat', 'mentions')],
    ['accept', (line) => line.accept('code')],
    ['call', (line) => line.call('declare-turn')],
  ])('rejects %s after it was closed', async (_, act) => {
    const line = await open();
    socket().welcome();
    line.close();
    await expect(act(line)).rejects.toMatchObject({ code: 'closed' });
  });

  it('asks for a fresh token before each connection, and gives up with a fixed one that is bad', async () => {
    const token = vi.fn(() => 'fresh');
    const line = await open({ token });
    socket().onopen?.();
    socket().say({ re: 1, problem: { code: 'token-invalid', title: 'Invalid token' } });
    socket().onclose?.({ code: 1008, reason: 'token-invalid' });
    expect(line.state.name).toBe('waiting');
    await vi.advanceTimersByTimeAsync(1000);
    expect(token).toHaveBeenCalledTimes(2);
    line.close();

    const fixed = await open({ token: 'bad' });
    socket().onopen?.();
    socket().say({ re: 1, problem: { code: 'token-invalid', title: 'Invalid token' } });
    socket().onclose?.({ code: 1008, reason: 'token-invalid' });
    expect(fixed.state).toMatchObject({ name: 'closed', problem: { code: 'token-invalid' } });
  });

  it('swaps a token that is about to end for a fresh one, and tells of channels that are lost with it', async () => {
    const line = await open({ token: () => 'fresh' });
    const [crew, chat] = [line.enter('crew/petrel'), line.enter('race/3/chat')];
    const live = (channel: string) => ({ channel, cursor: 'v:0', messages: [], more: false });
    socket().welcome({ entered: [live('crew/petrel'), live('race/3/chat')] });
    socket().say({ on: 'expiring', withinMs: 60_000 });
    await vi.advanceTimersByTimeAsync(0);
    const [refresh] = socket().asked('refresh');
    expect(refresh).toMatchObject({ token: 'fresh' });
    socket().say({ re: refresh?.id, lost: ['crew/petrel'] });
    expect([crew.state, chat.state, line.state.name]).toEqual(['refused', 'live', 'open']);
    line.close();
  });

  it('comes back when a hello of its own that was never answered took the session over, and only then', async () => {
    const line = await open({ backOff: { firstMs: 100, maxMs: 100 } });
    socket().welcome();
    socket().onclose?.({ code: 1006, reason: '' });
    await vi.advanceTimersByTimeAsync(200);
    socket().onopen?.();
    await vi.advanceTimersByTimeAsync(15_200);
    socket().welcome({ continued: true });
    expect(FakeSocket.all).toHaveLength(3);
    socket().onclose?.({ code: 4901, reason: '' });
    await vi.advanceTimersByTimeAsync(200);
    socket().welcome({ continued: true });
    expect(line.state.name).toBe('open');
    socket().onclose?.({ code: 4901, reason: '' });
    expect(line.state).toMatchObject({ name: 'closed', closedBy: 'service' });
  });

  it('says why it was closed, and not why something was refused long before', async () => {
    const line = await open();
    socket().welcome();
    const banned = { code: 'banned', title: 'Banned', detail: 'banned from race/3/chat' };
    // A hail into a channel from which one was removed: nobody waits for its reply.
    socket().say({ on: 'problem', ...banned });
    expect(line.state.name).toBe('open');
    const ended = { code: 'token-ended', title: 'The token has expired', detail: 'signed out: lost phone' };
    socket().say({ on: 'problem', ...ended, ends: true });
    socket().onclose?.({ code: 4902, reason: 'signed-out' });
    expect(line.state).toMatchObject({ name: 'closed', reason: 'signed out: lost phone', problem: ended });
  });

  it.each([4901, 4902])('does not come back by itself after %d', async (code) => {
    const line = await open();
    socket().welcome();
    socket().onclose?.({ code, reason: 'elsewhere' });
    expect(line.state.name).toBe('closed');
  });

  it('notices that nothing comes any more, and connects anew', async () => {
    const line = await open();
    const first = socket();
    first.welcome();
    await vi.advanceTimersByTimeAsync(61_000);
    expect(first.closed).toBe(true);
    expect(FakeSocket.all.length).toBeGreaterThan(1);
    line.close();
  });

  it('sends what was not acknowledged again with its key, and resolves once', async () => {
    const line = await open();
    socket().welcome();
    const published = line.publish('race/3/chat', 'ahoy');
    const [first] = socket().asked('publish');
    socket().onclose?.({ code: 1006, reason: '' });
    await vi.advanceTimersByTimeAsync(500);
    socket().welcome({ continued: true });
    const [again] = socket().asked('publish');
    expect({ ...again, id: 0 }).toEqual({ ...first, id: 0 });
    socket().say({ re: again?.id, id: 'm1', cursor: 'v:1', repeated: true });
    await expect(published).resolves.toEqual({ id: 'm1', cursor: 'v:1', repeated: true });
    line.close();
  });

  it('refuses what the service would end the connection for', async () => {
    const line = await open();
    socket().welcome();
    await expect(line.publish('race/3/chat', 'x'.repeat(1000))).rejects.toMatchObject({ code: 'too-large' });
    const waiting = line.publish('race/3/chat', 1);
    line.close();
    await expect(waiting).rejects.toMatchObject({ code: 'closed' });
    await expect(line.publish('race/3/chat', 1)).rejects.toMatchObject({ code: 'closed' });
  });
});

describe('a WebSocket on which nothing is heard', () => {
  const asked = async (act: () => void | Promise<void>): Promise<string[]> => {
    const urls: string[] = [];
    vi.stubGlobal('fetch', (url: string) => {
      urls.push(url);
      return Promise.reject(new Error('not there'));
    });
    const line = await open({ transport: 'auto' });
    await act();
    await vi.advanceTimersByTimeAsync(0);
    line.close();
    vi.unstubAllGlobals();
    return urls;
  };

  it('may be blocked, opened or not: then a line goes over HTTP', async () => {
    const sessions = ['http://regatta.example/base/line/sessions'];
    expect(await asked(() => socket().onclose?.({ code: 1006, reason: '' }))).toEqual(sessions);
    expect(
      await asked(async () => {
        socket().onopen?.();
        await vi.advanceTimersByTimeAsync(15_000);
      }),
    ).toEqual(sessions);
  });

  it('is not, where the service closes it with a code, or has answered before', async () => {
    expect(await asked(() => socket().onclose?.({ code: 1013, reason: 'too-many-connections' }))).toEqual([]);
    expect(
      await asked(() => {
        socket().welcome();
        socket().onclose?.({ code: 1006, reason: '' });
      }),
    ).toEqual([]);
  });
});

describe('the outbox', () => {
  const answer = (request: Record<string, unknown> | undefined, more: object = { id: 'm', cursor: 'v:1' }) =>
    socket().say({ re: request?.id, ...more });
  const data = () =>
    socket()
      .asked('publish')
      .map((request) => request.data);

  it('keeps what is published while the line is not open, shows it, and sends it in order', async () => {
    const line = await open();
    const waiting: number[] = [];
    line.outbox.addEventListener('change', ({ detail }) => waiting.push(detail.waiting));
    const published = [1, 2, 3].map((n) => line.publish('race/3/chat', n));
    expect(line.outbox.messages).toMatchObject([1, 2, 3].map((n) => ({ data: n, sent: false })));
    socket().welcome();
    expect(data()).toEqual([1, 2, 3]);
    socket().onclose?.({ code: 1006, reason: '' });
    published.push(line.publish('race/3/chat', 4));
    await vi.advanceTimersByTimeAsync(500);
    socket().welcome({ continued: true });
    expect(data()).toEqual([1, 2, 3, 4]);
    for (const request of socket().asked('publish')) answer(request);
    expect((await Promise.all(published)).length).toBe(4);
    expect([waiting.at(-1), line.outbox.messages]).toEqual([0, []]);
    line.close();
  });

  it('takes a message back that was not sent yet, by hand or by signal, and none that was', async () => {
    const line = await open();
    const caught = (act: Promise<unknown>) => act.catch((error: { code: string }) => error.code);
    const abort = new AbortController();
    const outcomes = [
      line.publish('race/3/chat', 1),
      line.publish('race/3/chat', 2, { signal: abort.signal }),
      line.publish('race/3/chat', 3, { signal: AbortSignal.abort() }),
    ].map(caught);
    expect(line.outbox.messages[0]?.cancel()).toBe(true);
    abort.abort();
    expect(await Promise.all(outcomes)).toEqual(['cancelled', 'cancelled', 'cancelled']);
    socket().welcome();
    expect(data()).toEqual([]);
    const sent = line.publish('race/3/chat', 4);
    expect(line.outbox.messages[0]?.cancel()).toBe(false);
    answer(socket().asked('publish')[0]);
    expect(await sent).toMatchObject({ id: 'm' });
    line.close();
  });

  it('is bounded by count and by size', async () => {
    const line = await open({ outbox: { messages: 3, chars: 20 } });
    const first = line.publish('race/3/chat', 'x'.repeat(30));
    await expect(line.publish('race/3/chat', 'y')).rejects.toMatchObject({ code: 'outbox-full' });
    line.outbox.messages[0]?.cancel();
    await expect(first).rejects.toMatchObject({ code: 'cancelled' });
    for (let n = 0; n < 3; n++) line.publish('race/3/chat', n).catch(() => {});
    await expect(line.publish('race/3/chat', 4)).rejects.toMatchObject({ code: 'outbox-full' });
    line.close();
  });

  it.each(['busy', 'unavailable', 'internal'])('waits after %s, then tries again with the same key', async (code) => {
    const line = await open();
    socket().welcome();
    const published = [1, 2].map((n) => line.publish('race/3/chat', n));
    const refused = { problem: { code, title: 'Refused', retryAfterMs: 2_000 } };
    for (const request of socket().asked('publish')) answer(request, refused);
    expect(line.outbox.messages).toMatchObject([{ data: 1, sent: false, problem: { code } }, { data: 2 }]);
    await vi.advanceTimersByTimeAsync(1_900);
    expect(data()).toEqual([1, 2]);
    await vi.advanceTimersByTimeAsync(1_200);
    // One at a time now, so that none overtakes another.
    expect(data()).toEqual([1, 2, 1]);
    answer(socket().asked('publish')[2]);
    expect(data()).toEqual([1, 2, 1, 2]);
    answer(socket().asked('publish')[3]);
    await Promise.all(published);
    const keys = socket()
      .asked('publish')
      .map(({ key }) => key);
    expect(keys.slice(2)).toEqual(keys.slice(0, 2));
    const lasting = line.publish('race/3/chat', 5);
    answer(socket().asked('publish').at(-1), { problem: { code: 'not-allowed', title: 'Not allowed' } });
    await expect(lasting).rejects.toMatchObject({ code: 'not-allowed' });
    line.close();
  });

  it('goes on in other channels when those of one cannot be taken', async () => {
    const line = await open();
    socket().welcome();
    const refused = { problem: { code: 'busy', title: 'Busy', retryAfterMs: 2_000 } };
    const stuck = line.publish('race/3/chat', 1);
    stuck.catch(() => {});
    answer(socket().asked('publish')[0], refused);
    const others = [2, 3].map((n) => line.publish('race/4/chat', n));
    expect(data()).toEqual([1, 2, 3]);
    for (const request of socket().asked('publish').slice(1)) answer(request);
    await Promise.all(others);
    await vi.advanceTimersByTimeAsync(3_100);
    expect(data()).toEqual([1, 2, 3, 1]);
    // A rate is the session's: there the others wait too.
    answer(socket().asked('publish')[3], { problem: { code: 'rate-limited', title: 'Slower', retryAfterMs: 2_000 } });
    line.publish('race/4/chat', 4).catch(() => {});
    expect(data()).toHaveLength(4);
    await vi.advanceTimersByTimeAsync(3_100);
    expect(data().length).toBeGreaterThan(4);
    line.close();
  });

  it('sends a large backlog a few at a time', async () => {
    const line = await open();
    for (let n = 0; n < 100; n++) line.publish('race/3/chat', n).catch(() => {});
    socket().welcome();
    expect(data().length).toBe(32);
    answer(socket().asked('publish')[0]);
    expect(data().length).toBe(33);
    line.close();
  });
});

describe('a channel that is left and entered again at once', () => {
  it('has its history: what was pushed in the stay before is not taken for news of the new one', async () => {
    const line = await open();
    socket().welcome();
    line.enter('race/3/chat').leave();
    const chat = line.enter('race/3/chat', { last: 3 });
    const heard: unknown[] = [];
    chat.addEventListener('message', ({ detail }) => heard.push(detail.data));
    const enter = socket().asked('enter').at(-1);
    // These were on their way before the service read that the channel was left.
    socket().say({ on: 'message', ...message(7) });
    socket().say({ on: 'members', channel: 'race/3/chat', whole: true, joined: [], count: 0 });
    socket().say({ on: 'removed', channel: 'race/3/chat' });
    expect(heard).toEqual([]);
    const messages = [5, 6, 7].map((n) => message(n));
    socket().say({ re: enter?.id, channel: 'race/3/chat', cursor: 'v:7', messages, more: false });
    socket().say({ on: 'message', ...message(8) });
    expect(heard).toEqual([5, 6, 7, 8]);
    expect(chat.state).toBe('live');
    line.close();
  });
});

describe('an entered channel', () => {
  it('gives every message once and in order, by event and by for await, and goes on after a break', async () => {
    const line = await open();
    const chat = line.enter('race/3/chat', { last: 2 });
    const heard: [unknown, boolean][] = [];
    chat.addEventListener('message', ({ detail }) => heard.push([detail.data, detail.live]));
    const read: ReceivedMessage[] = [];
    const reading = (async () => {
      for await (const each of chat) read.push(each);
    })();
    socket().welcome({
      entered: [{ channel: 'race/3/chat', cursor: 'v:2', messages: [message(1), message(2)], more: false }],
    });
    socket().say({ on: 'message', ...message(3) });
    socket().say({ on: 'message', ...message(3) });
    socket().onclose?.({ code: 1006, reason: '' });
    await vi.advanceTimersByTimeAsync(500);
    socket().onopen?.();
    expect(socket().asked('hello')[0]?.enter).toEqual([{ channel: 'race/3/chat', after: 'v:3' }]);
    socket().welcome({
      entered: [{ channel: 'race/3/chat', cursor: 'v:5', messages: [message(4), message(5)], more: false }],
    });
    chat.leave();
    await reading;
    expect(heard).toEqual([
      [1, false],
      [2, false],
      [3, true],
      [4, false],
      [5, false],
    ]);
    expect(read.map((each) => each.data)).toEqual([1, 2, 3, 4, 5]);
    line.close();
  });

  it('tells one’s own echo by the key', async () => {
    const line = await open();
    const chat = line.enter('race/3/chat');
    const own: boolean[] = [];
    chat.addEventListener('message', ({ detail }) => own.push(detail.own));
    socket().welcome({ entered: [{ channel: 'race/3/chat', cursor: 'v:0', messages: [], more: false }] });
    void chat.publish('mine').catch(() => {});
    const { key } = socket().asked('publish')[0] as { key: string };
    socket().say({ on: 'message', ...message(1, { key }) });
    socket().say({ on: 'message', ...message(2, { key: 'theirs' }) });
    expect(own).toEqual([true, false]);
    line.close();
  });

  it('asks on while there is more, and goes on from the reply’s cursor, also when nothing was for it', async () => {
    const line = await open();
    const chat = line.enter('race/3/chat', { after: 'v:1' });
    socket().welcome({ entered: [{ channel: 'race/3/chat', cursor: 'v:7', messages: [], more: true }] });
    expect(chat.state).toBe('entering');
    const [again] = socket().asked('enter');
    expect(again).toMatchObject({ after: 'v:7' });
    socket().say({ re: again?.id, channel: 'race/3/chat', cursor: 'v:8', messages: [message(8)], more: false });
    await chat.ready;
    expect(chat).toMatchObject({ state: 'live', cursor: 'v:8' });
    line.close();
  });

  it('passes a gap on, and continues behind it', async () => {
    const line = await open();
    const chat = line.enter('race/3/chat', { after: 'v:1' });
    const gaps: string[] = [];
    const heard: unknown[] = [];
    chat.addEventListener('gap', ({ detail }) => gaps.push(detail.why));
    chat.addEventListener('message', ({ detail }) => heard.push(detail.data));
    const gap = { channel: 'race/3/chat', after: 'v:1', cursor: 'w:0', why: 'new-volume' };
    socket().welcome({
      entered: [{ channel: 'race/3/chat', cursor: 'w:1', messages: [message(1, { cursor: 'w:1' })], more: false, gap }],
    });
    expect([gaps, heard]).toEqual([['new-volume'], [1]]);
    line.close();
  });

  it.each(['leave', 'close'] as const)('may be ended with %s by whoever hears its first message', async (how) => {
    const line = await open();
    const chat = line.enter('race/3/chat', { last: 2 });
    const heard: unknown[] = [];
    chat.addEventListener('message', ({ detail }) => {
      heard.push(detail.data);
      if (how === 'leave') chat.leave();
      else line.close();
    });
    socket().welcome({
      entered: [{ channel: 'race/3/chat', cursor: 'v:2', messages: [message(1), message(2)], more: false }],
    });
    await vi.advanceTimersByTimeAsync(120_000);
    expect([heard, chat.state]).toEqual([[1], 'left']);
    line.close();
    expect(vi.getTimerCount()).toBe(0);
  });

  it('that is refused says so by event and by `ready`', async () => {
    const line = await open();
    const chat = line.enter('race/3/chat');
    const refused: string[] = [];
    chat.addEventListener('refused', ({ detail }) => refused.push(detail.code));
    const problem = { code: 'not-allowed', title: 'Not allowed' };
    socket().welcome({ entered: [{ channel: 'race/3/chat', problem }] });
    await expect(chat.ready).rejects.toMatchObject({ code: 'not-allowed' });
    expect([refused, chat.state]).toEqual([['not-allowed'], 'refused']);
    line.close();
  });

  it('that was left and entered anew does not mistake an old answer for its own', async () => {
    const line = await open();
    socket().welcome();
    const first = line.enter('race/3/chat', { last: 5 });
    first.leave();
    const second = line.enter('race/3/chat');
    const heard: unknown[] = [];
    second.addEventListener('message', ({ detail }) => heard.push(detail.data));
    const [oldEnter, newEnter] = socket().asked('enter');
    socket().say({ re: oldEnter?.id, channel: 'race/3/chat', cursor: 'v:1', messages: [message(1)], more: false });
    socket().say({ re: newEnter?.id, channel: 'race/3/chat', cursor: 'v:1', messages: [], more: false });
    socket().say({ on: 'message', ...message(2) });
    expect(heard).toEqual([2]);
    line.close();
  });

  it('refuses a name that cannot be one, at once', async () => {
    const line = await open();
    expect(() => line.enter('no spaces please')).toThrow(RangeError);
    line.close();
  });
});

describe('a token function', () => {
  it('that never gives one is asked again after a while', async () => {
    let asked = 0;
    const line = await open({
      token: () => {
        asked += 1;
        return asked === 1 ? new Promise<string>(() => {}) : 'good';
      },
      backOff: { firstMs: 0, maxMs: 0 },
    });
    await vi.advanceTimersByTimeAsync(14_999);
    expect(line.state.name).toBe('connecting');
    await vi.advanceTimersByTimeAsync(1);
    expect(line.state).toMatchObject({ name: 'waiting', reason: expect.stringContaining('gave none within 15 s') });
    await vi.advanceTimersByTimeAsync(10);
    const socket = FakeSocket.all.at(-1) as FakeSocket;
    socket.welcome();
    expect([asked, socket.asked('hello')[0]?.token]).toEqual([2, 'good']);
    line.close();
  });
});

describe('members', () => {
  const member = (user: string, more: object = {}) => ({
    user,
    name: user.toUpperCase(),
    since: '2031-06-14T12:00:00.000Z',
    sessions: 1,
    ...more,
  });
  const entered = (more: object) => ({
    entered: [{ channel: 'race/3/chat', cursor: 'v:1', messages: [], more: false, ...more }],
  });

  it('are a list that is right after each change, and the changes are what is new', async () => {
    const line = await open();
    const chat = line.enter('race/3/chat', { status: 'away' });
    const changes: unknown[] = [];
    chat.addEventListener('members', ({ detail: { joined, left, changed, count } }) =>
      changes.push([...[joined, left, changed].map((some) => some.map(({ user }) => user).join()), count]),
    );
    const [socket] = FakeSocket.all.slice(-1) as [FakeSocket];
    socket.welcome(entered({ members: [member('pia'), member('jory')], count: 2 }));
    expect(socket.asked('hello')[0]?.enter).toMatchObject([{ status: 'away' }]);
    // Told again what is known, and of somebody who is not.
    const channel = 'race/3/chat';
    socket.say({ on: 'members', channel, joined: [member('jory')], left: ['ines'], count: 2 });
    socket.say({ on: 'members', channel, changed: [member('pia', { sessions: 2 })], left: ['jory'], count: 1 });
    socket.say({ on: 'members', channel, count: 300, partial: true });
    expect([chat.isCrowd, chat.count]).toEqual([true, 300]);
    socket.say({ on: 'members', channel, whole: true, joined: [member('ines')], count: 1 });
    expect(chat.members.map(({ user }) => user)).toEqual(['ines']);
    expect(chat.isCrowd).toBe(false);
    expect(changes).toEqual([
      ['pia,jory', '', '', 2],
      ['', '', '', 2],
      ['', 'jory', 'pia', 1],
      ['', '', '', 300],
      ['ines', 'pia', '', 1],
    ]);
    line.close();
  });

  it('are none for whoever was removed', async () => {
    const line = await open();
    const chat = line.enter('race/3/chat');
    const socket = FakeSocket.all.at(-1) as FakeSocket;
    socket.welcome(entered({ members: [member('pia'), member('jory')], count: 2 }));
    const gone: string[] = [];
    chat.addEventListener('members', ({ detail }) => gone.push(...detail.left.map(({ user }) => user)));
    socket.say({ on: 'removed', channel: 'race/3/chat', reason: 'x' });
    expect([chat.members, chat.count, gone]).toEqual([[], 0, ['pia', 'jory']]);
    line.close();
  });

  it('say of themselves what they said before, after a reconnection too', async () => {
    const line = await open({ backOff: { firstMs: 0, maxMs: 0 } });
    const first = FakeSocket.all.at(-1) as FakeSocket;
    first.welcome();
    line.setStatus('busy');
    line.setLooking('race/3/chat');
    expect(first.asked('status')).toMatchObject([{ status: 'busy' }, { looking: 'race/3/chat' }]);
    first.onclose?.({ code: 1006, reason: '' });
    await vi.advanceTimersByTimeAsync(50);
    const second = FakeSocket.all.at(-1) as FakeSocket;
    second.welcome();
    expect(second.asked('status')).toMatchObject([{ status: 'busy', looking: 'race/3/chat' }]);
    line.close();
  });
});

describe('typing', () => {
  async function typingIn() {
    const line = await open();
    const chat = line.enter('race/3/chat');
    const socket = FakeSocket.all.at(-1) as FakeSocket;
    socket.welcome({ entered: [{ channel: 'race/3/chat', cursor: 'v:1', messages: [], more: false }] });
    const typing = new Typing(chat);
    const hail = (user: string, data: unknown) =>
      socket.say({ on: 'hail', channel: 'race/3/chat', type: 'typing', by: { user, name: user }, data });
    const said = () => socket.asked('hail').map(({ data }) => data);
    return { typing, hail, said, socket, line };
  }

  it('is said at most every three seconds while keys are pressed', async () => {
    const { typing, said } = await typingIn();
    for (let ms = 0; ms < 7_000; ms += 100) {
      typing.pressed('Petr');
      await vi.advanceTimersByTimeAsync(100);
    }
    expect(said()).toEqual([true, true, true]);
  });

  it.each<[string, (typing: Typing) => unknown]>([
    ['emptying the field', (typing) => typing.pressed('')],
    ['sending or leaving it', (typing) => typing.ended()],
    ['silence', () => vi.advanceTimersByTimeAsync(5_000)],
    ['closing', (typing) => typing.close()],
  ])('is ended by %s, once', async (_, end) => {
    const { typing, said } = await typingIn();
    typing.ended();
    typing.pressed('P');
    await end(typing);
    typing.ended();
    expect(said()).toEqual([true, false]);
  });

  it('of others is told in a sentence, and expires by itself', async () => {
    const { typing, hail, socket } = await typingIn();
    const changes: string[] = [];
    typing.addEventListener('change', () => changes.push(typing.text));
    hail('pia', true);
    expect(typing.text).toBe('');
    hail('jory', true);
    hail('ines', true);
    hail('tomas', true);
    hail('jory', true);
    socket.say({ on: 'message', ...message(2, { by: { user: 'ines' } }) });
    hail('tomas', false);
    await vi.advanceTimersByTimeAsync(5_000);
    expect(changes).toEqual([
      'jory is typing',
      'jory and ines are typing',
      'jory and 2 others are typing',
      'jory and tomas are typing',
      'jory is typing',
      '',
    ]);
  });

  it('is told in other languages', async () => {
    const { hail, line } = await typingIn();
    const chat = line.enter('race/3/chat');
    await chat.ready;
    const typing = new Typing(chat, { texts: (names) => `${names.join(' und ')} schreibt` });
    hail('jory', true);
    expect(typing.text).toBe('jory schreibt');
  });
});
