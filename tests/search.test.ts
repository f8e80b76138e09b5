import { Backend } from '@nine-bells/client/backend';
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
    search: true
    allow: { enter: anyone, publish: signed-in, revise: { author: always }, withdraw: { author: always } }
  - { pattern: "protest/:case", logbook: kept, search: [/statement], allow: { enter: { role: jury }, publish: signed-in } }
  - { pattern: weather, logbook: kept, allow: { enter: anyone, publish: anyone } }
`;
const chat = 'race/3/chat';
const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

/** Resolves when all that was published can be found. */
const ready = ({ backend }: StartedService): Promise<unknown> =>
  until(async () => {
    const progress = await backend.searchProgress();
    return progress.messages > 0 && progress.ready === progress.messages;
  });

describe('search', () => {
  it.each(['websocket', 'stream', 'poll'] as const)('finds what may be read, over %s', async (transport) => {
    const [service] = (await startInstances(text, clean)) as [StartedService];
    const mira = await openLine(clean, service, 'mira', { rights: { roles: ['jury'] } });
    const pia = await openLine(clean, service, 'pia', { transport });
    const said = await mira.publish(chat, { text: 'General recall of race 3' });
    await mira.publish('protest/7', { statement: 'They sailed on after the recall', text: 'recall' });
    await mira.enter(chat).ready;
    await pia.enter(chat).ready;
    const found = async (line: typeof mira, words: string, options = {}): Promise<readonly string[]> =>
      (await line.search(words, options)).hits.map(({ text: shown }) => shown);
    await ready(service);
    expect(await found(pia, 'recall')).toHaveLength(1);
    const [hit] = (await pia.search('"general recall"')).hits;
    expect(hit).toMatchObject({
      channel: chat,
      cursor: said.cursor,
      by: { user: 'mira' },
      marks: [{ from: 0, to: 14 }],
    });
    expect((await pia.read(chat, { after: hit?.after as string })).messages[0]?.cursor).toBe(said.cursor);
    expect(await found(mira, 'recall', { in: ['protest/:case'] })).toHaveLength(1);
    expect(await found(pia, 'recall', { in: ['protest/:case', chat] })).toHaveLength(1);
    await expect(pia.search('recall', { in: ['protest/7'] })).rejects.toMatchObject({ code: 'not-allowed' });
    await expect(pia.search('recall', { in: ['weather'] })).rejects.toMatchObject({ code: 'bad-value' });
    await mira.withdraw(chat, said);
    expect(await found(pia, 'recall')).toEqual([]);
  });

  it('is served by commands and HTTP, by the rights of a key, and tells how far it has come', async () => {
    const [service] = (await startInstances(text, clean)) as [StartedService];
    const { backend, url } = service;
    const run = async (...args: string[]): Promise<string> => {
      const { out } = await ninebells(args, { NINEBELLS_URL: url, NINEBELLS_KEY: service.key });
      return out;
    };
    for (const [n, by] of ['mira', 'jory', 'jory'].entries())
      await backend.publish({ channel: `race/${n}/chat`, data: { text: `Wind ${n} of the sea` }, by: { user: by } });
    await ready(service);
    expect(await run('search', '--progress')).toBe('3 of 3 messages can be found; channels that are searched: 3.\n');
    expect(await run('search', 'wind', '"of the sea"', '--by', 'mira')).toMatch(
      / {2}race\/0\/chat {2}\S+ {2}mira: \[Wind\] 0 \[of the sea\]\n/,
    );
    expect((await run('search', 'wind', '--in', 'race/:race/chat', '--json')).trim().split('\n')).toHaveLength(3);
    expect(await run('search', 'landlubber')).toBe('');
    expect(
      (await backend.search('wind', { by: ['jory'], in: ['race/1/chat', 'race/2/chat'], limit: 1 })).hits,
    ).toHaveLength(1);
    const { key } = await backend.makeKey({ name: 'press', rights: ['read:race/:race/chat'] });
    const press = new Backend(url, { key });
    expect((await press.search('wind', { in: ['race/:race/chat', 'protest/:case'] })).hits).toHaveLength(3);
    await expect(press.search('wind')).rejects.toMatchObject({ status: 403 });
    await expect(press.search('wind', { in: ['protest/7'] })).rejects.toMatchObject({ status: 403 });
    for (const words of ['', '"', '-wind', 'x'.repeat(201)])
      await expect(backend.search(words)).rejects.toMatchObject({ problem: { code: 'bad-value' } });
    expect((await backend.search(`AND "OR' NEAR( * wind:`)).hits).toEqual([]);
  });

  it.skipIf(!redisIsThere)('finds on one instance what was published on another', async () => {
    const [one, two] = await startTwo(text, clean);
    const [mira, pia] = [await openLine(clean, one, 'mira'), await openLine(clean, two, 'pia')];
    const entry = mira.enter(chat);
    await entry.ready;
    await pia.enter(chat).ready;
    const published = await Promise.all(
      Array.from({ length: 40 }, (_, n) => (n % 2 ? mira : pia).publish(chat, { text: `Wind ${n}, o'er the sea` })),
    );
    const count = async (words: string): Promise<number> => (await pia.search(words, { limit: 100 })).hits.length;
    await ready(two);
    expect(await count('wind "o\'er the sea"')).toBe(40);
    await mira.revise(chat, published[1] as (typeof published)[0], { text: 'Calm' });
    await ready(one);
    expect(await count('calm')).toBe(1);
    await mira.withdraw(chat, published[3] as (typeof published)[0]);
    expect(await count('wind')).toBe(38);
  });
});
