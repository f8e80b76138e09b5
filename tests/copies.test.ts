import { execFileSync } from 'node:child_process';
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Line } from '@nine-bells/client';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { postgresIsThere } from './support/realPostgres.js';
import { openLine, type StartedService, startService } from './support/service.js';
import { makeMigratedDatabase } from './support/shared.js';
import { until } from './support/until.js';

const text = `
service: { port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
ask: { secret: whsec_VGVzdFJlZ2F0dGFUZXN0UmVnYXR0YVRlc3RSZWdhdHRh }
feeds: { bureau: { events: [message, changed, reported, pending, left, joined] } }
channels:
  - pattern: "race/:race/chat"
    logbook: kept
    presence: { noted: true, grace: 20s }
    allow: { enter: anyone, publish: signed-in, withdraw: signed-in, invite: signed-in }
  - pattern: "desk/:name"
    logbook: kept
    review: { ask: "http://127.0.0.1:1/review", within: 1s, otherwise: hold }
    allow: { enter: anyone, publish: signed-in }
`;
const name = 'Oona Quill';
const chat = 'race/3/chat';

interface Setting {
  readonly service: StartedService;
  /** The user who is erased. */
  readonly oona: Line;
  readonly jory: Line;
}

/** A message of Oona's that waits for a moderator; its id. */
async function held({ oona }: Setting, words: string): Promise<string> {
  return oona.publish('desk/1', words).catch(({ problem }) => problem.pending);
}

/** Every place where a copy of what a user wrote is made; each leaves words of its own there. */
const copies: readonly (readonly [what: string, make: (setting: Setting, words: string) => Promise<unknown>])[] = [
  ['a message, and its event', ({ oona }, words) => oona.publish(chat, words)],
  [
    'the event of a report by another',
    async ({ oona, jory }, words) => jory.report(chat, (await oona.publish(chat, words)).cursor),
  ],
  [
    'the reason of a report, and its event',
    async ({ oona, jory }, words) => oona.report(chat, (await jory.publish(chat, 'Mine')).cursor, words),
  ],
  [
    'the reason of a withdrawal, and its event',
    async ({ oona, jory }, words) => oona.withdraw(chat, (await jory.publish(chat, 'Mine')).cursor, { reason: words }),
  ],
  ['a message that waits for a moderator, and its event', held],
  [
    'a message that a moderator has approved',
    async (setting, words) => setting.service.backend.approve(await held(setting, words)),
  ],
  [
    'a message that a moderator has refused',
    async (setting, words) => setting.service.backend.reject(await held(setting, words), { reason: 'no' }),
  ],
];

/** Everything in the database: its files, or a dump. */
async function contentsOf({ service, folder }: StartedService, database: string | undefined): Promise<string> {
  if (database !== undefined) return execFileSync('pg_dump', [database], { maxBuffer: 100_000_000 }).toString();
  await service.stop();
  const files = readdirSync(folder).filter((each) => each.startsWith('bells.sqlite'));
  return files.map((each) => readFileSync(join(folder, each), 'latin1')).join('\n');
}

/** The text around each place where words stand. */
function placesOf(contents: string, words: string): readonly string[] {
  return contents
    .split(words)
    .slice(1)
    .map((after) => `...${words}${after.slice(0, 100)}`);
}

const kinds = [['SQLite', true] as const, ['PostgreSQL', postgresIsThere] as const].filter(([, isThere]) => isThere);
describe.each(kinds)('in %s nothing is left', (kind) => {
  const clean: (() => unknown)[] = [];
  let contents: string;
  const words = (index: number, how: string): string => `zephyr${how}${index}`;

  beforeAll(async () => {
    const database = kind === 'PostgreSQL' ? await makeMigratedDatabase() : undefined;
    const shared = database === undefined ? '' : ` database: ${JSON.stringify(database)},`;
    const service = await startService({ text: text.replace('port: 0,', `port: 0,${shared}`) });
    clean.push(() => service.remove());
    const { backend } = service;
    const oona = await openLine(clean, service, 'oona', { rights: { name } });
    const setting = { service, oona, jory: await openLine(clean, service, 'jory') };
    await oona.enter(chat).ready;
    await until(async () => (await backend.read(chat)).messages.some(({ type }) => type === 'joined'));
    for (const [index, [, make]] of copies.entries()) await make(setting, words(index, 'erased'));
    await oona.invite(chat, { user: 'jory' });
    // Withdrawn and taken back by Oona herself.
    const { cursor } = await oona.publish(chat, words(0, 'withdrawn'));
    await setting.jory.report(chat, cursor);
    await oona.withdraw(chat, cursor);
    await oona.takeBack(await held(setting, words(0, 'takenback')));
    await until(async () => ((await service.service.engine.store.hooks.hookFigures()).bureau?.waiting ?? 0) > 10);
    const { id } = await backend.erase({ user: 'oona' });
    await until(async () => (await backend.erasure(id)).endedAt !== undefined);
    // The note that she left, long before the grace is over.
    await until(async () =>
      (await backend.read(chat)).messages.some(({ type, by }) => type === 'left' && by?.user === 'erased:user'),
    );
    contents = await contentsOf(service, database);
  });
  afterAll(async () => {
    for (const each of clean.splice(0).reverse()) await each();
  });

  it.each(copies.map(([what], index) => [what, index] as const))('of %s', (_, index) => {
    expect(placesOf(contents, words(index, 'erased'))).toEqual([]);
  });

  it.each([
    ['what was withdrawn', words(0, 'withdrawn')],
    ['what was taken back', words(0, 'takenback')],
    ['the name of an erased user', name],
  ])('of %s', (_, each) => {
    expect(placesOf(contents, each)).toEqual([]);
  });
});
