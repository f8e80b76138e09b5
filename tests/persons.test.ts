import { mkdtempSync, readdirSync, readFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type ReceivedChange } from '@nine-bells/client';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ninebells } from './support/command.js';
import { postgresIsThere } from './support/realPostgres.js';
import { type StartedService, startService } from './support/service.js';
import { makeMigratedDatabase } from './support/shared.js';
import { until } from './support/until.js';

const text = `
service: { port: 0, guests: true }
users: { direct: anyone }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
feeds: { bureau: { events: [message, changed] } }
channels:
  - pattern: "race/:race/chat"
    logbook: kept
    presence: { noted: true, grace: 1s }
    marks: shown
    revisions: kept
    replies: true
    allow: { enter: anyone, publish: signed-in, revise: { author: always }, withdraw: signed-in, moderate: { role: committee } }
  - { pattern: "protest/:case", logbook: kept, allow: { enter: anyone, publish: signed-in } }
  - { pattern: "direct/:users", direct: true, logbook: kept }
`;
const name = 'Oona Quill';

/** Everything that there is of Oona: messages in three channels, a change, marks, notices, a report, an ended ban. */
async function live(service: StartedService): Promise<void> {
  const { backend, url, token } = service;
  const by = { user: 'oona', name };
  const line = connect(url, { token: () => token('oona', 60_000, { name }) });
  const chat = line.enter('race/3/chat');
  await chat.ready;
  const first = await chat.publish({ text: 'I am Oona' });
  await chat.revise(first.cursor, { text: 'It is me, Oona' });
  await chat.publish({ text: 'And on' }, { key: 'oonas-key', replyTo: first });
  for (let n = 0; n < 120; n++) await backend.publish({ channel: 'race/4/chat', data: { n }, by });
  const pia = connect(url, { token: () => token('pia') });
  await pia.opened();
  await line.direct(['pia']).publish('Between us');
  pia.close();
  await backend.publish({ channel: 'protest/7', data: 'Protest!', by });
  await backend.hold({ channel: 'protest/7', by });
  const other = await backend.publish({ channel: 'race/3/chat', data: { text: 'Rude' }, by: { user: 'jory' } });
  await line.withdraw('race/3/chat', other.cursor, { reason: 'rude' });
  await line.mark('race/3/chat', first.cursor);
  await backend.notify({ users: ['oona'], title: 'At 17:30' });
  await line.report(
    'race/4/chat',
    (await backend.read('race/4/chat', { limit: 1 })).messages[0]?.cursor as string,
    'x',
  );
  await backend.report({ channel: 'race/3/chat', cursor: first.cursor, by: { user: 'jory' } });
  const { id } = (await backend.ban({ user: 'oona', channel: 'race/9/chat', by })) as never as { id: string };
  const [ban] = (await backend.bans()).bans;
  await backend.unban(ban?.id ?? id);
  const { events } = await backend.fetchFeed('bureau', { most: 5, waitS: 0 });
  await backend.acknowledge(
    'bureau',
    events.map((each) => each.id),
  );
  await until(async () => (await backend.members('race/3/chat')).members.some(({ user }) => user === 'oona'));
  await new Promise((resolve) => setTimeout(resolve, 300));
  // Names of users who have connected are stored a second later.
  await service.service.engine.inboxes.settled();
}

