import type { Line, ReceivedMessage } from '@nine-bells/client';
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
  - { pattern: "race/:race/chat", logbook: kept, allow: { enter: anyone, publish: signed-in, hail: anyone } }
  - { pattern: committee, logbook: kept, blocked: marked, allow: { enter: signed-in, publish: signed-in } }
  - { pattern: "direct/:users", logbook: kept, direct: true }
`;
const chat = 'race/3/chat';
const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const start = (more: Parameters<typeof startInstances>[2] = {}): Promise<StartedService[]> =>
  startInstances(text, clean, more);

const come = (service: StartedService, user: string): Promise<Line> => openLine(clean, service, user);

async function hears(line: Line, channel = chat) {
  const entry = line.enter(channel, { last: 100 });
  const messages: ReceivedMessage[] = [];
  entry.addEventListener('message', ({ detail }) => messages.push(detail));
  await entry.ready;
  return { entry, messages, data: () => messages.map(({ data }) => data) };
}

describe('users who keep others away', () => {
  it('hear nothing of them', async () => {
    const [service] = (await start()) as [StartedService];
    const line = await come(service, 'pia');
    const [pia, marked] = [await hears(line), await hears(line, 'committee')];
    const other = await come(service, 'pia');
    const [jory, ines] = [await come(service, 'jory'), await come(service, 'ines')];
    const told: string[][] = [];
    other.addEventListener('blocks', ({ detail }) => told.push([...detail.blocks.keys()]));
    await line.block('jory');
    await until(() => told.length === 1 && other.blocks.get('jory')?.as === 'blocked');
    await jory.publish(chat, 'hidden');
    await jory.publish('committee', 'marked');
    await ines.publish(chat, 'shown');
    await until(() => pia.messages.length === 1 && marked.messages.length === 1);
    expect(pia.data()).toEqual(['shown']);
    expect(marked.messages).toMatchObject([{ data: 'marked', blocked: 'blocked' }]);
    expect(pia.messages[0]).not.toHaveProperty('blocked');
    await line.unblock('jory');
    await jory.publish(chat, 'again');
    await until(() => pia.messages.length === 2);
    expect((await line.read(chat)).messages.map(({ data }) => data)).toEqual(['hidden', 'shown', 'again']);
    expect([line.blocks.size, other.blocks.size]).toEqual([0, 0]);
  });

  it('are served by applications and commands, which say why a message did not come', async () => {
    const [service] = (await start()) as [StartedService];
    const { backend, url, key } = service;
    const env = { NINEBELLS_URL: url, NINEBELLS_KEY: key };
    const pia = await hears(await come(service, 'pia'));
    const jory = await come(service, 'jory');
    expect((await ninebells(['block', 'pia', 'jory', '--mute'], env)).out).toBe('pia has muted jory.\n');
    const { id } = await jory.publish(chat, 'hidden');
    expect((await ninebells(['trace', id, '--user', 'pia'], env)).out).toMatch(
      /pia of the test was passed over: its user has blocked or muted jory/,
    );
    // Muted is not blocked: a notice in its name comes.
    const wish = { users: ['pia', 'ines'], title: 'An invitation', from: 'jory' };
    expect(await backend.notify(wish)).toMatchObject({ users: 2, passedOver: 0 });
    expect(await backend.block('pia', 'jory')).toMatchObject({ blocks: [{ user: 'jory', as: 'blocked' }] });
    expect(await backend.notify(wish)).toMatchObject({ users: 1, passedOver: 1 });
    expect((await ninebells(['notify', 'pia', '--title', 'x', '--from', 'jory'], env)).out).toBe(
      'Notified no user, passed over 1.\n',
    );
    expect((await ninebells(['blocks', 'pia'], env)).out).toMatch(/^USER +AS +SINCE\njory +blocked +/);
    const explained = await ninebells(['explain', 'publish', 'direct/jory,pia', '--user', 'jory'], env);
    expect(explained.out).toMatch(/jory may not start a direct channel with pia/);
    expect(JSON.parse((await ninebells(['person', 'pia'], env)).out).records.blocks).toMatchObject([
      { user: 'jory', as: 'blocked' },
    ]);
    expect((await ninebells(['unblock', 'pia', 'jory'], env)).out).toBe('pia hears jory again.\n');
    expect((await ninebells(['blocks', 'pia'], env)).err).toMatch(/pia keeps no user away/);
    await jory.publish(chat, 'again');
    await until(() => pia.messages.length === 1);
    for (const [user, other, code, as] of [
      ['pia', 'pia', 'bad-value'],
      ['guest:1', 'pia', 'bad-value'],
      ['pia', 'jory', 'bad-value', 'hated' as 'muted'],
    ] as const)
      await expect(backend.block(user, other, as)).rejects.toMatchObject({ problem: { code } });
    await backend.block('pia', 'jory');
    await backend.erase({ user: 'pia' });
    await until(async () => (await backend.blocks('pia')).blocks.length === 0);
  });
});

describe('users who keep others away, on two instances', () => {
  it.skipIf(!redisIsThere)('do so on both at once, also in what is unread', async () => {
    const [one, two] = await startTwo(text, clean);
    const [here, there] = [await come(one, 'pia'), await come(two, 'pia')];
    const [a, b] = [await hears(here), await hears(there)];
    const [jory, ines] = [await come(two, 'jory'), await come(one, 'ines')];
    const { cursor } = await ines.publish(chat, 'first');
    await here.mark(chat, cursor);
    const unread = there.unread();
    await here.block('jory');
    await until(() => there.blocks.has('jory'));
    await jory.publish(chat, 'hidden');
    await ines.publish(chat, 'shown');
    for (const each of [a, b]) {
      await until(() => each.messages.length === 2);
      expect(each.data()).toEqual(['first', 'shown']);
    }
    await until(() => unread.of(chat) === 1);
    expect(await two.backend.unread('pia')).toMatchObject({ unread: 1 });
    // A line that comes back, and pages through what there is.
    const late = await hears(await come(two, 'pia'));
    expect(late.data()).toEqual(['first', 'shown']);
    await there.unblock('jory');
    await until(() => here.blocks.size === 0);
    await until(() => unread.of(chat) === 2);
    await jory.publish(chat, 'again');
    for (const each of [a, b]) await until(() => each.data().at(-1) === 'again');
  });
});
