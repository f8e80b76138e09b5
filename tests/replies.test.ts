import type { Line, ReceivedMessage } from '@nine-bells/client';
import { afterEach, describe, expect, it } from 'vitest';
import { ninebells } from './support/command.js';
import { redisIsThere } from './support/realRedis.js';
import { openLine, type StartedService, startInstances } from './support/service.js';
import { startTwo } from './support/twoInstances.js';
import { until } from './support/until.js';

const text = `
service: { port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
channels:
  - pattern: "race/:race/chat"
    logbook: kept
    replies: true
    keep: { messages: 1000000 }
    allow: { enter: anyone, publish: signed-in, withdraw: { author: always } }
`;
const chat = 'race/3/chat';
const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const come = (service: StartedService, user: string): Promise<Line> => openLine(clean, service, user);

async function hears(line: Line, thread?: string) {
  const entry = thread === undefined ? line.enter(chat, { last: 100 }) : line.thread(chat, thread, { last: 100 });
  const messages: ReceivedMessage[] = [];
  entry.addEventListener('message', ({ detail }) => messages.push(detail));
  await entry.ready;
  return { entry, messages };
}

describe('replies', () => {
  it('show what they answer, and their thread is an entry of its own', async () => {
    const [service] = (await startInstances(text, clean)) as [StartedService];
    const [mira, line] = [await come(service, 'mira'), await come(service, 'pia')];
    const all = await hears(line);
    const root = await mira.publish(chat, { text: 'Petrel leads' });
    const thread = await hears(line, root.cursor);
    const reply = await thread.entry.publish({ text: 'By a length' }, { replyTo: root });
    await mira.publish(chat, { text: 'The wind turns' });
    await mira.publish(chat, { text: 'Now by two' }, { replyTo: reply.cursor });
    await until(() => all.messages.length === 4 && thread.messages.length === 3);
    expect(thread.messages.at(-1)).toMatchObject({
      replyTo: reply.cursor,
      thread: root.cursor,
      answers: { by: { user: 'pia' }, text: 'By a length' },
    });
    const [first] = (await line.read(chat, { filter: { thread: root.cursor } })).messages;
    expect(first).toMatchObject({ cursor: root.cursor, replies: { count: 2 } });
  });

  it('are made and read by applications and commands', async () => {
    const [service] = (await startInstances(text, clean)) as [StartedService];
    const { backend, url, key } = service;
    const env = { NINEBELLS_URL: url, NINEBELLS_KEY: key };
    const by = { user: 'mira', name: 'Mira Holt' };
    const root = await backend.publish({ channel: chat, data: { text: 'Petrel leads' }, by });
    await backend.publish({ channel: chat, data: { text: 'The wind turns' } });
    const out = await ninebells(
      ['publish', chat, '--text', 'By a length', '--by', 'pia', '--reply-to', root.cursor],
      env,
    );
    expect(out.out).toMatch(/^Published to race\/3\/chat as/);
    const read = await ninebells(['read', chat, '--thread', root.cursor], env);
    expect(read.out).toMatch(
      /Mira Holt Petrel leads \(1 reply\)\n.*pia \(to Mira Holt: "Petrel leads"\) By a length\n$/,
    );
    expect((await backend.read(chat, { thread: root.cursor })).messages).toHaveLength(2);
    const pia = await come(service, 'pia');
    expect(await pia.threads({ channel: chat })).toMatchObject([{ thread: root.cursor, unread: 0, count: 1 }]);
    expect((await ninebells(['threads', 'mira'], env)).out).toMatch(/\nrace\/3\/chat +\S+ +1 +1 /);
    expect(await backend.mark('mira', chat, root.cursor)).toMatchObject({ unread: 2 });
    const last = (await backend.read(chat, { limit: 1 })).messages[0]?.cursor ?? '';
    expect(await (await come(service, 'mira')).markThread(chat, root.cursor, last)).toMatchObject({ unread: 0 });
    expect((await backend.threads('mira')).threads).toMatchObject([{ unread: 0, cursor: last }]);
    await expect(backend.publish({ channel: chat, data: 1, replyTo: 'x' })).rejects.toMatchObject({
      problem: { code: 'bad-cursor', where: '/replyTo' },
    });
    await expect(backend.publish({ channel: chat, data: 1, replyTo: 'other:1' })).rejects.toMatchObject({
      problem: { code: 'no-such-message' },
    });
    await backend.withdraw({ channel: chat, cursor: root.cursor });
    await expect(backend.publish({ channel: chat, data: 1, replyTo: root.cursor })).rejects.toMatchObject({
      problem: { code: 'withdrawn' },
    });
    expect(JSON.stringify((await backend.read(chat)).messages)).not.toContain('Petrel leads');
  });
});

describe('replies, on two instances', () => {
  it.skipIf(!redisIsThere)('come with what they answer, and what was withdrawn is nowhere any more', async () => {
    const [one, two] = await startTwo(text, clean);
    const [mira, pia] = [await come(one, 'mira'), await come(two, 'pia')];
    const there = await hears(pia);
    const root = await mira.publish(chat, { text: 'the secret start' });
    const reply = await mira.publish(chat, { text: 'and on' }, { replyTo: root.cursor });
    await until(() => there.messages.length === 2);
    expect(there.messages[1]).toMatchObject({ thread: root.cursor, answers: { text: 'the secret start' } });
    const threadNow = async (service: StartedService) =>
      (await hears(await come(service, 'jory'))).messages.map(({ answers, replies }) => [answers, replies?.count]);
    for (const each of [one, two])
      expect(await threadNow(each)).toEqual([
        [undefined, 1],
        [expect.objectContaining({ text: 'the secret start' }), undefined],
      ]);
    // Participants learn of replies on every instance, and catch up after a reconnection.
    const news: number[] = [];
    pia.addEventListener('threads', ({ detail }) => news.push(...detail.threads.map(({ unread }) => unread)));
    await pia.publish(chat, { text: 'so it is' }, { replyTo: root.cursor });
    expect(await pia.threads({ follow: true })).toMatchObject([{ channel: chat, thread: root.cursor, unread: 0 }]);
    const after = await mira.publish(chat, { text: 'by far' }, { replyTo: root.cursor });
    await until(() => news.at(-1) === 1);
    await (await come(two, 'pia')).markThread(chat, root.cursor, after.cursor);
    await until(() => news.at(-1) === 0);
    await mira.withdraw(chat, after.cursor);
    await mira.withdraw(chat, root.cursor);
    await until(async () => JSON.stringify(await threadNow(two)).includes('withdrawn'));
    for (const each of [one, two]) expect(JSON.stringify(await threadNow(each))).not.toContain('secret');
    await mira.withdraw(chat, reply.cursor);
    await until(async () => (await threadNow(two))[0]?.[1] === 1);
  });
});
