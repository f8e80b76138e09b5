import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type EntryGap } from '@nine-bells/client';
import sqlite3 from 'sqlite3';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ninebells } from './support/command.js';
import { type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

const dayMs = 86_400_000;
const text = (chat: string) => `
service: { guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
keep: { notices: 10d }
channels:
  - { pattern: "race/:race/chat", logbook: kept, allow: { enter: anyone, publish: anyone }, ${chat} }
  - { pattern: "protest/:case", logbook: kept, keep: { for: 30d }, allow: { enter: anyone, publish: nobody } }
  - { pattern: weather, allow: { enter: anyone } }
`;

/** Makes all that a stopped service has kept older: each message by as many days as there are after it, and 20 more. */
function age(folder: string): Promise<void> {
  const database = new sqlite3.Database(join(folder, 'bells.sqlite'));
  return new Promise((resolve, reject) =>
    database.exec(
      `UPDATE messages SET at_ms = at_ms - ${dayMs} * (20 + (SELECT head FROM channels WHERE id = channel_id) - number);
       UPDATE notices SET at_ms = at_ms - 20 * ${dayMs}`,
      (error) => {
        database.close();
        if (error === null) resolve();
        else reject(error);
      },
    ),
  );
}

describe('what is kept', () => {
  const folder = mkdtempSync(join(tmpdir(), 'bells-kept-'));
  let service: StartedService;
  const env = () => ({ NINEBELLS_URL: service.url, NINEBELLS_KEY: service.key });
  const old = { chat: '', unread: 0 };

  beforeAll(async () => {
    const before = await startService({ folder, text: text('about: chat') });
    for (const channel of ['race/3/chat', 'protest/7', 'protest/8'])
      for (let n = 1; n <= 20; n++) {
        const { cursor } = await before.backend.publish({ channel, data: n });
        if (channel === 'race/3/chat' && n === 2) old.chat = cursor;
      }
    await before.backend.mark('pia', 'race/3/chat', old.chat);
    await before.backend.notify({ users: ['pia'], title: 'Long ago' });
    await before.stop();
    await age(folder);
    service = await startService({ folder, text: text('keep: { messages: 5 }') });
  });
  afterAll(() => service.remove());

  it('is spared where it is exempted, told beforehand, and then pruned', async () => {
    expect(await ninebells(['holds'], env())).toMatchObject({ code: 0, out: '' });
    const held = await ninebells(['hold', 'protest/8', '--reason', 'an appeal is pending'], env());
    expect(held.out).toMatch(/^protest\/8 is exempt from pruning since .+, by key first\.\n$/);
    expect((await ninebells(['holds'], env())).out).toMatch(/protest\/8 .* key first +an appeal is pending/);

    const dry = await ninebells(['prune', '--dry-run'], env());
    expect(dry.out).toMatch(/protest\/7 +protest\/:case +10 +\w+:10 /);
    expect(dry.out).toMatch(/race\/3\/chat +race\/:race\/chat +15 +\w+:15 /);
    expect(dry.out).toContain('Would go: 25 messages, notices: 1.');
    expect(dry.err).toContain('Exempted: protest/8');
    expect((await service.backend.read('race/3/chat')).messages).toHaveLength(20);

    expect((await ninebells(['prune'], env())).out).toContain('Goes now, in small portions: 25 messages, notices: 1.');
    await until(async () => (await service.backend.prune({ dryRun: true })).total.messages === 0);
    expect((await service.backend.read('race/3/chat')).messages.map(({ data }) => data)).toEqual([16, 17, 18, 19, 20]);
    expect((await service.backend.read('protest/8')).messages).toHaveLength(20);
    await until(async () => (await service.backend.inbox('pia')).notices.length === 0);
    const metrics = await fetch(`${service.url}/metrics`, { headers: { authorization: `Bearer ${service.key}` } });
    expect(await metrics.text()).toMatch(/bells_pruned_total\{what="messages"[^}]*\} 25/);
  });

  it('begins for clients with a gap, on every transport, and counts as unread only what is there', async () => {
    for (const transport of ['websocket', 'stream', 'poll'] as const) {
      const line = connect(service.url, { token: () => service.token('pia'), transport });
      const gaps: EntryGap[] = [];
      const entry = line.enter('race/3/chat', { after: old.chat });
      const data: unknown[] = [];
      entry.addEventListener('gap', ({ detail }) => gaps.push(detail));
      entry.addEventListener('message', ({ detail }) => data.push(detail.data));
      await entry.ready;
      await until(() => data.length === 5);
      expect([gaps.map(({ why }) => why), data]).toEqual([['expired'], [16, 17, 18, 19, 20]]);
      line.close();
    }
    expect((await service.backend.unread('pia')).channels).toMatchObject([{ channel: 'race/3/chat', unread: 5 }]);
  });

  it('is pruned again when that has ended, which stands in the audit log', async () => {
    expect((await ninebells(['end-hold', 'protest/8'], env())).out).toBe(
      'protest/8 is pruned again, as its rule says.\n',
    );
    expect(await service.backend.prune({ dryRun: true })).toMatchObject({
      channels: [{ channel: 'protest/8' }],
      held: [],
    });
    const { entries } = await service.backend.audit();
    expect(entries.slice(0, 2).map(({ type, channel, reason }) => [type, channel, reason])).toEqual([
      ['end-hold', 'protest/8', undefined],
      ['hold', 'protest/8', 'an appeal is pending'],
    ]);
  });

  it.each([
    [['hold', 'weather'], 3, 'are not kept'],
    [['hold', 'nowhere'], 3, 'no-such-channel'],
    [['hold', 'a b'], 3, 'bad-name'],
    [['end-hold', 'protest/7'], 3, 'the channel is not exempted'],
    [['prune', '--really'], 2, 'unknown option'],
  ])('%j is refused with %i, and says why', async (args, code, said) => {
    const ended = await ninebells(args, env());
    expect([ended.code, ended.err]).toEqual([code, expect.stringContaining(said)]);
  });

  it('is not pruned or exempted by keys that may not administer', async () => {
    const { key } = await service.backend.makeKey({ name: 'reader', rights: ['read', 'moderate'] });
    const asked = async (method: string, path: string, body?: object) => {
      const headers = { authorization: `Bearer ${key}`, 'content-type': 'application/json' };
      return (await fetch(service.url + path, { method, headers, ...(body && { body: JSON.stringify(body) }) })).status;
    };
    expect([
      await asked('POST', '/v1/prune', { dryRun: true }),
      await asked('POST', '/v1/holds', { channel: 'protest/7' }),
      await asked('DELETE', '/v1/holds?channel=protest/7'),
      await asked('GET', '/v1/holds'),
    ]).toEqual([403, 403, 403, 200]);
  });
});