const kinds: readonly (readonly [string, boolean])[] = [
  ['SQLite', true],
  ['PostgreSQL', postgresIsThere],
];
describe.each(kinds.filter(([, isThere]) => isThere))('a person, in %s', (kind) => {
  let service: StartedService;
  let database: string | undefined;
  const folder = mkdtempSync(join(tmpdir(), 'bells-person-'));
  const start = async (): Promise<StartedService> => {
    const shared = database === undefined ? '' : `database: ${JSON.stringify(database)}, `;
    return startService({ folder, text: text.replace('service: { ', `service: { ${shared}`) });
  };
  beforeAll(async () => {
    if (kind === 'PostgreSQL') database = await makeMigratedDatabase();
    service = await start();
    await live(service);
  });
  afterAll(() => service.remove());
  const env = () => ({ NINEBELLS_URL: service.url, NINEBELLS_KEY: service.key });

  it('is given as a whole, which stands in the audit log', async () => {
    const { code, out } = await ninebells(['person', 'oona'], env());
    expect(code).toBe(0);
    const all = JSON.parse(out);
    expect(all).toMatchObject({
      user: 'oona',
      sessions: [{ user: 'oona', name }],
      records: {
        known: [{ name }],
        notices: [{ title: 'At 17:30' }],
        marks: expect.arrayContaining([{ channel: 'race/3/chat', cursor: expect.any(String) }]),
        bans: [{ type: 'ban', channel: 'race/9/chat' }],
        reportsMade: [{ channel: 'race/4/chat', reason: 'x' }],
        reportsAbout: expect.arrayContaining([expect.objectContaining({ channel: 'race/3/chat' })]),
        changes: [{ channel: 'race/3/chat' }, { channel: 'race/3/chat' }],
      },
    });
    expect(all.messages.filter(({ type }: { type: string }) => type === 'message')).toHaveLength(124);
    const [first, answer] = all.messages.filter(({ channel }: { channel: string }) => channel === 'race/3/chat');
    expect(answer).toMatchObject({ data: { text: 'And on' }, replyTo: first.cursor, thread: first.cursor });
    expect(answer).not.toHaveProperty('answers');
    expect((await service.backend.audit({ user: 'oona' })).entries[0]).toMatchObject({ type: 'export', user: 'oona' });
    const key = await service.backend.makeKey({ name: 'reader', rights: ['read'] });
    for (const command of [['person', 'oona'], ['forget', 'oona'], ['erasures']])
      expect((await ninebells(command, { ...env(), NINEBELLS_KEY: key.key })).code).toBe(3);
  });

  it('is erased everywhere, though interrupted and writing just now, and the report says what was', async () => {
    const pia = connect(service.url, { token: () => service.token('pia'), backOff: { firstMs: 20, maxMs: 100 } });
    const changes: ReceivedChange[] = [];
    const chat = pia.enter('race/3/chat', { last: 10 });
    chat.addEventListener('change', ({ detail }) => changes.push(detail));
    await chat.ready;
    const begun = await service.backend.erase({ user: 'oona' });
    expect(await service.backend.erase({ user: 'oona', messages: 'blank' })).toMatchObject({ id: begun.id });
    await until(() => changes.length > 0);
    // The process ends in the middle of it; meanwhile the user has written once more.
    await service.backend.publish({ channel: 'race/4/chat', data: 'still here', by: { user: 'oona', name } });
    await service.stop();
    pia.close();
    service = await start();
    await service.service.engine.eraser.takeUp();
    const ended = await until(async () => {
      await service.service.engine.eraser.takeUp();
      const found = await service.backend.erasure(begun.id);
      return found.endedAt === undefined ? undefined : found;
    });
    expect(ended).not.toHaveProperty('user');
    expect(ended.held).toEqual(['protest/7']);
    expect(ended.counts).toMatchObject({ changes: 2, marks: expect.any(Number), notices: 1, reports: 1 });
    // That she left may have been noted, too.
    expect(ended.counts.messages).toBeGreaterThanOrEqual(124);
    const { out } = await ninebells(['erasures'], env());
    expect(out).toMatch(
      /Erased: 12\d messages withdrawn, 2 changes of messages,.*left in exempted channels: protest\/7\.\n/,
    );
    for (const channel of ['race/3/chat', 'race/4/chat', 'direct/oona,pia'])
      for (const { type, data, by, withdrawn } of (await service.backend.read(channel, { limit: 200 })).messages)
        if (by?.user === 'erased:user' && type === 'message') expect([data, withdrawn]).toEqual([null, true]);
        else expect(by?.user).not.toBe('oona');
    expect(JSON.stringify(changes)).toMatch(/erased:user/);
    // Nothing is left but what has to be: the exempted channel, and that old tokens are not taken.
    await ninebells(['end-hold', 'protest/7'], env());
    const left = JSON.parse((await ninebells(['person', 'oona'], env())).out);
    const { audit, cutoffs, ...records } = left.records;
    expect(Object.values(records).flat()).toEqual([]);
    expect([cutoffs.length, audit.map(({ type }: { type: string }) => type)]).toEqual([1, ['export']]);
    expect(left.messages).toMatchObject([{ channel: 'protest/7' }]);
    expect(JSON.stringify((await service.backend.audit({ limit: 200 })).entries.slice(2))).not.toContain('oona"');
    expect((await service.backend.notify({ users: ['oona'], title: 'Again' })) as object).toBeDefined();

    // Once more, with what was exempted; blanked this time.
    const again = await ninebells(['forget', 'oona', '--blank'], env());
    expect(again.out).toMatch(/^Erased: 1 messages blanked/);
    expect((await service.backend.read('protest/7')).messages).toMatchObject([
      { data: 'Protest!', by: { user: 'erased:user' } },
    ]);
    if (kind !== 'SQLite') return;
    await service.stop();
    for (const file of readdirSync(folder).filter((each) => each.startsWith('bells.sqlite')))
      for (const word of [name, 'It is me', 'oonas-key', 'Between us'])
        expect([word, readFileSync(join(folder, file)).includes(word)]).toEqual([word, false]);
  });
});
