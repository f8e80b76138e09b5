import type { Line, Notice } from '@nine-bells/client';
import { afterEach, describe, expect, it } from 'vitest';
import { ninebells } from './support/command.js';
import { redisIsThere } from './support/realRedis.js';
import { openLine, type StartedService, startInstances } from './support/service.js';
import { startTwo } from './support/twoInstances.js';
import { until } from './support/until.js';

const text = `
service: { port: 0, guests: true }
users: { direct: anyone }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
channels:
  - pattern: "race/:race/chat"
    logbook: kept
    mentions: true
    allow: { enter: signed-in, publish: signed-in, mention: { role: umpire }, withdraw: { author: always } }
  - { pattern: committee, logbook: kept, mentions: true, allow: { enter: { role: umpire }, publish: signed-in } }
  - { pattern: weather, logbook: kept, allow: { enter: anyone, publish: anyone } }
`;
const chat = 'race/3/chat';
const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const come = (service: StartedService, user: string, roles: string[] = []) =>
  openLine(clean, service, user, { rights: { roles } });

/** What rings at a user, as it comes. */
async function bell(line: Line): Promise<Notice[]> {
  const rung: Notice[] = [];
  line.inbox().addEventListener('notice', ({ detail }) => rung.push(detail));
  return rung;
}

describe('mentions', () => {
  it('ring at the users they name', async () => {
    const [service] = (await startInstances(text, clean)) as [StartedService];
    const mira = await come(service, 'mira', ['umpire']);
    const [pia, tomas] = [await come(service, 'pia'), await come(service, 'tomas', ['umpire'])];
    const rung = [await bell(pia), await bell(tomas)] as const;
    const said = await mira.publish(chat, { text: 'Your oar' }, { mentions: { users: ['pia', 'nobody'] } });
    expect(said.notMentioned).toEqual({ users: ['nobody'] });
    await until(() => rung[0].length === 1);
    expect(rung[0][0]).toMatchObject({
      title: 'mira of the test mentioned you in race/3/chat',
      data: { channel: chat, cursor: said.cursor, from: 'mira' },
    });
    await mira.publish('committee', 1, { mentions: { users: ['pia', 'tomas'] } });
    await until(() => rung[1].length === 1);
    await expect(pia.publish(chat, 1, { mentions: { roles: ['umpire'] } })).rejects.toMatchObject({
      code: 'not-allowed',
    });
    await expect(mira.publish('weather', 1, { mentions: { users: ['pia'] } })).rejects.toMatchObject({
      code: 'bad-value',
    });
    expect((await pia.read(chat)).messages[0]?.mentions).toEqual({ users: ['pia'] });
    await mira.withdraw(chat, said);
    await until(() => pia.inbox().notices.length === 0);
    expect((await pia.read(chat)).messages[0]).not.toHaveProperty('mentions');
  });

  it('and levels are heard by commands and HTTP, and a digest says what was missed', async () => {
    const [service] = (await startInstances(text, clean)) as [StartedService];
    const run = (...args: string[]): Promise<string> =>
      ninebells(args, { NINEBELLS_URL: service.url, NINEBELLS_KEY: service.key }).then(({ out }) => out);
    const pia = await come(service, 'pia');
    const levels: unknown[] = [];
    pia.addEventListener('level', ({ detail }) => levels.push(detail));
    const first = await run('publish', chat, '--text', 'The start is at noon', '--by', 'mira:Mira Holt', '--json');
    await pia.mark(chat, JSON.parse(first).cursor);
    await run('publish', chat, '--text', 'Five minutes', '--by', 'mira:Mira Holt');
    expect(
      await run(
        'publish',
        chat,
        '--text',
        'Pia, your oar',
        '--by',
        'jory',
        '--mention',
        'pia',
        'bram',
        '--mention-role',
        'cook',
      ),
    ).toMatch(/^Published to race\/3\/chat as .+\n/);
    expect(await run('read', chat)).toContain('jory Pia, your oar (mentions pia, bram)\n');
    const digest = await run('digest', 'pia');
    expect(digest).toContain('race/3/chat: 2 unread, 1 mention\n');
    expect(digest).toMatch(/ {2}.+ {2}Mira Holt: Five minutes\n {2}.+ {2}jory \(to you\): Pia, your oar\n/);
    expect(await run('explain', 'mention', chat, '--user', 'pia')).toContain('refused, not-allowed');
    expect(await run('level', 'pia', chat, 'mentions', '--for', '8h')).toBe('pia hears mentions of race/3/chat.\n');
    await until(() => levels.length === 1);
    expect(levels).toMatchObject([{ channel: chat, level: 'mentions', until: expect.any(String) }]);
    expect(await run('levels', 'pia')).toMatch(/CHANNEL +LEVEL +UNTIL\nrace\/3\/chat +mentions /);
    expect(await run('digest', 'pia')).toContain('race/3/chat: 1 mention\n');
    expect([...(await pia.levels()).values()]).toMatchObject([{ channel: chat, level: 'mentions' }]);
    await pia.setLevel(chat, 'nothing');
    await until(() => levels.length === 2);
    const { backend } = service;
    expect(await backend.digest('pia')).toMatchObject({ unread: 0, mentions: 0, channels: [] });
    expect((await backend.setLevel('pia', chat, null)).levels).toEqual([]);
    expect(await backend.digest('pia', { since: new Date(Date.now() + 60_000).toISOString() })).toMatchObject({
      channels: [],
    });
    expect(await backend.digest('pia', { lines: 1, limit: 1 })).toMatchObject({
      channels: [{ unread: 2, mentions: 1, lines: [{ text: 'Five minutes' }, { mention: true }] }],
    });
    expect(await backend.digest('nobody')).toMatchObject({ unread: 0, channels: [] });
    await expect(backend.digest('pia', { since: 'noon' })).rejects.toMatchObject({ problem: { code: 'bad-value' } });
    await expect(backend.setLevel('guest:1', chat, 'nothing')).rejects.toMatchObject({
      problem: { code: 'bad-value' },
    });
  });

  it.skipIf(!redisIsThere)('ring, and keep silent, on both of two instances', async () => {
    const [one, two] = await startTwo(text, clean);
    const [here, there] = [await come(one, 'pia'), await come(two, 'pia')];
    const mira = await come(two, 'mira', ['umpire']);
    const rung = [await bell(here), await bell(there)];
    const said = await mira.publish(chat, { text: 'Your oar' }, { mentions: { users: ['pia'] } });
    await until(() => rung.every(({ length }) => length === 1));
    const heard: string[] = [];
    here.addEventListener('level', ({ detail }) => heard.push(String(detail.level)));
    await there.setLevel(chat, 'nothing', { forMs: 60_000 });
    await until(() => heard.length === 1);
    await mira.publish(chat, { text: 'Again' }, { mentions: { users: ['pia'] } });
    await one.backend.setLevel('pia', chat, null);
    await until(() => heard.length === 2);
    await mira.withdraw(chat, said);
    await until(() => here.inbox().notices.length === 0 && there.inbox().notices.length === 0);
    expect(rung.map(({ length }) => length)).toEqual([1, 1]);
    expect(await two.backend.digest('pia')).toMatchObject({ mentions: 1 });
  });
});
