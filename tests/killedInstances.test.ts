import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type Line, type ReceivedMessage } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { parseConfiguration, signToken } from '@nine-bells/service';
import { closeCodes } from '@nine-bells/wire';
import { afterEach, describe, expect, it } from 'vitest';
import { Balancer } from './support/balancer.js';
import { serve } from './support/command.js';
import { RawLine } from './support/rawLine.js';
import { postgresIsThere } from './support/realPostgres.js';
import { RealRedis, redisIsThere } from './support/realRedis.js';
import { openLine, pontoonText, type StartedService, startService } from './support/service.js';
import { makeMigratedDatabase } from './support/shared.js';
import { until, wait } from './support/until.js';

const quick = { backOff: { firstMs: 20, maxMs: 200 } };

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const come = ({ token, ...started }: StartedService, user: string, url = started.url): Promise<Line> =>
  openLine(clean, { url, token }, user, quick);

describe.skipIf(!redisIsThere)('an instance', () => {
  it.each(['SIGKILL', 'SIGSTOP'] as const)(
    'that ends by %s under load takes no message with it: everybody has all, once, in one order',
    async (signal) => {
      const redis = await RealRedis.start();
      clean.push(() => redis.remove());
      const folder = mkdtempSync(join(tmpdir(), 'bells-killed-'));
      const urls: string[] = [];
      const all: Awaited<ReturnType<typeof serve>>[] = [];
      for (const name of ['i1', 'i2']) {
        const own = pontoonText.replace('port: 0,', `port: 0, instance: ${name},`);
        const started = await serve(folder, 0, { text: own, args: ['--relay', redis.url] });
        all.push(started);
        urls.push(started.url);
      }
      clean.push(async () => {
        for (const { command } of all) command.process.kill('SIGKILL');
        for (const { command } of all) await command.ended;
        rmSync(folder, { recursive: true, force: true });
      });
      const [first, second] = all as [(typeof all)[number], (typeof all)[number]];
      const balancer = await Balancer.start(urls);
      clean.push(() => balancer.stop());
      const backend = new Backend(second.url, { key: first.key });
      const tokens = (user: string) => () => tokenOf(user);

      const lines = Array.from({ length: 8 }, (_, n) =>
        connect(balancer.url, { token: tokens(`user-${n}`), ...quick, backOff: { firstMs: 50, maxMs: 500 } }),
      );
      clean.push(() => lines.forEach((line) => void line.close()));
      const channels = ['race/3/chat', 'pontoon/north'];
      const seen = channels.map(() => lines.map((): ReceivedMessage[] => []));
      for (const [index, channel] of channels.entries())
        for (const [n, line] of lines.entries()) {
          const entry = line.enter(channel);
          entry.addEventListener('message', ({ detail }) => seen[index]?.[n]?.push(detail));
          entry.addEventListener('gap', ({ detail }) => expect.fail(`a gap in ${channel}: ${detail.why}`));
          await entry.ready;
        }
      const published: Promise<{ id: string }>[] = [];
      const endMs = Date.now() + 4_000;
      let isDown = false;
      let crossing = 0;
      for (let n = 0; Date.now() < endMs; n++) {
        // 500 a second, from the clients of both instances.
        for (const channel of channels) published.push((lines[n % lines.length] as Line).publish(channel, n));
        await wait(4);
        if (!isDown && Date.now() > endMs - 2_500) {
          isDown = true;
          crossing = published.length - 2 * lines.length;
          first.command.process.kill(signal);
          urls.splice(0, 1);
        }
      }
      if (signal === 'SIGSTOP') {
        // Connections to a process that does not answer are noticed by its silence; here they are cut by the balancer.
        balancer.cut(first.url);
        await wait(5_000);
        first.command.process.kill('SIGCONT');
      }
      await Promise.all(published);
      const count = published.length / channels.length;
      await until(() => seen.every((each) => each.every((one) => one.length >= count)));
      for (const each of seen) {
        const cursors = each.map((one) => one.map(({ cursor }) => cursor));
        for (const one of cursors) expect(one).toEqual(cursors[0]);
        expect(new Set(cursors[0]).size).toBe(count);
      }
      // The story of a message that crossed it: who was there got it at once, the others when they came back.
      const { id } = (await published[crossing]) as { id: string };
      const told = await Promise.all(lines.map((_, n) => backend.trace(id, { user: `user-${n}` })));
      for (const { instances, user } of told) {
        expect(instances.map(({ instance }) => instance)).toContain('i2');
        expect(user?.sentence).toMatch(/was handed it at|got it at|recovered it at|got it: the session came back/);
      }
      // Whoever was on it is on the other now, and nobody is shown twice or is left behind.
      await until(async () => (await backend.members('pontoon/north')).count === lines.length);
      for (const line of lines.slice(4)) line.close();
      await until(async () => (await backend.members('pontoon/north')).count === 4);
    },
  );

  it('that was stopped decides nothing that was sent meanwhile before it knows what the others decided', async () => {
    const redis = await RealRedis.start();
    clean.push(() => redis.remove());
    const folder = mkdtempSync(join(tmpdir(), 'bells-stopped-'));
    const database = postgresIsThere ? await makeMigratedDatabase() : undefined;
    const args = ['--relay', redis.url, ...(database === undefined ? [] : ['--database', database])];
    const start = (name: string) =>
      serve(folder, 0, { text: pontoonText.replace('port: 0,', `port: 0, instance: ${name},`), args });
    const [stopped, other] = [await start('i1'), await start('i2')];
    clean.push(async () => {
      for (const { command } of [stopped, other]) command.process.kill('SIGKILL');
      for (const { command } of [stopped, other]) await command.ended;
      rmSync(folder, { recursive: true, force: true });
    });
    const backend = new Backend(other.url, { key: other.key });
    await until(async () => (await backend.instances()).instances.length === 2);
    const oona = await (await RawLine.open(stopped.url)).hello({ token: await tokenOf('oona') });
    clean.push(() => oona.socket.terminate());
    const { key, id } = await backend.makeKey({ name: 'bureau', rights: ['publish'] });
    await until(async () => {
      const bureau = new Backend(stopped.url, { key });
      return bureau.publish({ channel: 'race/3/chat', data: 'before' }).then(
        () => true,
        () => false,
      );
    });
    oona.send({ do: 'publish', id: 2, channel: 'race/3/chat', data: 'before' });
    await oona.reply(2);

    stopped.command.process.kill('SIGSTOP');
    for (let n = 3; n < 30; n++) oona.send({ do: 'publish', id: n, channel: 'race/3/chat', data: 'late' });
    const erasure = await backend.erase({ user: 'oona' });
    await until(async () => (await backend.erasure(erasure.id)).endedAt !== undefined);
    await backend.revokeKey(id);
    const bureau = new Backend(stopped.url, { key });
    const requests = Array.from({ length: 5 }, () => bureau.publish({ channel: 'race/3/chat', data: 'late' }));
    const refused = Promise.all(
      requests.map((each) =>
        each.then(
          () => 'done',
          (error: { problem: { code: string } }) => error.problem.code,
        ),
      ),
    );
    await wait(1_500);
    stopped.command.process.kill('SIGCONT');
    // While it has not caught up, it may also say that it cannot take anything just now.
    expect((await refused).filter((code) => code !== 'busy' && code !== 'key-invalid')).toEqual([]);
    expect((await oona.closed()).code).toBe(closeCodes.tokenEnded);
    const { messages } = await backend.read('race/3/chat', { limit: 100 });
    expect(messages.filter(({ data }) => data === 'late')).toEqual([]);
  });

  it('that ends without a word has its members leave everywhere when its lease is over, noted once', async () => {
    const redis = await RealRedis.start();
    clean.push(() => redis.remove());
    const folder = mkdtempSync(join(tmpdir(), 'bells-dead-'));
    const noted = `${pontoonText}
  - { pattern: deck/:name, logbook: kept, presence: { grace: 1s, noted: true }, allow: { enter: anyone, read: anyone } }
`;
    const dying = await serve(folder, 0, { text: noted, args: ['--relay', redis.url] });
    clean.push(() => dying.command.process.kill('SIGKILL'));
    const all: StartedService[] = [];
    for (const instance of ['i2', 'i3'])
      all.push(
        await startService({
          folder: join(folder, 'data'),
          relay: redis.url,
          text: noted.replace('port: 0,', `port: 0, instance: ${instance},`),
        }),
      );
    clean.push(async () => {
      for (const each of all) await each.stop();
      rmSync(folder, { recursive: true, force: true });
    });
    const [two, three] = all as [StartedService, StartedService];
    await until(() => two.service.engine.cluster.instances.length === 3);
    const [mira, tomas] = [await come(two, 'mira'), await come(three, 'tomas')];
    const decks = [mira.enter('deck/1'), tomas.enter('deck/1')];
    for (const deck of decks) await deck.ready;
    await come(two, 'pia', dying.url).then((pia) => pia.enter('deck/1').ready);
    await until(() => decks.every(({ count }) => count === 3));
    const notes = async (wanted: string) => {
      const { messages } = await two.backend.read('deck/1');
      return messages.filter(({ type, by }) => type === wanted && by?.user === 'pia').length;
    };
    await until(async () => (await notes('joined')) === 1);
    dying.command.process.kill('SIGKILL');
    await until(() => decks.every(({ count }) => count === 2));
    await wait(500);
    expect(await notes('left')).toBe(1);
    expect((await two.backend.instances()).instances.map(({ instance }) => instance)).toEqual(['i2', 'i3']);
  });
});

function tokenOf(user: string): Promise<string> {
  const { tokens } = parseConfiguration(pontoonText, 'bells.yaml');
  return signToken(tokens, { user, forMs: 60_000 });
}
