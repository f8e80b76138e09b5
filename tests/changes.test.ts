import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Entry, Line, ReceivedChange, ReceivedMessage } from '@nine-bells/client';
import { parseConfiguration } from '@nine-bells/service';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { ninebells } from './support/command.js';
import { RawLine } from './support/rawLine.js';
import { RealRedis, redisIsThere } from './support/realRedis.js';
import { openLine, type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

const text = `
service: { port: 0, guests: true }
users: { direct: anyone }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
feeds: { bureau: { events: [changed] } }
channels:
  - pattern: "race/:race/chat"
    logbook: kept
    revisions: kept
    data: 4KiB
    types: { message: { schema: { type: object, required: [text], properties: { text: { type: string } } } }, note: {} }
    allow:
      enter: anyone
      publish: signed-in
      revise: { author: within 15m }
      withdraw: { any: [{ author: always }, { role: committee }] }
      revisions: { role: committee }
  - pattern: weather/wind
    allow: { enter: anyone, publish: anyone, revise: { author: always }, withdraw: { author: always } }
  - { pattern: "direct/:users", direct: true }
`;
const chat = 'race/3/chat';
const wind = 'weather/wind';

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const come = (
  service: StartedService,
  user: string,
  { roles = [], ...more }: { roles?: string[]; transport?: 'websocket' | 'stream' | 'poll' } = {},
): Promise<Line> => openLine(clean, service, user, { rights: { roles }, ...more });

/** How an entry sees its channel. */
async function seen(line: Line, channel: string, options: object = { last: 100 }) {
  const entry: Entry = line.enter(channel, options);
  const messages: ReceivedMessage[] = [];
  const changes: ReceivedChange[] = [];
  entry.addEventListener('message', ({ detail }) => messages.push(detail));
  entry.addEventListener('change', ({ detail }) => changes.push(detail));
  await entry.ready;
  return { entry, messages, changes };
}

const codeOf = (done: Promise<unknown>): Promise<string> =>
  done.then(
    () => 'done',
    (error: { code?: string; problem: { code: string } }) => error.code ?? error.problem.code,
  );

describe('changes of messages', () => {
  let service: StartedService;
  beforeAll(async () => {
    service = await startService({ text });
  });
  afterAll(() => service.remove());

  it.each(['websocket', 'stream', 'poll'] as const)('come over %s, and once again after a break', async (transport) => {
    for (const channel of [chat, wind]) {
      const mira = await come(service, 'mira');
      const pia = await seen(await come(service, 'pia', { transport }), channel, {});
      const { entry } = await seen(mira, channel, {});
      const first = await entry.publish({ text: 'Petrel leads' });
      const { cursor } = first;
      await until(() => pia.messages.length === 1);
      const message = pia.messages[0] as ReceivedMessage;
      const { cursor: revision } = await entry.revise(message, { text: 'Knot leads' }, { ifRevision: null });
      await until(() => pia.changes.length === 1);
      expect(pia.changes[0]).toMatchObject({
        ...{ id: message.id, cursor, revision, data: { text: 'Knot leads' }, live: true },
        revisedBy: { user: 'mira' },
      });
      // A client that was away hears of what was changed meanwhile, and of what it missed as it stands.
      const next = await entry.publish({ text: 'Knot rounds the mark' });
      await until(() => pia.messages.length === 2);
      const after = pia.entry.cursor as string;
      pia.entry.leave();
      await entry.revise(cursor, { text: 'Knot and Petrel lead' });
      await entry.withdraw(next.cursor, { reason: 'wrong mark' });
      const missed = await entry.publish({ text: 'Knot turns' });
      await entry.revise(missed.cursor, { text: 'Knot turned' });
      const back = await seen(await come(service, 'pia', { transport }), channel, { after });
      expect(back.messages.map(({ data }) => data)).toEqual([{ text: 'Knot turned' }]);
      expect(back.changes.map(({ cursor: of, data, withdrawn, reason }) => [of, data, withdrawn, reason])).toEqual([
        [cursor, { text: 'Knot and Petrel lead' }, undefined, undefined],
        [next.cursor, null, true, 'wrong mark'],
      ]);
      // Two entries of one channel share the stay, and each hears of it once.
      const again = await seen(mira, channel, { last: 1 });
      await entry.withdraw(missed.cursor);
      await until(() => again.changes.length === 1 && back.changes.length === 3);
    }
  });

  it('refuse with stable codes, over the line and over HTTP', async () => {
    const [mira, pia] = [await come(service, 'mira'), await come(service, 'pia')];
    const committee = await come(service, 'iris', { roles: ['committee'] });
    const { cursor, id } = await mira.publish(chat, { text: 'first' });
    const other = await mira.publish(wind, 'breeze');
    const gone = await mira.publish(chat, { text: 'second' });
    await committee.withdraw(chat, gone.cursor, { reason: 'an insult' });
    const beyond = cursor.replace(/\d+$/, '99999');
    const { backend } = service;
    const cases: readonly (readonly [string, () => Promise<unknown>, string])[] = [
      ["another's", () => pia.revise(chat, cursor, { text: 'x' }), 'not-allowed'],
      ["another's, by who may withdraw only", () => committee.revise(chat, cursor, { text: 'x' }), 'not-allowed'],
      ['withdrawn', () => mira.revise(chat, gone.cursor, { text: 'x' }), 'withdrawn'],
      ['withdrawn, over HTTP', () => backend.withdraw({ channel: chat, cursor: gone.cursor }), 'withdrawn'],
      ['not there', () => mira.withdraw(chat, beyond), 'no-such-message'],
      ['not there, over HTTP', () => backend.withdraw({ channel: chat, cursor: beyond }), 'no-such-message'],
      ['of another channel', () => mira.withdraw(wind, { id, cursor }), 'no-such-message'],
      [
        'of another channel, over HTTP',
        () => backend.withdraw({ channel: chat, cursor: other.cursor, message: other.id }),
        'no-such-message',
      ],
      ['with what does not fit', () => mira.revise(chat, cursor, { words: 'x' }), 'bad-data'],
      ['with too much', () => mira.revise(chat, cursor, { text: 'x'.repeat(5_000) }), 'too-large'],
      ['changed meanwhile', () => mira.revise(chat, cursor, { text: 'x' }, { ifRevision: beyond }), 'conflict'],
      ['no channel', () => backend.revise({ channel: 'nowhere', cursor, data: 1 }), 'no-such-channel'],
      ['no cursor', () => backend.revise({ channel: chat, cursor: 'x', data: 1 }), 'bad-cursor'],
      ['what is kept, by who may not read it', () => mira.revisions(chat, cursor), 'not-allowed'],
    ];
    for (const [what, act, code] of cases) expect([what, await codeOf(act())]).toEqual([what, code]);
    // A key makes a change once, also over HTTP, where the answer says so.
    const wish = { channel: chat, cursor, data: { text: 'third' }, key: 'k', by: { user: 'iris', name: 'Iris Vane' } };
    const made = await backend.revise(wish);
    expect(await backend.revise(wish)).toEqual({ ...made, repeated: true });
    expect(await committee.revisions(chat, cursor)).toMatchObject({
      revisions: [{ data: { text: 'first' }, by: { user: 'mira' } }],
    });
    expect((await backend.read(chat, { after: cursor })).changes).toMatchObject(
      [
        { cursor: gone.cursor, withdrawn: true },
        { cursor, data: { text: 'third' }, revisedBy: { name: 'Iris Vane' } },
      ].filter((each) => each.cursor === cursor),
    );
  });

  it('have a rate of their own: a session that changes too many is refused, and still publishes', async () => {
    const raw = await (await RawLine.open(service.url)).hello({ token: await service.token('jory') });
    clean.push(() => raw.socket.close());
    raw.send({ do: 'publish', id: 2, channel: wind, data: 0 });
    const { cursor } = await raw.reply(2);
    for (let id = 3; id < 63; id++) raw.send({ do: 'revise', id, channel: wind, cursor, data: id });
    raw.send({ do: 'publish', id: 63, channel: wind, data: 'on' });
    expect(await raw.reply(63)).toHaveProperty('cursor');
    const replies = await Promise.all(Array.from({ length: 60 }, (_, index) => raw.reply(index + 3)));
    const refused = replies.filter(({ problem }) => problem !== undefined);
    expect(new Set(refused.map(({ problem }) => problem.code))).toEqual(new Set(['rate-limited']));
    // 40 in 2 s, and what the time of the test itself lets through.
    expect(refused.length).toBeGreaterThan(0);
    expect(replies.length - refused.length).toBeGreaterThanOrEqual(40);
  });

  it('are told to hooks, and leave nothing of what was withdrawn for those that have not fetched it', async () => {
    const { backend } = service;
    const before = (await backend.fetchFeed('bureau', { most: 100, waitS: 0 })).events;
    if (before.length > 0)
      await backend.acknowledge(
        'bureau',
        before.map(({ id }) => id),
      );
    const { cursor } = await backend.publish({ channel: chat, data: { text: 'secret' } });
    await backend.revise({ channel: chat, cursor, data: { text: 'more secret' } });
    await backend.withdraw({ channel: chat, cursor, reason: 'said too much' });
    const { events } = await backend.fetchFeed('bureau', { most: 10 });
    expect(events.map(({ type }) => type)).toEqual(['ninebells.changed', 'ninebells.changed']);
    expect(JSON.stringify(events)).not.toContain('secret');
    expect(events[1]?.data).toMatchObject({ cursor, withdrawn: true, reason: 'said too much' });
  });

  it('are explained, with the message that they are about', async () => {
    const { backend } = service;
    const { cursor } = await backend.publish({ channel: chat, data: { text: 'x' }, by: { user: 'mira' } });
    const explained = async (user: string, more: object = {}) => {
      const { allowed, evaluation } = await backend.explain('revise', chat, { user, ...more });
      return [allowed, evaluation?.asks, evaluation?.found];
    };
    const asks = "the message's author, within 15 min";
    expect(await explained('mira', { cursor })).toEqual([true, asks, expect.stringMatching(/^by mira, \d+ s ago$/)]);
    expect(await explained('pia', { cursor })).toEqual([false, asks, expect.stringMatching(/^by mira, /)]);
    expect(await explained('pia')).toEqual([true, asks, 'by pia, 0 s ago']);
    expect(await codeOf(backend.explain('publish', chat, { user: 'pia', cursor }))).toBe('bad-value');
  });

  it('are counted as unread no more when they are withdrawn', async () => {
    const pia = await come(service, 'pia');
    const { backend } = service;
    const channel = 'race/8/chat';
    const said = await Promise.all(['a', 'b', 'c'].map((each) => backend.publish({ channel, data: { text: each } })));
    await pia.mark(channel, said[0]?.cursor as string);
    const unread = pia.unread();
    await until(() => unread.counts.get(channel) === 2);
    await backend.withdraw({ channel, cursor: said[2]?.cursor as string });
    await until(() => unread.counts.get(channel) === 1);
  });

  it('are made and shown by commands', async () => {
    const env = { NINEBELLS_URL: service.url, NINEBELLS_KEY: service.key };
    const run = async (...args: string[]) => (await ninebells(args, env)).out;
    const channel = 'race/9/chat';
    const said = await run('publish', channel, '--text', 'Petrel wins', '--by', 'mira:Mira Holt');
    const cursor = /as (\S+)/.exec(said)?.[1] as string;
    const [volume] = cursor.split(':');
    expect(await run('revise', channel, cursor, '--text', 'Knot wins', '--by', 'mira:Mira Holt')).toBe(
      `Revised ${cursor} in ${channel}, as ${volume}:2\n`,
    );
    expect(await run('read', channel)).toMatch(/Mira Holt Knot wins \(revised at \S+\)\n$/);
    expect(await run('revisions', channel, cursor)).toMatch(/as published +\S+ +Mira Holt +Petrel wins/);
    const late = await ninebells(['revise', channel, cursor, '--text', 'x', '--if-revision', 'none'], env);
    expect([late.code, late.err]).toEqual([3, expect.stringContaining('the message was last changed at')]);
    expect(await run('withdraw', channel, cursor, '--reason', 'not decided yet')).toContain(`Withdrew ${cursor}`);
    expect(await run('read', channel)).toMatch(/Mira Holt \(withdrawn by an application at \S+: not decided yet\)\n$/);
    expect(await run('read', channel, '--after', cursor, '--json')).toMatch(/"withdrawn":true/);
    expect(await run('revisions', channel, cursor)).toBe('');
    expect(await run('explain', 'withdraw', channel, '--user', 'mira', '--cursor', cursor)).toMatch(/author/);
  });

  it('stand in the stream of a page without the SDK', async () => {
    const { backend, url } = service;
    const first = await backend.publish({ channel: wind, data: 'breeze' });
    await backend.revise({ channel: wind, cursor: first.cursor, data: 'gale' });
    const abort = new AbortController();
    clean.push(() => abort.abort());
    const headers = { 'last-event-id': first.cursor };
    const { body } = await fetch(`${url}/line/listen?channel=${wind}`, { headers, signal: abort.signal });
    let told = '';
    const read = async (): Promise<void> => {
      for await (const chunk of body as unknown as AsyncIterable<Uint8Array>) told += Buffer.from(chunk).toString();
    };
    read().catch(() => {});
    await until(() => /^event: change\ndata: \{"on":"change".*"data":"gale".*\n\nid: \S+\nevent: entered/m.test(told));
    await backend.withdraw({ channel: wind, cursor: first.cursor });
    await until(() => /\nid: \S+\nevent: change\ndata: \{"on":"change".*"withdrawn":true/.test(told));
  });

  it('are allowed by each to its own in direct channels', async () => {
    const mira = await come(service, 'mira');
    const raw = await (await RawLine.open(service.url)).hello({ token: await service.token('pia') });
    clean.push(() => raw.socket.close());
    const entry = mira.direct(['pia']);
    const { cursor } = await entry.publish('hello');
    raw.send({ do: 'withdraw', id: 2, channel: entry.channel, cursor });
    expect((await raw.reply(2)).problem.code).toBe('not-allowed');
    expect(await entry.withdraw(cursor)).toHaveProperty('cursor');
  });

  const rule = (more: string): string =>
    `tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }\nchannels:\n  - { pattern: a, ${more} }\n`;
  it.each([
    ['allow: { revise: { author: within a week } }', /expected always, or within a time such as within 15m/],
    ['allow: { publish: { author: always } }', /author is for acts about a message/],
    ['allow: { enter: anyone }, revisions: kept', /only channels with a kept logbook keep earlier revisions/],
  ])('are not configured wrongly: %s', (more, fault) => {
    expect(() => parseConfiguration(rule(more), 'bells.yaml')).toThrow(fault);
  });
});

describe.skipIf(!redisIsThere)('changes of messages, of two instances', () => {
  it('come to all of them, kept or in Redis, of which nothing is left there that was withdrawn', async () => {
    const redis = await RealRedis.start();
    clean.push(() => redis.remove());
    const folder = mkdtempSync(join(tmpdir(), 'bells-changes-'));
    const all: StartedService[] = [];
    clean.push(async () => {
      for (const each of all) await each.stop();
      rmSync(folder, { recursive: true, force: true });
    });
    for (const name of ['i1', 'i2'])
      all.push(
        await startService({ folder, relay: redis.url, text: text.replace('port: 0,', `port: 0, instance: ${name},`) }),
      );
    const [one, two] = all as [StartedService, StartedService];
    await until(() => all.every(({ service: { engine } }) => engine.cluster.instances.length === 2));
    for (const channel of [chat, wind]) {
      const mira = await seen(await come(one, 'mira'), channel, {});
      const pia = await seen(await come(two, 'pia'), channel, {});
      const { cursor } = await mira.entry.publish({ text: 'the secret start' });
      await mira.entry.publish({ text: 'and on' });
      const { cursor: revision } = await mira.entry.revise(cursor, { text: 'the secret finish' });
      // Two at once: one of them.
      const both = [mira.entry, mira.entry].map((each) =>
        codeOf(each.revise(cursor, { text: 'the secret mark' }, { ifRevision: revision })),
      );
      expect((await Promise.all(both)).sort()).toEqual(['conflict', 'done']);
      await mira.entry.withdraw(cursor);
      await until(() => pia.changes.length === 3);
      const late = await seen(await come(two, 'jory'), channel);
      expect(late.messages).toMatchObject([{ data: null, withdrawn: true }, { data: { text: 'and on' } }]);
    }
    const keys = await redis.ask<string[]>(['KEYS', '*']);
    const records = await Promise.all(keys.map((key) => redis.ask(['XRANGE', key, '-', '+']).catch(() => '')));
    expect(JSON.stringify(records)).toContain('and on');
    expect(JSON.stringify(records)).not.toMatch(/secret/);
  });
});
