import { channelName } from '@nine-bells/wire';
import { afterEach, beforeAll, describe, expect, it } from 'vitest';
import { FaultyWay } from '../../../tests/support/faultyWay.js';
import { PgBouncer, pgBouncerIsThere } from '../../../tests/support/pgBouncer.js';
import { type PostgresDatabases, postgresIsThere, RealPostgres } from '../../../tests/support/realPostgres.js';
import { makeMigratedDatabase, sharedPostgres } from '../../../tests/support/shared.js';
import { until } from '../../../tests/support/until.js';
import { Database, type Reads } from '../src/store/database.js';
import { DatabaseLease } from '../src/store/databaseLease.js';
import { SqlStore } from '../src/store/sqlStore.js';

const chat = channelName('race/3/chat');
const signals = channelName('race/3/signals');
const all = { messages: 1000, bytes: 10_000_000 };
const unavailable = { problem: { code: 'unavailable', retryAfterMs: 1000 } };

describe.skipIf(!postgresIsThere)('in PostgreSQL', () => {
  let postgres: PostgresDatabases;
  beforeAll(async () => {
    postgres = await sharedPostgres();
  });
  const clean: (() => unknown)[] = [];
  afterEach(async () => {
    for (const each of clean.splice(0).reverse()) await each();
  });

  const open = async (url: string, waits?: (why: string) => void): Promise<Database> => {
    const database = await Database.open({ data: '/nowhere', sqliteSynchronous: 'full', database: url }, waits);
    clean.push(() => database.close());
    return database;
  };
  /** A server of its own, for a test that breaks it. */
  const ownServer = async (): Promise<RealPostgres> => {
    const own = await RealPostgres.start();
    clean.push(() => own.remove());
    return own;
  };
  const wayTo = async (port: number): Promise<FaultyWay> => {
    const way = await FaultyWay.start(port);
    clean.push(() => way.stop());
    return way;
  };

  it('takes its shape once, whoever starts at the same time', async () => {
    const url = await postgres.makeDatabase();
    const databases = await Promise.all(Array.from({ length: 4 }, () => open(url)));
    const facts = await Promise.all(databases.map(({ models }) => models.facts.findAll({ raw: true })));
    for (const each of facts) expect(each).toEqual(facts[0]);
  });

  it('is waited for at the start, with a message', async () => {
    const postgres = await ownServer();
    const url = await postgres.makeDatabase();
    await postgres.stop();
    const messages: string[] = [];
    const opening = open(url, (why) => messages.push(why));
    await until(() => messages.length > 0);
    expect(messages[0]).toMatch(/^the database test_\w+ at 127\.0\.0\.1:\d+ does not answer: .*ECONNREFUSED/);
    await postgres.begin();
    expect(await (await opening).reads.select('SELECT 1 AS one')).toEqual([{ one: 1 }]);
  });

  it('is not waited for where there is no such database', async () => {
    const messages: string[] = [];
    const url = `${await postgres.makeDatabase()}_missing`;
    await expect(open(url, (why) => messages.push(why))).rejects.toThrow('does not exist');
    expect(messages).toEqual([]);
  });

  it('says `unavailable` while it is away, and goes on by itself', async () => {
    const postgres = await ownServer();
    const database = await open(await postgres.makeDatabase());
    const one = (reads: Reads) => reads.select('SELECT 1 AS one');
    const probe = () => database.write(async (reads) => ({ statements: [], result: await one(reads) }));
    const read = () => one(database.reads);
    expect(await read()).toEqual([{ one: 1 }]);
    await postgres.stop();
    for (const attempt of [probe, read, probe, read]) await expect(attempt()).rejects.toMatchObject(unavailable);
    expect(database.health.ailment).toMatchObject({ why: expect.stringContaining('ECONNREFUSED') });
    await postgres.begin();
    expect(await probe()).toEqual([{ one: 1 }]);
    expect(await read()).toEqual([{ one: 1 }]);
    expect(database.health.ailment).toBeUndefined();
  });

  describe('when the connection ends between any two calls of a transaction', () => {
    const pieces = Array.from({ length: 12 }, (_, n) => n + 1);
    it.each(pieces.flatMap((piece) => [`before call ${piece}`, `after call ${piece}`]))(
      '%s, all of it is done once, or nothing',
      async (moment) => {
        const [when, , piece] = moment.split(' ') as ['before' | 'after', string, string];
        const url = await makeMigratedDatabase();
        const way = await wayTo(postgres.port);
        const database = await open(way.url(url));
        const store = await SqlStore.open(database);
        const acknowledged: [string, number, string][] = [];
        const publish = async (n: number): Promise<void> => {
          const channel = n % 2 === 0 ? chat : signals;
          const draft = { id: `m${n}`, type: 'message', atMs: n, dataText: `${n}`, key: `k${n}` };
          // As a client does: again with the same key, until there is an answer.
          for (let tries = 0; tries < 5; tries++)
            try {
              const { logged } = await store.messages.append(channel, draft);
              acknowledged.push([channel, logged.place.number, logged.id]);
              return;
            } catch (error) {
              expect(error).toMatchObject(unavailable);
            }
          throw new Error(`message ${n} is never taken`);
        };
        await publish(0);
        way.cutAfter(Number(piece), when);
        await Promise.all([1, 2, 3, 4].map(publish));
        await Promise.all([5, 6].map(publish));
        way.heal();

        const other = await SqlStore.open(await open(url), (error) => expect.fail(String(error)));
        for (const channel of [chat, signals]) {
          const { messages, head } = await other.messages.since(
            channel,
            { ...(await other.messages.head(channel)), number: 0 },
            all,
          );
          const mine = acknowledged.filter(([name]) => name === channel).sort((a, b) => a[1] - b[1]);
          expect(messages.map((each) => [channel, each.place.number, each.id])).toEqual(mine);
          expect(head.number).toBe(messages.length);
        }
      },
    );
  });

  it.each([
    ['stops within a transaction', (_: FaultyWay) => {}],
    ['vanishes from the network within a transaction', (way: FaultyWay) => way.swallow()],
  ])('goes on for the others when an instance %s', async (_, fault) => {
    const url = await postgres.makeDatabase();
    const way = await wayTo(postgres.port);
    const [hung, other] = [await open(way.url(url)), await open(url)];
    let goOn: () => void = () => {};
    const standstill = new Promise<void>((resolve) => {
      goOn = resolve;
    });
    const lost = hung.write(async () => {
      fault(way);
      // It has the lock, and does nothing more.
      await standstill;
      return { statements: ["INSERT INTO facts (name, value) VALUES ('late', '1')"], result: undefined };
    });
    lost.catch(() => {});
    await new Promise((resolve) => setTimeout(resolve, 200));
    const store = await SqlStore.open(other);
    await store.messages.append(chat, { id: 'm1', type: 'message', atMs: 1, dataText: '1' });
    goOn();
    await expect(lost).rejects.toMatchObject(unavailable);
    expect(await other.reads.select("SELECT * FROM facts WHERE name = 'late'")).toEqual([]);
    way.heal();
  });

  it('is waited for no longer than it may take, and then `unavailable`, frozen or silent', async () => {
    const postgres = await ownServer();
    const url = await postgres.makeDatabase();
    const way = await wayTo(postgres.port);
    const database = await open(way.url(url));
    const store = await SqlStore.open(database);
    const publish = (n: number) =>
      store.messages.append(chat, { id: `m${n}`, type: 'message', atMs: n, dataText: '1' });
    await publish(1);
    await store.messages.head(chat);
    // These connections stay silent for good; new ones would be served.
    way.silence();
    const [written, read] = await Promise.allSettled([publish(2), store.messages.head(chat)]);
    if (written.status === 'rejected') expect(written.reason).toMatchObject(unavailable);
    if (read.status === 'rejected') expect(read.reason).toMatchObject(unavailable);
    await publish(3);
    expect((await store.messages.head(chat)).number).toBeGreaterThan(1);

    postgres.pause();
    await expect(publish(4)).rejects.toMatchObject(unavailable);
    postgres.resume();
    await publish(5);
  });

  it('does not keep a process from ending that closes it while it is frozen', async () => {
    const sockets = () => process.getActiveResourcesInfo().filter((each) => each === 'TCPSocketWrap').length;
    const before = sockets();
    const postgres = await ownServer();
    const database = await open(await postgres.makeDatabase());
    await database.write(async (reads) => ({ statements: [], result: await reads.select('SELECT 1') }));
    await database.reads.select('SELECT 1');
    expect(sockets()).toBeGreaterThan(before);
    postgres.pause();
    await database.close();
    await expect.poll(sockets).toBe(before);
    postgres.resume();
  });

  it('is one instance’s alone without a relay, and those’ together that have one', async () => {
    const url = await postgres.makeDatabase();
    const databases = [await open(url), await open(url), await open(url)] as const;
    const lost: Error[] = [];
    const take = (index: 0 | 1 | 2, isLinked: boolean) =>
      DatabaseLease.take(databases[index], isLinked, (error) => void lost.push(error));
    const first = await take(0, false);
    await expect(take(1, false)).rejects.toThrow(/in use by another instance, process \d+ on .* relay/);
    await first.release();
    const linked = [await take(1, true), await take(2, true)];
    for (const each of linked) await each.release();
    // What several hold together ends by itself; one that waits for it gets it then.
    const begun = Date.now();
    const last = await take(0, false);
    expect(Date.now() - begun).toBeGreaterThan(5_000);
    // One whose lease was over, and was taken by another, is told so.
    await databases[1].write(async () => ({ statements: ["DELETE FROM facts WHERE name = 'alone'"], result: 0 }));
    const thief = await take(1, false);
    for (const endMs = Date.now() + 5_000; lost.length === 0 && Date.now() < endMs; )
      await new Promise((resolve) => setTimeout(resolve, 50));
    expect(lost).toHaveLength(1);
    for (const each of [last, thief]) await each.release();
  });

  it('goes on at a standby that was promoted, with everything that it had', async () => {
    const primary = await ownServer();
    const url = await primary.makeDatabase();
    const standby = await primary.standby();
    clean.push(() => standby.remove());
    const way = await wayTo(primary.port);
    const store = await SqlStore.open(await open(way.url(url)));
    const publish = (n: number) =>
      store.messages.append(chat, { id: `m${n}`, type: 'message', atMs: n, dataText: `${n}` });
    for (let n = 1; n <= 5; n++) await publish(n);
    for (let isThere = false; !isThere; )
      isThere = (await standby.query('SELECT 1 FROM messages WHERE number = 5', url.split('/').at(-1))).length > 0;
    await primary.stop();
    await standby.promote();
    way.leadTo(standby.port);
    expect((await publish(6)).logged.place.number).toBe(6);
    const { messages } = await store.messages.since(chat, { ...(await store.messages.head(chat)), number: 0 }, all);
    expect(messages.map(({ id }) => id)).toEqual(['m1', 'm2', 'm3', 'm4', 'm5', 'm6']);
  });

  it.skipIf(!pgBouncerIsThere)('works behind a pool that gives each transaction another connection', async () => {
    const url = await postgres.makeDatabase();
    const pool = await PgBouncer.start(postgres.port);
    clean.push(() => pool.stop());
    const databases = [await open(pool.url(url)), await open(pool.url(url))];
    const stores = await Promise.all(databases.map((each) => SqlStore.open(each)));
    const appended = await Promise.all(
      Array.from({ length: 200 }, (_, n) =>
        (stores[n % 2] as SqlStore).messages.append(chat, {
          id: `m${n}`,
          type: 'message',
          atMs: n,
          dataText: `${n}`,
          key: `k${n >> 1}`,
        }),
      ),
    );
    expect(appended.filter(({ repeated }) => repeated)).toHaveLength(100);
    expect((await (stores[0] as SqlStore).messages.head(chat)).number).toBe(100);
  });
});
