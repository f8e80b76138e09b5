import { mkdtempSync, readdirSync, readFileSync, renameSync, rmSync, utimesSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import {
  type ArrivalDraft,
  type Change,
  type DeliveryOutcome,
  type Draft,
  type DueWish,
  type ErasedRecord,
  LoggedMessage,
  type LogSlice,
  type ModerationAction,
  type PendingDraft,
  type PendingWish,
  type QueuedEvent,
  queryOf,
  shownOf,
  unansweredReason,
  wordsIn,
} from '@nine-bells/core';
import {
  type Cursor,
  channelName,
  type FilterValue,
  filterFits,
  type Level,
  type MessageFilter,
  type ProblemError,
} from '@nine-bells/wire';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { TermStore } from '../src/relay/termStore.js';
import { ApiKeys } from '../src/store/apiKeys.js';
import { Database } from '../src/store/database.js';
import { SqlStore } from '../src/store/sqlStore.js';
import { type Column, tables } from '../src/store/tables.js';
import { remoteStore, serveStore } from '../src/workers/remoteStore.js';

const chat = channelName('race/3/chat');
const signals = channelName('race/3/signals');
const all = { messages: 1000, bytes: 10_000_000 };
const of = (value: unknown): Pick<Draft, 'dataText'> => ({ dataText: JSON.stringify(value) });
const draft = (n: number, more: Partial<Draft> = {}): Draft => ({
  id: `m${n}`,
  type: 'message',
  atMs: n,
  ...of(n),
  ...more,
});
const arrival = (n: number, more: Partial<ArrivalDraft> = {}): ArrivalDraft => ({
  id: `a${n}`,
  intake: 'buoy',
  eventId: `e${n}`,
  atMs: n,
  method: 'POST',
  headers: { 'x-a': "it's" },
  body: '{"speed":1}',
  bytes: 11,
  hops: 0,
  heldUntilMs: 100,
  ...more,
});
const isSimple = (value: unknown): value is FilterValue => typeof value !== 'object' || value === null;
const data = ({ messages }: LogSlice): unknown[] => messages.map((each) => each.message.data);

/** A kind of database; each test has one of its own. */
export interface DatabaseKind {
  /** It is a file, and says how it would look for something as SQLite does. */
  readonly isFile: boolean;
  /**
   * Creates a database without records.
   *
   * @param folder - the data folder, for one that is a file
   */
  make(folder: string): Promise<{ readonly url: string | undefined; remove(): Promise<void> }>;
}

/** What is asked of the store, whatever database it is in. */
export function storeSuite({ make, isFile }: DatabaseKind): void {
  let folder: string;
  let url: string | undefined;
  let remove: () => Promise<void>;
  let database: Database;
  let store: SqlStore;
  const erase = (kind: ErasedRecord, user: string): Promise<number> =>
    store.persons.eraseRecords({ kind, user, erasure: 'e1', limit: 10 });

  async function open(): Promise<void> {
    database = await Database.open({ data: folder, sqliteSynchronous: 'full', database: url });
    store = await SqlStore.open(database);
  }

  beforeEach(async () => {
    folder = mkdtempSync(join(tmpdir(), 'bells-store-'));
    ({ url, remove } = await make(folder));
    await open();
  });

  afterEach(async () => {
    await database.close();
    await remove();
    rmSync(folder, { recursive: true, force: true });
  });

  describe('the store', () => {
    it('keeps a board whole, as it was saved last: an older state does not replace it, an empty one is gone', async () => {
      const record = (entry: string, number: number, more: object = {}) => ({
        entry,
        number,
        value: { n: number },
        ...more,
      });
      const saved = { volume: 'v1', number: 7, records: [record('petrel', 6, { by: 'tomas' }), record("it's", 7)] };
      expect(await store.boards.board(chat)).toBeUndefined();
      await store.boards.saveBoard(chat, saved);
      await store.boards.saveBoard(chat, { ...saved, number: 6, records: [record('petrel', 6)] });
      await store.boards.saveBoard(signals, {
        volume: 'v1',
        number: 1,
        records: [record('flag', 1, { forMs: 50_000 })],
      });
      await database.close();
      await open();
      expect(await store.boards.board(chat)).toEqual(saved);
      const [flag] = (await store.boards.board(signals))?.records ?? [];
      expect(flag?.forMs).toBeGreaterThan(30_000);
      expect(flag?.forMs).toBeLessThanOrEqual(50_000);
      // A new volume takes the place of any other.
      await store.boards.saveBoard(chat, { volume: 'v2', number: 1, records: [record('knot', 1)] });
      expect((await store.boards.board(chat))?.volume).toBe('v2');
      await store.boards.saveBoard(chat, { volume: 'v2', number: 0, records: [] });
      expect(await store.boards.board(chat)).toBeDefined();
      await store.boards.saveBoard(chat, { volume: 'v2', number: 2, records: [] });
      expect(await store.boards.board(chat)).toBeUndefined();
    });

    it('gives data back character by character, short or long, whatever JSON permits in it', async () => {
      const texts = fc.sample(fc.json({ maxDepth: 6, stringUnit: 'binary' }), 150).map((text) => of(JSON.parse(text)));
      const awkward = [
        ...['"', "it's", '\u0000', '\ud800', '\u2028', '\\"', '\u007f\u001f', '', '😀', '%s :x ?1 $1'],
        ...[null, true, false, 0, -0, 1e21, 1.5e-7, Number.MAX_SAFE_INTEGER, [], {}, [[]], { '': { b: 1, a: 2 } }],
        { '10': 1, '9': 2, 'a"b': "'" },
        'x'.repeat(998),
        'x'.repeat(999),
        { deep: JSON.parse('['.repeat(490) + ']'.repeat(490)) },
        { deeper: JSON.parse('['.repeat(3000) + ']'.repeat(3000)) },
      ].map(of);
      const given = [...texts, ...awkward];
      // Alone, and together with others: what shares a commit is written in one way.
      for (const group of [given.slice(0, -1), given.slice(-1), given])
        await Promise.all(group.map((each, n) => store.messages.append(chat, draft(n, each))));
      const expected = [...given, ...given].map(({ dataText }) => dataText);
      const found: string[] = [];
      for (let more = true, after = 0; more; after = found.length) {
        const slice = await store.messages.since(
          chat,
          { volume: (await store.messages.head(chat)).volume, number: after },
          all,
        );
        found.push(...slice.messages.map(({ text }) => text.slice(text.indexOf('"data":') + 7, -1)));
        more = slice.more;
      }
      expect(found).toEqual(expected);
    });

    it('numbers per channel in the order of the calls, whatever shares a commit', async () => {
      const appended = await Promise.all(
        Array.from({ length: 3000 }, (_, n) => store.messages.append(n % 2 ? chat : signals, draft(n))),
      );
      const places = appended.filter((_, n) => n % 2).map(({ logged }) => logged.place.number);
      expect(places).toEqual(Array.from({ length: 1500 }, (_, n) => n + 1));
      expect(
        data(await store.messages.since(chat, { ...(await store.messages.head(chat)), number: 1498 }, all)),
      ).toEqual([2997, 2999]);
      expect((await store.messages.head(signals)).number).toBe(1500);
    });

    it('goes on where another process that has the same database has got to', async () => {
      const second = await Database.open({ data: folder, sqliteSynchronous: 'full', database: url });
      const stores = [store, await SqlStore.open(second)] as const;
      const places: number[] = [];
      for (let n = 0; n < 12; n++) {
        const { logged, repeated } = await stores[Math.floor(n / 3) % 2 ? 1 : 0].messages.append(
          chat,
          draft(n, { key: `k${n}` }),
        );
        expect(repeated).toBe(false);
        places.push(logged.place.number);
      }
      expect(places).toEqual(Array.from({ length: 12 }, (_, n) => n + 1));
      // What one has kept, the other knows.
      expect(await stores[0].messages.append(chat, draft(99, { key: 'k11' }))).toMatchObject({
        repeated: true,
        logged: { place: { number: 12 } },
      });
      expect((await stores[1].messages.append(chat, draft(100))).logged.place.number).toBe(13);
      expect(data(await store.messages.before(chat, undefined, all))).toEqual([...Array(12).keys(), 100]);
      await second.close();
    });

    it('keeps everything over a restart, in the same volume', async () => {
      const { logged } = await store.messages.append(
        chat,
        draft(1, { by: { user: 'pia', name: 'Pia Lund' }, key: 'k', except: ['s'] }),
      );
      await database.close();
      await open();
      const { messages } = await store.messages.since(chat, { ...logged.place, number: 0 }, all);
      expect(messages[0]?.message).toEqual(logged.message);
      expect(messages[0]?.except).toEqual(['s']);
      expect(await store.messages.head(chat)).toEqual(logged.place);
    });

    it('has a place for a channel that nobody has published to yet, which stays when somebody does', async () => {
      const before = await store.messages.head(chat);
      expect(before.number).toBe(0);
      const { logged } = await store.messages.append(chat, draft(1));
      expect(logged.place).toEqual({ volume: before.volume, number: 1 });
      expect((await store.messages.since(chat, before, all)).gap).toBeUndefined();
    });

    it('knows a key again: within a commit, in a later one, and after a restart; per author', async () => {
      const pia = { by: { user: 'pia' }, key: 'k' };
      const [first, second] = await Promise.all([
        store.messages.append(chat, draft(1, pia)),
        store.messages.append(chat, draft(2, pia)),
      ]);
      expect([first.repeated, second.repeated]).toEqual([false, true]);
      await database.close();
      await open();
      const third = await store.messages.append(chat, draft(3, pia));
      expect(third).toMatchObject({ repeated: true, logged: { id: first.logged.id, place: first.logged.place } });
      expect((await store.messages.append(chat, draft(4, { by: { user: 'jory' }, key: 'k' }))).repeated).toBe(false);
      expect((await store.messages.append(chat, draft(5, { key: 'k' }))).repeated).toBe(false);
      expect((await store.messages.append(signals, draft(6, pia))).repeated).toBe(false);
      // Each application has keys of its own, also where it publishes in the name of the same user.
      for (const owner of ['office', 'bureau']) {
        expect((await store.messages.append(chat, draft(7, { ...pia, owner }))).repeated).toBe(false);
        expect((await store.messages.append(chat, draft(8, { ...pia, owner }))).repeated).toBe(true);
      }
    });

    it.each([
      "it's; DROP TABLE messages; --",
      'a\u0000b',
      '$1 :channel ? %s \\ "quoted" `ticked`',
      '\ud800 lone, 🎉 whole, \u2028',
      { deep: [null, true, 1e300, -0.5, ''], 'we"ird': "k'ey" },
    ])('gives back unchanged what was published: %j', async (value) => {
      const by = { user: "o'hara :x", name: '?' };
      const publish = (n: number, key: string) => store.messages.append(chat, draft(n, { ...of(value), key, by }));
      // The first of a channel is written in another way than those after it.
      const appended = [await publish(1, "k'$1:x?"), await publish(2, "l'$1:x?")];
      const back = (await store.messages.before(chat, undefined, all)).messages;
      expect(back.map(({ message }) => message)).toEqual(appended.map(({ logged }) => logged.message));
      expect(back.map(({ message }) => message.data)).toEqual([value, value]);
      expect(await publish(3, "l'$1:x?")).toMatchObject({ repeated: true, logged: { id: 'm2' } });
    });

    it('reads forwards and backwards within bounds', async () => {
      const { volume } = await store.messages.head(chat);
      await Promise.all(
        Array.from({ length: 1000 }, (_, n) => store.messages.append(chat, draft(n + 1, of('x'.repeat(100))))),
      );
      const at = (number: number) => ({ volume, number });
      const numbers = (slice: LogSlice) => slice.messages.map((each) => each.place.number);
      expect(numbers(await store.messages.since(chat, at(500), { messages: 3, bytes: 1e6 }))).toEqual([501, 502, 503]);
      expect(await store.messages.since(chat, at(998), all)).toMatchObject({ more: false });
      expect((await store.messages.since(chat, at(0), { messages: 1000, bytes: 20_000 })).more).toBe(true);
      expect((await store.messages.since(chat, at(0), all)).messages).toHaveLength(1000);
      expect(numbers(await store.messages.before(chat, at(4), all))).toEqual([1, 2, 3]);
      expect(numbers(await store.messages.before(chat, undefined, { messages: 2, bytes: 1e6 }))).toEqual([999, 1000]);
      const backwards = await store.messages.before(chat, undefined, { messages: 450, bytes: 1e7 });
      expect(numbers(backwards)).toEqual(Array.from({ length: 450 }, (_, n) => 551 + n));
      expect(backwards.more).toBe(true);
      expect((await store.messages.since(chat, at(5000), all)).gap).toBe('new-volume');
      expect((await store.messages.since(chat, { volume: 'other', number: 3 }, { messages: 2, bytes: 1e6 })).gap).toBe(
        'new-volume',
      );
    });

    it('leaves out no message that a filter lets through, in either direction, and says how far it looked', async () => {
      const values = ['petrel', "it's", '', 'null', null, true, 3, [1], { boat: 'petrel' }];
      await Promise.all(
        Array.from({ length: 60 }, (_, n) => {
          const boat = values[n % values.length];
          const by = n % 4 === 0 ? {} : { by: { user: ['pia', 'jory', "it's"][n % 3] as string } };
          const data = n % 7 === 0 ? 'no object' : { boat, at: { boat }, 'odd name': boat };
          return store.messages.append(chat, draft(n, { type: `t${n % 3}`, ...by, ...of(data) }));
        }),
      );
      const whole = await store.messages.since(
        chat,
        await store.messages.head(chat).then(({ volume }) => ({ volume, number: 0 })),
        all,
      );
      const pointers = ['/boat', '/at/boat', '/boat/boat', '/boat/0', '/odd name', '/none'];
      const filters: MessageFilter[] = [
        ...pointers.flatMap((pointer) =>
          values.filter(isSimple).map((value): MessageFilter => ({ where: { [pointer]: value } })),
        ),
        { types: ['t1', "it's"] },
        { by: ["it's"] },
        { types: ['t2'], by: ['pia', 'jory'], where: { '/boat': 'petrel', '/at/boat': 'petrel' } },
      ];
      for (const filter of filters) {
        const expected = whole.messages.filter((each) => filterFits(filter, each.message)).map(({ id }) => id);
        const fits = ({ messages }: LogSlice): string[] =>
          messages.filter((each) => filterFits(filter, each.message)).map(({ id }) => id);
        const { volume, number } = whole.head;
        const since = await store.messages.since(chat, { volume, number: 0 }, { ...all, filters: [filter] });
        expect({ filter, ids: fits(since), upTo: since.upTo, more: since.more }).toEqual({
          filter,
          ids: expected,
          upTo: { volume, number },
          more: false,
        });
        const before = await store.messages.before(chat, undefined, { ...all, filters: [filter] });
        expect({ filter, ids: fits(before), upTo: before.upTo }).toEqual({
          filter,
          ids: expected,
          upTo: { volume, number: 1 },
        });
        const few = await store.messages.since(chat, { volume, number: 0 }, { ...all, messages: 2, filters: [filter] });
        if (few.messages.length === 2) expect(few.upTo).toEqual(few.messages[1]?.place);
      }
    });

    it('lists channels by name, by pages, and those with a text in their names', async () => {
      for (const name of ['c', 'a', 'b']) await store.messages.append(channelName(name), draft(1, { atMs: 5 }));
      expect((await store.messages.channels('', 2)).map(({ channel }) => channel)).toEqual(['a', 'b']);
      expect(await store.messages.channels('b', 2)).toMatchObject([{ channel: 'c', head: { number: 1 }, lastAt: 5 }]);
      for (const name of ['race/3/Chat', 'race/4_chat', 'crew/petrel'])
        await store.messages.append(channelName(name), draft(1));
      const found = async (find: string) => (await store.messages.channels('', 10, find)).map(({ channel }) => channel);
      expect(await found('CHAT')).toEqual(['race/3/Chat', 'race/4_chat']);
      expect(await found('4_c')).toEqual(['race/4_chat']);
      expect(await found('%')).toEqual([]);
      expect(await found("'")).toEqual([]);
    });

    // Makes any commit fail, in both databases.
    const poison = 7n as never;
    const event = { hook: 'bureau', event: 'first-in', hops: 0, dataText: '{}' } as const;
    const poisoned = { mentioned: poison };
    it.each<[string, (n: number, atMs: number) => Promise<unknown>]>([
      ['message', (n) => store.messages.append(chat, draft(n, n === 13 ? poisoned : {}))],
      [
        'message with a key',
        (n) => store.messages.append(chat, draft(n, { key: `k${n}`, ...(n === 13 ? poisoned : {}) })),
      ],
      ['event', (n, atMs) => store.hooks.queue([{ ...event, id: `e${n}`, atMs }])],
      ['arrival', (n, atMs) => store.intakes.arrive(arrival(n, { atMs }))],
    ])('takes each %s that comes together with one that cannot be committed', async (_, act) => {
      const done = await Promise.allSettled(Array.from({ length: 20 }, (__, n) => act(n, n === 13 ? poison : n)));
      expect(done.flatMap(({ status }, n) => (status === 'rejected' ? [n] : []))).toEqual([13]);
    });

    it('commits no message of an author whose token another instance has revoked', async () => {
      const revoked = {
        id: 'n1',
        type: 'revoke-tokens',
        user: 'oona',
        by: { kind: 'service', id: 'x' },
        atMs: 50,
      } as const;
      const relay = { kind: 'redis' };
      const other = await Database.open({ data: folder, sqliteSynchronous: 'full', database: url, relay });
      const others = await SqlStore.open(other);
      const by = { user: 'oona' };
      await others.messages.append(chat, draft(0, { by, issuedAtMs: 49 }));
      await store.moderation.take(revoked);
      const late = await Promise.allSettled([
        others.messages.append(chat, draft(1, { by, issuedAtMs: 49 })),
        others.messages.append(chat, draft(2, { by, issuedAtMs: 50 })),
        others.messages.append(chat, draft(3, { by: { user: 'pia' }, issuedAtMs: 1 })),
      ]);
      expect(late.map(({ status }) => status)).toEqual(['rejected', 'fulfilled', 'fulfilled']);
      expect(late[0]).toMatchObject({ reason: { code: 'token-ended' } });
      const again = others.messages.append(chat, draft(4, { by, issuedAtMs: 49 }));
      await expect(again).rejects.toMatchObject({ code: 'token-ended' });
      await other.close();
    });

    it('remembers each user who was met together with one who cannot be', async () => {
      const met = Array.from({ length: 20 }, (_, n) => ({ id: `u${n}`, roles: [], seenAtMs: n === 13 ? poison : n }));
      await expect(store.users.meet(met)).rejects.toThrow();
      expect(await store.users.knownUsers(met.map(({ id }) => id))).toHaveLength(19);
    });

    it('writes all of a transaction, or nothing', async () => {
      const insert = "INSERT INTO channels (name, volume, head, last_at_ms) VALUES ('race/3/chat', 'v', 1, 0)";
      for (const fault of ['INSERT INTO nowhere VALUES (1)', insert, 'UPDATE channels SET head = NULL'])
        await expect(database.write(async () => ({ statements: [insert, fault], result: 1 }))).rejects.toThrow();
      await expect(
        database.write(async () => {
          throw new Error('it cannot be planned');
        }),
      ).rejects.toThrow();
      expect(await store.messages.channels('', 10)).toEqual([]);
      expect((await store.messages.append(chat, draft(1))).logged.place.number).toBe(1);
    });

    it('tells what is missing from a record by a gap, wherever the hole is, and raises a head that is too low', async () => {
      const { volume } = await store.messages.head(chat);
      for (let n = 1; n <= 10; n++) await store.messages.append(chat, draft(n));
      const change = (...statements: string[]) => database.write(async () => ({ statements, result: 0 }));
      await change('DELETE FROM messages WHERE number IN (4, 5, 10)');
      const read = async (after: number) => {
        const slice = await store.messages.since(chat, { volume, number: after }, all);
        return [slice.gap, ...data(slice), slice.more];
      };
      expect(await read(0)).toEqual([undefined, 1, 2, 3, true]);
      expect(await read(3)).toEqual(['lost', 6, 7, 8, 9, true]);
      expect(await read(4)).toEqual(['lost', 6, 7, 8, 9, true]);
      expect(await read(9)).toEqual(['lost', false]);
      const back = async (before: number | undefined) => {
        const slice = await store.messages.before(
          chat,
          before === undefined ? undefined : { volume, number: before },
          all,
        );
        return [slice.gap, ...data(slice), slice.more];
      };
      expect(await back(undefined)).toEqual(['lost', 6, 7, 8, 9, true]);
      expect(await back(6)).toEqual(['lost', 1, 2, 3, false]);

      // The next message has its number all the same.
      expect((await store.messages.append(chat, draft(11))).logged.place.number).toBe(11);
      await change('UPDATE channels SET head = 7');
      const told: string[] = [];
      await SqlStore.open(database, (error) => told.push((error as Error).message));
      expect(told).toEqual(['the head of race/3/chat was 7, though there are messages up to 11: it was raised']);
      expect((await store.messages.append(chat, draft(12))).logged.place.number).toBe(12);
      // And while it runs: whoever meets the row looks again.
      await change('UPDATE channels SET head = 3, notes = 0');
      expect((await store.messages.append(chat, draft(13))).logged.place.number).toBe(13);
      await change('DELETE FROM messages WHERE number = 13');
      await SqlStore.open(database, (error) => told.push((error as Error).message));
      expect(told[1]).toContain('messages are missing at the end of race/3/chat');
    });
  });

  describe('changes of messages', () => {
    const due: DueWish = { nowMs: 1_000, horizonMs: 1_000_000, count: 100, chars: 1_000_000, heldUp: [] };
    const mira = { user: 'mira' };
    const appended = async (n: number, more: Partial<Draft> = {}, channel = chat) =>
      (await store.messages.append(channel, draft(n, { by: mira, ...more }))).logged;
    /** A draft that changes a message, as the engine makes it. */
    const changeOf = (n: number, of: LoggedMessage, data?: unknown, more: Partial<Change> = {}): Draft => {
      const { id, type, key, by } = of.message;
      return draft(n, {
        owner: '~',
        by: mira,
        dataText: JSON.stringify(data ?? null),
        except: data === undefined ? undefined : of.except,
        change: {
          of: { number: of.place.number, id, type, key, by, atMs: of.atMs },
          withdraws: data === undefined,
          keeps: false,
          ...more,
        },
      });
    };
    const codeOf = (done: Promise<unknown>): Promise<string> =>
      done.then(
        () => 'done',
        (error: ProblemError) => error.code,
      );
    const shown = (slice: LogSlice, from: number): unknown => {
      const { messages, changes } = shownOf(slice.messages, from, undefined, undefined);
      return [messages.map(({ message }) => message.data), changes.map((each) => JSON.parse(each).data)];
    };

    it('take a place each; what is read is how messages stand, and what was changed behind a place', async () => {
      const a = await appended(1, { ...of('a'), key: 'k' });
      const b = await appended(2, of('b'));
      // In one commit, and among others.
      const group = [changeOf(3, a, 'a1'), changeOf(4, a, 'a2'), draft(5, of('c')), changeOf(6, b, 'b1')];
      const done = await Promise.all(group.map((each) => store.messages.append(chat, each)));
      expect(done.map(({ logged, counted }) => [logged.place.number, counted])).toEqual([
        [3, 2],
        [4, 2],
        [5, 3],
        [6, 3],
      ]);
      const { volume } = a.place;
      const since = (number: number, more = {}) => store.messages.since(chat, { volume, number }, { ...all, ...more });
      expect(shown(await since(0), 0)).toEqual([['a2', 'b1', 'c'], []]);
      expect(shown(await since(1), 1)).toEqual([['b1', 'c'], ['a2']]);
      expect(shown(await since(2), 2)).toEqual([['c'], ['a2', 'b1']]);
      expect(shown(await since(4), 4)).toEqual([['c'], ['b1']]);
      expect((await since(0)).messages[0]?.message).toEqual({
        ...a.message,
        data: 'a2',
        revision: `${volume}:4`,
        revisedAt: new Date(4).toISOString(),
        revisedBy: mira,
      });
      // Backwards only messages count; with a filter, too.
      const filters = [{ types: ['message'] }];
      for (const more of [{}, { filters }])
        expect(shown(await store.messages.before(chat, undefined, { ...all, messages: 2, ...more }), 0)).toEqual([
          ['b1', 'c'],
          [],
        ]);
      expect(shown(await since(2, { filters: [{ by: ['mira'] }] }), 2)).toEqual([[], ['a2', 'b1']]);
      await database.close();
      await open();
      expect(shown(await since(0), 0)).toEqual([['a2', 'b1', 'c'], []]);
    });

    it('are refused by themselves, one by one', async () => {
      const a = await appended(1, of('a'));
      const gone = await appended(2, of('gone'));
      const elsewhere = await appended(3, of('other'), signals);
      const missing = new LoggedMessage(chat, { ...a.place, number: 9 }, draft(9));
      const group: readonly (readonly [string, Draft])[] = [
        ['done', changeOf(10, gone)],
        ['withdrawn', changeOf(11, gone, 'again')],
        ['withdrawn', changeOf(12, gone)],
        ['done', changeOf(13, a, 'a1', { ifRevision: 0 })],
        ['conflict', changeOf(14, a, 'a2', { ifRevision: 0 })],
        ['done', draft(15)],
        ['no-such-message', changeOf(16, missing, 'x')],
        ['done', changeOf(17, a, 'a3', { ifRevision: 4 })],
      ];
      const codes = await Promise.all(group.map(([, each]) => codeOf(store.messages.append(chat, each))));
      expect(codes).toEqual(group.map(([code]) => code));
      expect(await codeOf(store.messages.append(signals, changeOf(18, elsewhere, 'y')))).toBe('done');
      expect((await store.messages.head(chat)).number).toBe(6);
      // A key makes a change once, however often it comes, and though it could not be made any more.
      const once = { ...changeOf(20, a), key: 'k' };
      const [first, second] = await Promise.all([
        store.messages.append(chat, once),
        store.messages.append(chat, { ...once, id: 'm21' }),
      ]);
      expect([first.repeated, second.repeated, second.logged.id]).toEqual([false, true, 'm20']);
      expect(await store.messages.append(chat, { ...once, id: 'm22' })).toMatchObject({
        repeated: true,
        logged: { id: 'm20' },
      });
    });

    it('let nothing of what was withdrawn be found', async () => {
      const secret = `the secret ${'of the sea '.repeat(1_000)}`;
      const hooks = ['office', 'ship'];
      const a = await appended(1, { ...of(`first ${secret}`), hooks });
      await store.messages.append(chat, { ...changeOf(2, a, `second ${secret}`, { keeps: true }), hooks });
      const report = { id: 'r1', channel: chat, cursor: a.cursor, message: a.message, by: { user: 'pia' }, atMs: 1 };
      await store.reports.report(report, { all: 9, each: 9 });
      expect(await store.messages.revisions(chat, a.place, -1, 9)).toHaveLength(1);
      await store.messages.append(chat, { ...changeOf(3, a), hooks: ['office'] });
      const found = async (): Promise<string> =>
        JSON.stringify([
          (await store.messages.since(chat, { ...a.place, number: 0 }, all)).messages.map(({ text }) => text),
          await store.messages.revisions(chat, a.place, -1, 9),
          await store.hooks.deliveries({ limit: 9 }),
          await Promise.all(hooks.map((each) => store.hooks.due(each, due))),
        ]);
      expect(await found()).not.toContain('secret');
      const { deliveries } = await store.hooks.due('office', due);
      expect(deliveries.map(({ event, dataText }) => [event, JSON.parse(dataText as string).withdrawn])).toEqual([
        ['message', true],
        ['changed', true],
        ['changed', true],
      ]);
      // The moderators keep what was reported until they are done.
      expect((await store.reports.reportById('r1'))?.message.data).toMatch(/secret/);
      const ended = await store.reports.endReport('r1', { by: { kind: 'user', id: 'iris' }, atMs: 5 });
      expect(ended?.message).toMatchObject({ withdrawn: true, data: null });
      expect(JSON.stringify(await store.reports.reports({ isOpen: false, limit: 9 }))).not.toContain('secret');
      if (!isFile) return;
      await database.close();
      for (const name of readdirSync(folder))
        expect(readFileSync(join(folder, name), 'latin1').includes('of the sea'), name).toBe(false);
      await open();
    });

    it('are kept as they were where the rule says so, and all in a channel that is exempted from pruning', async () => {
      const a = await appended(1, of('a'));
      await Promise.all([
        store.messages.append(chat, changeOf(2, a, 'a1', { keeps: true })),
        store.messages.append(chat, changeOf(3, a, 'a2', { keeps: true })),
      ]);
      const revisions = async (after = -1, limit = 9) =>
        (await store.messages.revisions(chat, a.place, after, limit)).map(({ number, dataText }) => [
          number,
          JSON.parse(dataText),
        ]);
      expect(await revisions()).toEqual([
        [0, 'a'],
        [2, 'a1'],
      ]);
      expect([await revisions(0), await revisions(-1, 1)]).toEqual([[[2, 'a1']], [[0, 'a']]]);
      await store.retention.hold({ channel: chat, by: { kind: 'user', id: 'iris' }, atMs: 4 });
      await store.messages.append(chat, changeOf(5, a));
      expect((await revisions()).at(-1)).toEqual([3, 'a2']);
      expect(shown(await store.messages.since(chat, { ...a.place, number: 0 }, all), 0)).toEqual([[null], []]);
      // They are pruned with their messages.
      await store.retention.hold({ channel: chat, by: { kind: 'user', id: 'iris' }, atMs: 6 }, 'end');
      await store.retention.prune(chat, 3, 10);
      expect(await revisions()).toEqual([]);
      // Of a message that is no longer there it is still told that it was withdrawn.
      expect(shown(await store.messages.since(chat, { ...a.place, number: 2 }, all), 2)).toEqual([[], [null]]);
    });

    it('do not count as unread, and what is withdrawn counts no more', async () => {
      const [a, b] = [await appended(1, of('a')), await appended(2, of('b'))];
      const unread = async (user: string) => (await store.marks.unread(user))[0]?.unread;
      for (const user of ['pia', 'mira']) await store.marks.mark(user, chat, { ...a.place, number: 0 }, 9);
      expect([await unread('pia'), await unread('mira')]).toEqual([2, 0]);
      await store.messages.append(chat, changeOf(3, a, 'a1'));
      expect([await unread('pia'), await unread('mira')]).toEqual([2, 0]);
      await store.messages.append(chat, changeOf(4, b));
      expect([await unread('pia'), await unread('mira')]).toEqual([1, 0]);
      await store.messages.append(chat, draft(5, { by: { user: 'jory' } }));
      expect([await unread('pia'), await unread('mira')]).toEqual([2, 1]);
      await store.marks.mark('pia', chat, { ...a.place, number: 4 }, 9);
      expect(await unread('pia')).toBe(1);
    });
  });

  describe('replies', () => {
    const reply = (n: number, to: number, thread: number, more: Partial<Draft> = {}) =>
      store.messages.append(chat, draft(n, { type: 'message', reply: { to, thread }, ...more })).then(
        ({ logged, repeated }) => [logged.place.number, repeated],
        (error: ProblemError) => error.code,
      );
    const withdraw = (n: number, of: number, answered?: Draft['reply']) =>
      store.messages.append(chat, {
        ...draft(n),
        dataText: 'null',
        change: {
          of: { number: of, id: `m${of}`, type: 'message', atMs: of, reply: answered },
          withdraws: true,
          keeps: false,
        },
      });
    const read = async () => (await store.messages.before(chat, undefined, { messages: 20, bytes: 100_000 })).messages;

    it('come with what they answer, count in their thread, and are read by it', async () => {
      for (const n of [1, 2])
        await store.messages.append(chat, draft(n, { by: { user: 'mira' }, dataText: `{"text":"it's ${n}"}` }));
      expect(await Promise.all([reply(3, 1, 1), reply(4, 2, 2), reply(5, 9, 9)])).toEqual([
        [3, false],
        [4, false],
        'no-such-message',
      ]);
      expect(await reply(5, 3, 1)).toEqual([5, false]);
      await withdraw(6, 3, { to: 1, thread: 1 });
      expect(await reply(7, 3, 1)).toBe('withdrawn');
      await database.close();
      await open();
      const { volume } = await store.messages.head(chat);
      const shown = (await read()).filter(({ isMessage }) => isMessage).map(({ shown: text }) => JSON.parse(text));
      expect(shown).toMatchObject([
        { replies: { count: 1, at: new Date(5).toISOString() } },
        { replies: { count: 1 } },
        {
          replyTo: `${volume}:1`,
          thread: `${volume}:1`,
          withdrawn: true,
          answers: { by: { user: 'mira' }, text: "it's 1" },
        },
        { replyTo: `${volume}:2`, answers: { text: "it's 2" } },
        { replyTo: `${volume}:3`, thread: `${volume}:1`, answers: { withdrawn: true } },
      ]);
      const limit = { messages: 10, bytes: 100_000, filters: [{ thread: `${volume}:1` as Cursor }] };
      const since = await store.messages.since(chat, { volume, number: 0 }, limit);
      expect(since.messages.map(({ place, of }) => of ?? place.number)).toEqual([1, 3, 5, 3]);
      expect(since.messages.at(-1)?.reply).toEqual({ to: 1, thread: 1 });
      // Withdrawn once: it is counted off once.
      await store.retention.prune(chat, 2, 10);
      expect((await read()).find(({ place }) => place.number === 3)?.answers).toBeUndefined();
      expect(JSON.parse((await read())[0]?.shown ?? '')).toMatchObject({ replies: { count: 1 } });
    });

    it('are unread for who takes part, until read, withdrawn, muted or pruned', async () => {
      const by = (user: string) => ({ by: { user } });
      await store.messages.append(chat, draft(1, by("o'hara")));
      await Promise.all([reply(2, 1, 1, by('pia')), reply(3, 1, 1, by('guest:1')), reply(4, 1, 1, by('jory'))]);
      const of = async (user: string) =>
        (await store.marks.threads(user, 9)).map(({ thread, number, unread, count, hidden }) => [
          thread,
          number,
          unread,
          count,
          hidden,
        ]);
      expect([await of("o'hara"), await of('pia'), await of('jory'), await of('guest:1')]).toEqual([
        [[1, 1, 3, 3, undefined]],
        [[1, 2, 2, 3, undefined]],
        [[1, 4, 0, 3, undefined]],
        [],
      ]);
      const { volume } = await store.messages.head(chat);
      const place = (number: number) => ({ volume, number });
      expect(await store.marks.markThread('pia', chat, place(1), place(3), 5)).toMatchObject({ number: 3, unread: 1 });
      expect(await store.marks.markThread('pia', chat, place(1), place(2), 6)).toMatchObject({ number: 3 });
      await store.blocks.block({ user: 'pia', other: 'jory', as: 'muted', atMs: 1, most: 9 });
      expect(await of('pia')).toEqual([[1, 3, 1, 3, { blocked: 0, muted: 1 }]]);
      await withdraw(5, 4, { to: 1, thread: 1 });
      expect(await of('pia')).toEqual([[1, 3, 0, 2, undefined]]);
      await expect(store.marks.markThread('pia', chat, place(9), null, 7)).rejects.toMatchObject({
        code: 'bad-cursor',
      });
      const partsOf = async (limit = 9) => (await store.marks.takingPart(chat, 1, limit)).users.toSorted();
      expect(await partsOf()).toEqual(['jory', "o'hara", 'pia']);
      expect(await store.marks.markThread('pia', chat, place(1), null, 7)).toBeUndefined();
      // Who has left a thread, also that of its own message, has left it until it answers.
      await store.marks.markThread("o'hara", chat, place(1), null, 7);
      await reply(6, 1, 1, by('jory'));
      expect(await partsOf()).toEqual(['jory']);
      await store.marks.markThread("o'hara", chat, place(1), place(1), 8);
      expect([await partsOf(1), (await store.marks.takingPart(chat, 1, 1)).volume]).toEqual([["o'hara"], volume]);
      expect((await store.persons.recordsOf("o'hara")).threads).toMatchObject([
        { channel: chat, thread: `${volume}:1` },
      ]);
      await erase('users', "o'hara");
      expect([await of("o'hara"), await of('pia')]).toEqual([[], []]);
      await store.retention.prune(chat, 2, 10);
      expect(await of('jory')).toEqual([]);
    });

    it('are known by their keys, also when what they answer was withdrawn meanwhile', async () => {
      await store.messages.append(chat, draft(1));
      const keyed = { key: 'k', by: { user: 'pia' } };
      expect(await reply(2, 1, 1, keyed)).toEqual([2, false]);
      await withdraw(3, 1);
      expect(await reply(4, 1, 1, keyed)).toEqual([2, true]);
      expect(await reply(5, 1, 1, { ...keyed, key: 'other' })).toBe('withdrawn');
      // Also when all of it comes together.
      await store.messages.append(chat, draft(6));
      const { number } = await store.messages.head(chat);
      const answers = [reply(7, number, number), withdraw(8, number), reply(9, number, number)];
      expect(await Promise.all(answers)).toMatchObject([[number + 1, false], { repeated: false }, 'withdrawn']);
    });
  });

  describe('invitations', () => {
    const by = { kind: 'user', id: 'mira', name: 'Mira' } as const;
    const invite = (id: string, more: object = {}, most = 9) =>
      store.invitations
        .invite({ id, digest: `d${id}`, channel: chat, uses: 2, atMs: 10, untilMs: 100, by, ...more }, most)
        .then(
          () => 'done',
          (error: ProblemError) => error.code,
        );
    const accept = async (id: string, user: string, atMs = 20) => {
      const found = await store.invitations.accept({ digest: `d${id}`, user, atMs, most: 3 });
      return found === undefined ? 'none' : 'over' in found ? found.over : [found.user, found.role];
    };

    it('let in as many users as they say, each once, however many come at once, until they end', async () => {
      expect(await invite('one', { role: "o'witness" })).toBe('done');
      expect(await invite('two', { user: 'pia', uses: 1 })).toBe('done');
      expect(await invite('three', {}, 2)).toBe('too-many-invitations');
      expect(
        await Promise.all([accept('one', 'pia'), accept('one', 'pia'), accept('one', 'jory'), accept('one', 'ines')]),
      ).toEqual([['pia', "o'witness"], ['pia', "o'witness"], ['jory', "o'witness"], 'used-up']);
      expect([await accept('two', 'ines'), await accept('two', 'pia', 100), await accept('nothing', 'pia')]).toEqual([
        ...['another', 'expired', 'none'],
      ]);
      await database.close();
      await open();
      expect(await accept('one', 'pia', 200)).toEqual(['pia', "o'witness"]);
      expect(await store.invitations.invitations(chat, 9)).toMatchObject([
        { id: 'two', used: 0, user: 'pia', by },
        { id: 'one', used: 2, role: "o'witness" },
      ]);
      expect(await store.invitations.invitations(chat, 9, 'two')).toMatchObject([{ id: 'one' }]);
      expect(await store.invitations.admissionsIn(chat, 1, '')).toMatchObject([{ user: 'jory', invitation: 'one' }]);
      expect(await store.invitations.admissionsIn(chat, 9, 'jory')).toMatchObject([{ user: 'pia', channel: chat }]);
      expect(await store.invitations.endInvitation('one', false, { by, atMs: 300 })).toMatchObject({
        invitation: { revokedAtMs: 300 },
        users: [],
      });
      expect(await accept('one', 'pia')).toBe('revoked');
      // What was ended before does not end again.
      for (const users of [['jory', 'pia'], []])
        expect((await store.invitations.endInvitation('one', true, { by, atMs: 400 }))?.users).toEqual(users);
      expect((await store.moderation.audit(undefined, 9)).map(({ type, about, atMs }) => [type, about, atMs])).toEqual([
        ['end-invitation', 'one', 400],
        ['end-invitation', 'one', 300],
      ]);
      expect(await store.invitations.admissions('pia')).toEqual([]);
      expect(await store.invitations.endInvitation('nothing', true, { by, atMs: 1 })).toBe(undefined);
      // So many channels, and no more; a guest whose time is over accepts again while there are uses left.
      const into = ['a', 'b', 'c', 'd'].map((id) => invite(id, { channel: `hearing/${id}` }));
      await Promise.all(into);
      expect(await Promise.all(['a', 'b', 'c', 'd', 'a'].map((id) => accept(id, 'ines')))).toEqual([
        ...[['ines', undefined], ['ines', undefined], ['ines', undefined], 'too-many', ['ines', undefined]],
      ]);
      const guest = (atMs: number) =>
        store.invitations.accept({ digest: 'da', user: 'guest:1', atMs, untilMs: atMs + 10, most: 3 });
      expect([await guest(20), await guest(25), await guest(30)]).toMatchObject([
        ...[{ untilMs: 30 }, { untilMs: 30 }, { over: 'used-up' }],
      ]);
    });

    it('go with their users, and are forgotten when they no longer let any user in', async () => {
      for (const id of ['one', 'two']) await invite(id, { uses: 5 });
      await accept('one', 'pia');
      await store.invitations.accept({ digest: 'done', user: 'guest:1', atMs: 20, untilMs: 50, most: 9 });
      expect((await store.persons.recordsOf('pia')).admissions).toMatchObject([{ channel: chat, invitation: 'one' }]);
      expect([
        await store.retention.forget('invitations', 1_000, 10),
        await store.invitations.endAdmission(chat, 'guest:1', { by, atMs: 1 }),
      ]).toEqual([2, false]);
      expect((await store.invitations.invitations(chat, 9)).map(({ id }) => id)).toEqual(['one']);
      expect(await erase('invitations', 'pia')).toBe(1);
      expect(await erase('invitations', 'mira')).toBe(1);
      expect(await erase('invitations', 'mira')).toBe(0);
      expect(await store.invitations.invitation('one')).toMatchObject({ by: { id: 'erased:e1' } });
      expect(await store.retention.forget('invitations', 1_000, 10)).toBe(1);
    });
  });

  describe('users who keep others away', () => {
    const set = (user: string, other: string, as: 'blocked' | 'muted' | null, atMs = 1) =>
      store.blocks.block({ user, other, as, atMs, most: 2 }).then(
        () => 'done',
        (error: ProblemError) => error.code,
      );
    const list = async (...users: string[]) =>
      (await store.blocks.blocks(users)).map(({ user, other, as, atMs }) => [user, other, as, atMs]).sort();

    it('are kept each once, together and one after another, within bounds, until that ends', async () => {
      expect(await store.blocks.hasBlocks()).toBe(false);
      // In one group: the last one counts, and the bound holds within it.
      expect(
        await Promise.all([
          set('pia', 'jory', 'muted'),
          set('pia', 'jory', 'blocked', 2),
          set('pia', "o'hara", 'muted', 3),
          set('pia', 'ines', 'blocked'),
          set('pia', 'bram', null),
          set('tomas', 'jory', 'muted'),
        ]),
      ).toEqual(['done', 'done', 'done', 'too-many-blocks', 'done', 'done']);
      expect(await set('pia', 'jory', 'blocked', 9)).toBe('done');
      expect(await list('pia', 'nobody')).toEqual([
        ['pia', 'jory', 'blocked', 2],
        ['pia', "o'hara", 'muted', 3],
      ]);
      expect(await store.blocks.blocking('jory', ['pia', 'tomas', 'ines'])).toEqual(['pia']);
      await database.close();
      await open();
      expect(await Promise.all([set('pia', "o'hara", null), set('pia', 'ines', 'blocked')])).toEqual(['done', 'done']);
      expect([await store.blocks.hasBlocks(), (await list('pia', 'tomas')).length]).toEqual([true, 3]);
      expect((await store.persons.recordsOf('pia')).blocks).toMatchObject([
        { user: 'ines' },
        { user: 'jory', as: 'blocked' },
      ]);
      expect(await erase('blocks', 'pia')).toBe(2);
      expect([await erase('blocks', 'pia'), await list('pia')]).toEqual([0, []]);
      await store.users.meet([{ id: 'tomas', roles: [], seenAtMs: 5 }]);
      await store.retention.forget('users', 6, 10);
      expect(await store.blocks.hasBlocks()).toBe(false);
    });

    it('do not count what these say as unread, and do not read it', async () => {
      const by = (user: string) => ({ by: { user } });
      for (const [n, user] of ['mira', 'jory', 'bram', 'jory', 'mira'].entries())
        await store.messages.append(chat, draft(n + 1, { type: 'message', ...by(user) }));
      const { volume } = await store.messages.head(chat);
      await store.marks.mark('pia', chat, { volume, number: 1 }, 9);
      await set('pia', 'jory', 'blocked');
      await set('pia', 'bram', 'muted');
      expect(await store.marks.unread('pia')).toMatchObject([{ unread: 4, hidden: { blocked: 2, muted: 1 } }]);
      const limit = { messages: 10, bytes: 100_000, filters: [{ notBy: ['jory', 'bram'] }] };
      const numbers = ({ messages }: LogSlice) => messages.map(({ place }) => place.number);
      expect(numbers(await store.messages.since(chat, { volume, number: 0 }, limit))).toEqual([1, 5]);
      expect(numbers(await store.messages.before(chat, undefined, limit))).toEqual([1, 5]);
    });
  });

  describe('search', () => {
    const other = channelName('race/4/chat');
    const at = (number: number, text: string, more: object = {}) => ({
      number,
      words: wordsIn(text).map(({ word }) => word),
      type: 'message',
      by: 'mira',
      atMs: number,
      ...more,
    });
    const texts = ['General recall of all boats', "the wind o'er the sea", '帆船 and wind', 'ÇA va WIND'];
    const fill = async () => {
      for (const [index, text] of texts.entries())
        await store.messages.append(
          chat,
          draft(index + 1, { type: 'message', by: { user: 'mira' }, dataText: JSON.stringify(text) }),
        );
      await store.messages.append(other, draft(9, { type: 'signal', dataText: '"wind again"' }));
      await store.search.index(
        chat,
        { from: 0, upTo: 4 },
        texts.map((text, index) => at(index + 1, text)),
      );
      await store.search.index(other, { from: 0, upTo: 1 }, [
        at(1, 'wind again', { type: 'signal', by: "o'hara", atMs: 9 }),
      ]);
    };
    const find = async (words: string, more: object = {}) => {
      const { messages, next } = await store.search.search({
        query: queryOf(words),
        limit: 10,
        lookedAt: 100,
        ...more,
      });
      return [messages.map(({ message }) => message.data), ...(next === undefined ? [] : [next])];
    };

    it('finds by words, beginnings, phrases and what is not there; by channel, author, type and time', async () => {
      await fill();
      const [a, b, c, d] = texts;
      for (const [words, more, found] of [
        ['wind', {}, ['wind again', d, c, b]],
        ['general RECALL', {}, [a]],
        ['"recall general"', {}, []],
        ['"all boats" gen*', {}, [a]],
        ['wind -sea -and', {}, ['wind again', d]],
        ['wind -"the sea"', {}, ['wind again', d, c]],
        ['帆船', {}, [c]],
        ['船帆', {}, []],
        ['ca', {}, [d]],
        ['o', {}, [b]],
        ['wind', { channels: [chat] }, [d, c, b]],
        ['wind', { channels: [chat, other] }, ['wind again', d, c, b]],
        ['wind', { channels: ['nowhere' as typeof chat] }, []],
        ['wind', { by: ["o'hara", 'pia'] }, ['wind again']],
        ['wind', { types: ['signal'] }, ['wind again']],
        ['wind', { types: ['message'], by: ["o'hara"] }, []],
        ['wind', { sinceMs: 3, untilMs: 9 }, [d, c]],
        ['wind', { sinceMs: 9 }, ['wind again']],
        ['wind', { untilMs: 3 }, [b]],
        ['wind', { sinceMs: 9, untilMs: 9 }, []],
        ["OR AND NOT near* c1 words:a \\ '", {}, []],
      ] as const)
        expect([words, more, ...(await find(words, more))]).toEqual([words, more, found]);
    });

    it('goes on in parts, in the order in which they were made searchable', async () => {
      await fill();
      const [first, next] = await find('wind', { limit: 2 });
      const [second, end] = await find('wind', { limit: 2, after: next });
      expect([first, second]).toEqual([
        ['wind again', texts[3]],
        [texts[2], texts[1]],
      ]);
      expect((await find('wind', { limit: 2, after: end }))[0]).toEqual([]);
      // Of what was looked at for its time, nothing may fit.
      const [none, on] = await find('wind', { untilMs: 3, lookedAt: 2 });
      expect(none).toEqual([]);
      expect((await find('wind', { untilMs: 3, lookedAt: 2, after: on }))[0]).toEqual([texts[1]]);
    });

    it('follows changes, pruning and the end of search, and is made by one at a time', async () => {
      await fill();
      const change = (n: number, of: number, data: string, withdraws: boolean) =>
        store.messages.append(chat, {
          ...draft(n, { type: 'message', dataText: data }),
          change: { of: { number: of, id: `m${of}`, type: 'message', atMs: of }, withdraws, keeps: false },
        });
      await change(5, 2, 'null', true);
      expect(await find('sea')).toEqual([[]]);
      // Too late: it was withdrawn; from a place that is past.
      await store.search.index(chat, { from: 4, upTo: 5 }, [at(2, 'the sea')]);
      await store.search.index(chat, { from: 4, upTo: 6 }, [at(3, 'the sea')]);
      expect([await find('sea'), await store.search.searchable([other, chat])]).toEqual([[[]], [1, 5]]);
      await change(6, 3, '"now calm"', false);
      await store.search.index(chat, { from: 5, upTo: 6 }, [at(3, 'now calm')]);
      expect([await find('calm'), await find('帆船')]).toEqual([[['now calm']], [[]]]);
      await store.retention.prune(chat, 4, 10);
      expect([await find('calm'), await find('va')]).toEqual([[[]], [[texts[3]]]]);
      await database.close();
      await open();
      expect(await find('va')).toEqual([[texts[3]]]);
      expect([
        await store.search.searchedChannels('', 9),
        await store.search.searchedChannels('', 9, 'race/4'),
        await store.search.searchedChannels(chat, 1),
      ]).toEqual([[chat, other], [other], [other]]);
      await store.marks.mark('pia', chat, { volume: (await store.messages.head(chat)).volume, number: 5 }, 9);
      expect([await store.marks.markedChannels('pia'), await store.marks.markedChannels('ines')]).toEqual([[chat], []]);
      expect([await store.search.unindex(chat, 10), await store.search.unindex(chat, 10)]).toEqual([1, 0]);
      expect([
        await store.search.searchedChannels('', 9),
        await find('va'),
        await store.search.searchable([chat]),
      ]).toEqual([[other], [[]], [0]]);
    });

    it.runIf(isFile)('leaves nothing of what was withdrawn in the file', async () => {
      const secret = 'zanzibarquartz';
      await store.messages.append(chat, draft(1, { type: 'message', dataText: JSON.stringify(secret) }));
      await store.search.index(chat, { from: 0, upTo: 1 }, [at(1, secret)]);
      await store.messages.append(chat, {
        ...draft(2, { type: 'message', dataText: 'null' }),
        change: { of: { number: 1, id: 'm1', type: 'message', atMs: 1 }, withdraws: true, keeps: false },
      });
      const rows = await database.reads.select<{ block: Buffer }>('SELECT block FROM search_words_data', {});
      expect(rows.some(({ block }) => Buffer.from(block).includes(secret))).toBe(false);
      expect(await database.reads.select('SELECT c0 FROM search_words_content', {})).toEqual([]);
    });
  });

  describe('mentions and levels', () => {
    const say = (n: number, user: string, mentioned?: readonly string[]) =>
      store.messages.append(chat, {
        ...draft(n, { type: 'message', by: { user }, dataText: `"say ${n}"` }),
        ...(mentioned && { mentions: { users: mentioned }, mentioned }),
      });
    const change = (n: number, of: number, withdraws: boolean) =>
      store.messages.append(chat, {
        ...draft(n, { type: 'message', dataText: withdraws ? 'null' : '"again"' }),
        change: {
          of: { number: of, id: `m${of}`, type: 'message', atMs: of, mentions: { users: ["o'hara", 'pia'] } },
          withdraws,
          keeps: false,
        },
      });
    const shown = async () =>
      (await store.messages.before(chat, undefined, { messages: 20, bytes: 100_000 })).messages
        .filter(({ isMessage }) => isMessage)
        .map(({ message }) => message.mentions?.users);
    const mentions = async (user: string, sinceMs = 0) =>
      (await store.mentions.mentions(user, sinceMs)).map(({ channel, place, by }) => [channel, place.number, by]);

    it('are kept with their messages, found by user behind its mark, and go with what is withdrawn', async () => {
      await Promise.all([say(1, 'mira', ["o'hara", 'pia']), say(2, 'jory'), say(3, 'pia', ['pia', "o'hara"])]);
      const { volume } = await store.messages.head(chat);
      expect(await shown()).toEqual([["o'hara", 'pia'], undefined, ['pia', "o'hara"]]);
      // Not what the user says of itself.
      expect([await mentions('pia'), await mentions("o'hara"), await mentions('ines')]).toEqual([
        [[chat, 1, 'mira']],
        [
          [chat, 3, 'pia'],
          [chat, 1, 'mira'],
        ],
        [],
      ]);
      expect(await mentions("o'hara", 3)).toEqual([[chat, 3, 'pia']]);
      await store.marks.mark("o'hara", chat, { volume, number: 2 }, 9);
      expect(await mentions("o'hara")).toEqual([[chat, 3, 'pia']]);
      expect(await store.mentions.lastAt([chat, 'nowhere' as typeof chat])).toEqual([3, 0]);
      await change(4, 1, false);
      expect(await shown()).toEqual([["o'hara", 'pia'], undefined, ['pia', "o'hara"]]);
      await change(5, 1, true);
      expect([await shown(), await mentions('pia')]).toEqual([[undefined, undefined, ['pia', "o'hara"]], []]);
      expect((await store.persons.recordsOf("o'hara")).mentions).toMatchObject([
        { channel: chat, cursor: `${volume}:3` },
      ]);
      expect(await erase('mentions', "o'hara")).toBe(1);
      expect(await mentions("o'hara")).toEqual([]);
      await store.retention.prune(chat, 4, 10);
      expect((await store.persons.recordsOf('pia')).mentions ?? []).toEqual([]);
    });

    it('are set together and one after another, within bounds, until their time is over', async () => {
      const set = (user: string, channel: string, level: Level | null, more: object = {}) =>
        store.levels.setLevel({ user, channel: channel as typeof chat, level, atMs: 10, most: 2, ...more }).then(
          () => 'done',
          (error: ProblemError) => error.code,
        );
      const list = async (user: string, nowMs = 11) =>
        (await store.levels.levels(user, nowMs)).map(({ channel, level, untilMs }) => [channel, level, untilMs]);
      expect(await store.levels.hasLevels()).toBe(false);
      expect(
        await Promise.all([
          set("o'hara", 'b', 'nothing', { untilMs: 20 }),
          set("o'hara", 'b', 'mentions', { untilMs: 30 }),
          set("o'hara", 'a', 'nothing'),
          set("o'hara", 'c', 'nothing'),
          set('pia', 'a', 'everything'),
        ]),
      ).toEqual(['done', 'done', 'done', 'too-many-levels', 'done']);
      expect(await list("o'hara")).toEqual([
        ['a', 'nothing', undefined],
        ['b', 'mentions', 30],
      ]);
      expect(await store.levels.levelsIn('a' as typeof chat, ['pia', "o'hara", 'ines'], 11)).toMatchObject([
        ...[{ user: "o'hara" }, { user: 'pia', level: 'everything' }],
      ]);
      expect([await list("o'hara", 30), await set("o'hara", 'c', 'nothing', { atMs: 30 })]).toEqual([
        [['a', 'nothing', undefined]],
        'done',
      ]);
      expect(await set("o'hara", 'c', null)).toBe('done');
      expect((await store.persons.recordsOf("o'hara")).levels).toEqual([{ channel: 'a', level: 'nothing' }]);
      expect(await erase('levels', "o'hara")).toBe(1);
      await store.users.meet([{ id: 'pia', roles: [], seenAtMs: 5 }]);
      await store.retention.forget('users', 6, 10);
      expect(await store.levels.hasLevels()).toBe(false);
    });

    it('find the users whom they mean, and the notices that say so', async () => {
      await store.users.meet([
        { id: "o'hara", name: 'O', roles: ['umpire', 'cook'], seenAtMs: 5 },
        { id: 'pia', roles: [], seenAtMs: 6 },
      ]);
      await store.inboxes.notify([{ id: 'n1', user: 'ines', title: 'x', key: "mention o'hara", data: 1, atMs: 1 }]);
      const known = await store.users.knownUsers(["o'hara", 'pia', 'ines', 'nobody']);
      expect([...known].sort((a, b) => a.seenAtMs - b.seenAtMs)).toEqual([
        { id: "o'hara", name: 'O', roles: expect.toSatisfy((all) => all.length === 2), seenAtMs: 5 },
        { id: 'pia', roles: [], seenAtMs: 6 },
      ]);
      expect(await store.inboxes.noticeWith('ines', "mention o'hara")).toMatchObject({ id: 'n1', data: 1 });
      expect(await store.inboxes.noticeWith('ines', 'mention')).toBe(undefined);
    });
  });

  describe('reactions to messages', () => {
    const most = { kinds: 3, each: 2 };
    let current = '';
    const of = (number: number, user: string, word: string, on = true, volume = current) => {
      const place = { volume, number };
      const by = { user, name: user.toUpperCase() };
      return store.reactions.react({ channel: chat, place, by, word, on, atMs: 1, most }).then(
        ({ reacted, changed }) => [reacted.counts, reacted.version, changed],
        (error: ProblemError) => error.code,
      );
    };

    it('are counted, each user once for each word, within bounds; together and one after another', async () => {
      for (const n of [1, 2]) await store.messages.append(chat, draft(n));
      await store.messages.append(chat, draft(3, { type: 'message' }));
      current = (await store.messages.head(chat)).volume;
      expect(
        await Promise.all([of(1, 'pia', '⛵'), of(1, 'jory', '⛵'), of(1, 'pia', '⛵'), of(2, "o'h", "it's :x")]),
      ).toEqual([
        [{ '⛵': 1 }, 1, true],
        [{ '⛵': 2 }, 2, true],
        [{ '⛵': 2 }, 2, false],
        [{ "it's :x": 1 }, 3, true],
      ]);
      expect(await of(1, 'pia', 'wow')).toEqual([{ '⛵': 2, wow: 1 }, 4, true]);
      expect(await of(1, 'pia', 'third')).toBe('too-many-reactions');
      expect(await of(1, 'ines', 'third')).toEqual([{ '⛵': 2, wow: 1, third: 1 }, 5, true]);
      expect(await of(1, 'mira', 'fourth')).toBe('too-many-reactions');
      // In one group: taken back, and given again; and what is not there is not taken back.
      expect(await Promise.all([of(1, 'pia', 'wow', false), of(1, 'pia', 'fourth'), of(2, 'pia', 'x', false)])).toEqual(
        [
          [{ '⛵': 2, third: 1 }, 6, true],
          [{ '⛵': 2, third: 1, fourth: 1 }, 7, true],
          [{ "it's :x": 1 }, 3, false],
        ],
      );
      expect(await of(9, 'pia', 'wow')).toBe('no-such-message');
      expect(await of(1, 'pia', 'wow', true, 'other')).toBe('no-such-message');
      await database.close();
      await open();
      const { version, reacted, own } = await store.reactions.reactions(chat, [1, 2, 3], 'pia');
      expect([version.number, own]).toEqual([7, [[1, ['fourth', '⛵']]]]);
      expect(reacted.map(({ number, counts }) => [number, counts])).toEqual([
        [1, { '⛵': 2, third: 1, fourth: 1 }],
        [2, { "it's :x": 1 }],
      ]);
      expect(
        (await store.reactions.reactionsSince(chat, 3, 9)).reacted.map(({ number, version: at }) => [number, at]),
      ).toEqual([[1, 7]]);
      expect(await store.reactions.reactionsSince(chat, 7, 9)).toMatchObject({ reacted: [] });
      const heads = await store.reactions.reactionHeads([channelName('no/one'), chat]);
      expect(heads.map(({ number }) => number)).toEqual([0, 7]);
      const who = async (more = {}) =>
        (await store.reactions.reactors({ channel: chat, number: 1, limit: 9, ...more })).map(
          ({ word, user }) => `${word} ${user}`,
        );
      expect((await who()).sort()).toEqual(['fourth pia', 'third ines', '⛵ jory', '⛵ pia']);
      expect(await who({ word: '⛵', after: { word: '⛵', user: 'jory' } })).toEqual(['⛵ pia']);
    });

    it('go with their message, and with their user', async () => {
      for (const n of [1, 2, 3]) await store.messages.append(chat, draft(n));
      current = (await store.messages.head(chat)).volume;
      for (const number of [1, 2, 3]) for (const user of ['pia', 'jory']) await of(number, user, 'wow');
      expect(await erase('reactions', 'pia')).toBe(3);
      expect(await erase('reactions', 'pia')).toBe(0);
      // Each message has a version of its own: what has changed is sent in parts.
      expect((await store.reactions.reactionsSince(chat, 6, 9)).reacted.map(({ version }) => version)).toEqual([
        7, 8, 9,
      ]);
      const counts = async () =>
        (await store.reactions.reactions(chat, [1, 2, 3, 4])).reacted.map(({ number, counts: each }) => [number, each]);
      expect(await counts()).toEqual([1, 2, 3].map((number) => [number, { wow: 1 }]));
      await store.retention.prune(chat, 2, 10);
      expect(await counts()).toEqual([2, 3].map((number) => [number, { wow: 1 }]));
      const change = { of: { number: 2, id: 'm2', type: 'message', atMs: 2 }, withdraws: true, keeps: false };
      await store.messages.append(chat, draft(4, { owner: '~', ...{ dataText: 'null' }, change }));
      expect(await counts()).toEqual([[3, { wow: 1 }]]);
      expect(await of(2, 'jory', 'again')).toBe('withdrawn');
      expect(await of(4, 'jory', 'again')).toBe('no-such-message');
    });
  });

  describe('pruning', () => {
    const minute = 60_000;
    const grow = async (count: number, more: (n: number) => Partial<Draft> = () => ({})): Promise<string> => {
      const made = Array.from({ length: count }, (_, n) => draft(n + 1, { atMs: (n + 1) * minute, ...more(n + 1) }));
      const appended = await Promise.all(made.map((each) => store.messages.append(chat, each)));
      return appended[0]?.logged.place.volume as string;
    };

    it('removes the oldest, some at a time, and says `expired` to whoever asks for them', async () => {
      const volume = await grow(10);
      expect(await store.retention.prune(chat, 6, 2)).toEqual({ messages: 2, oldest: 3 });
      expect(await store.retention.prune(chat, 6, 100)).toEqual({ messages: 3, oldest: 6 });
      expect(await store.retention.prune(chat, 6, 100)).toEqual({ messages: 0, oldest: 6 });
      const filters = [{ types: ['message'] }];
      for (const limit of [all, { ...all, filters }]) {
        const since = await Promise.all(
          [0, 4, 5, 9].map((number) => store.messages.since(chat, { volume, number }, limit)),
        );
        expect(since.map((slice) => [slice.gap, ...data(slice), slice.more])).toEqual([
          ['expired', 6, 7, 8, 9, 10, false],
          ['expired', 6, 7, 8, 9, 10, false],
          [undefined, 6, 7, 8, 9, 10, false],
          [undefined, 10, false],
        ]);
        const before = [
          await store.messages.before(chat, undefined, limit),
          await store.messages.before(chat, { volume, number: 9 }, limit),
        ];
        expect(before.map((slice) => [slice.gap, ...data(slice), slice.more])).toEqual([
          ['expired', 6, 7, 8, 9, 10, false],
          ['expired', 6, 7, 8, false],
        ]);
        const two = await store.messages.before(chat, undefined, { ...limit, messages: 2 });
        expect([two.gap, ...data(two), two.more]).toEqual([undefined, 9, 10, true]);
      }
      expect(await store.retention.keptRanges('', 10)).toEqual([
        { channel: chat, head: { volume, number: 10 }, oldest: 6, oldestAtMs: 6 * minute, held: false },
      ]);
      // Numbers go on, even if nothing is left; and a restart finds nothing wrong.
      await store.retention.prune(chat, 1_000, 1_000);
      const told: unknown[] = [];
      await database.close();
      await open();
      store = await SqlStore.open(database, (error) => told.push(error));
      expect(told).toEqual([]);
      expect(await store.retention.keptRanges('', 10)).toMatchObject([{ oldest: 11, head: { number: 10 } }]);
      expect((await store.messages.since(chat, { volume, number: 10 }, all)).gap).toBeUndefined();
      expect(await store.messages.before(chat, undefined, all)).toMatchObject({
        messages: [],
        gap: 'expired',
        more: false,
      });
      expect((await store.messages.append(chat, draft(11))).logged.place.number).toBe(11);
    });

    it('finds by time and by bytes what is to go, with holes and nothing left', async () => {
      await grow(9, (n) => of('x'.repeat(n)));
      await database.write(async () => ({ statements: ['DELETE FROM messages WHERE number IN (3, 4)'], result: 0 }));
      const first = (atMs: number) => store.retention.firstSince(chat, atMs);
      expect(await Promise.all([0, 1, 2.5, 3, 5, 9, 9.5].map((at) => first(at * minute)))).toEqual([
        1, 1, 3, 3, 3, 9, 10,
      ]);
      expect(await store.retention.bytesOf(chat, 5, 7)).toBe(3 * 200 + 7 + 8 + 9);
      expect(await store.retention.bytesOf(signals, 1, 7)).toBe(0);
      expect([await store.retention.firstSince(signals, 0), await store.retention.prune(signals, 5, 5)]).toEqual([
        1,
        { messages: 0, oldest: 1 },
      ]);
    });

    it('counts as unread only what is still there', async () => {
      await grow(4, (n) => ({ by: { user: n === 2 ? 'pia' : 'ines' }, type: n === 3 ? 'joined' : 'message' }));
      const { volume } = await store.messages.head(chat);
      const mark = async (user: string, number: number) =>
        (await store.marks.mark(user, chat, { volume, number }, 10)).unread;
      expect([await mark('pia', 0), await mark('jory', 1)]).toEqual([2, 2]);
      const unread = async (user: string) => (await store.marks.unread(user))[0]?.unread;
      const counts: unknown[] = [];
      for (let oldest = 2; oldest <= 5; oldest++) {
        await store.retention.prune(chat, oldest, 1);
        counts.push([await unread('pia'), await unread('jory')]);
      }
      expect(counts).toEqual([
        [1, 2],
        [1, 1],
        [1, 1],
        [0, 0],
      ]);
      await grow(1);
      expect([await unread('pia'), await mark('tomas', 2)]).toEqual([1, 1]);
    });

    it('spares channels that are exempted, which stands in the audit log', async () => {
      await grow(3);
      const hold = { channel: chat, by: { kind: 'key', id: 'k', name: 'jury' }, atMs: 5, reason: 'an appeal' } as const;
      expect(await store.retention.hold(hold)).toBeUndefined();
      expect(await store.retention.hold({ ...hold, atMs: 6, reason: 'again' })).toEqual(hold);
      expect(await store.retention.prune(chat, 3, 10)).toEqual({ messages: 0, oldest: 1 });
      expect(await store.retention.keptRanges('', 10)).toMatchObject([{ held: true }]);
      expect([await store.retention.holds('', 10), await store.retention.holds(chat, 10)]).toEqual([[hold], []]);
      expect(await store.retention.hold({ ...hold, atMs: 7 }, 'end')).toEqual(hold);
      expect(await store.retention.hold(hold, 'end')).toBeUndefined();
      expect(await store.retention.prune(chat, 3, 10)).toEqual({ messages: 2, oldest: 3 });
      expect(
        (await store.moderation.audit(undefined, 10)).map(({ type, channel, reason }) => [type, channel, reason]),
      ).toEqual([
        ['end-hold', chat, 'an appeal'],
        ['hold', chat, 'an appeal'],
      ]);
    });

    it.each([
      ['ban of a user', { type: 'ban', user: 'pia', channel: chat }, { type: 'ban', user: 'pia' }],
      ['ban of an address', { type: 'ban', address: '192.0.2.0/24' }, { type: 'ban', address: '192.0.2.1' }],
      ['removal', { type: 'remove', user: 'pia', channel: chat }, { type: 'ban', user: 'pia', channel: chat }],
      ['silence', { type: 'silence', user: 'pia', channel: chat }, { type: 'silence', user: 'jory', channel: chat }],
    ])('has the last %s in force of those about the same', async (_, same, another) => {
      const by = { kind: 'service', id: 'i' };
      const take = (id: string, what: object, atMs: number) =>
        store.moderation.take({ id, by, atMs, untilMs: 1_000, ...what } as unknown as ModerationAction);
      await take('a1', same, 1);
      await take('a2', another, 2);
      await take('a3', same, 3);
      const { bans, silences } = await store.moderation.inForce(50);
      expect([...bans, ...silences].map(({ id }) => id).sort()).toEqual(['a2', 'a3']);
    });

    it('knows silences apart from bans, until they end', async () => {
      const by = { kind: 'service', id: 'i' } as const;
      const silence = { type: 'silence', id: 's1', user: 'pia', channel: chat, by, atMs: 1, untilMs: 100 } as const;
      await store.moderation.take(silence);
      await store.moderation.take({
        type: 'silence',
        id: 's2',
        user: 'jory',
        by,
        atMs: 2,
        everyMs: 30_000,
        reason: 'shouting',
      });
      await store.moderation.take({ type: 'ban', id: 'b1', user: 'ines', by, atMs: 3 });
      const { bans, silences } = await store.moderation.inForce(50);
      expect([bans.map(({ id }) => id), silences[0], silences[1]?.everyMs]).toEqual([['b1'], silence, 30_000]);
      await store.moderation.take({ type: 'end-silence', id: 'e2', silence: 's2', user: 'jory', by, atMs: 4 });
      expect((await store.moderation.inForce(200)).silences).toEqual([]);
    });

    it('keeps reports of messages once for each user, until they are ended', async () => {
      const { logged } = await store.messages.append(chat, draft(1, { by: { user: 'pia' }, ...of('a loose "word"') }));
      const { message, cursor } = logged;
      const by = { kind: 'key', id: 'k', name: 'jury' } as const;
      const made = (user: string, atMs: number) =>
        store.reports.report(
          {
            id: `r-${user}`,
            channel: chat,
            cursor,
            message,
            by: user.startsWith('guest:') ? { user, guest: true } : { user },
            reason: "it's",
            atMs,
          },
          { all: 2, each: user === 'bram' ? 0 : 5 },
        );
      expect(await made('ines', 1)).toEqual({ id: 'r-ines', repeated: false });
      expect(await made('ines', 2)).toEqual({ id: 'r-ines', repeated: true });
      await made('tomas', 3);
      await expect(made('jory', 4)).rejects.toMatchObject({ problem: { code: 'busy' } });
      // Guests are counted apart.
      expect(await made('guest:a', 4)).toMatchObject({ repeated: false });
      await store.reports.endReport('r-guest:a', { by, atMs: 4 });
      await store.retention.forget('reports', 5, 10);
      const list = (isOpen: boolean, from?: number) =>
        store.reports.reports({ isOpen, limit: 10, ...(from === undefined ? {} : { from }) });
      const [first, second] = await list(true);
      expect(first).toMatchObject({ id: 'r-ines', channel: chat, cursor, message, reason: "it's", atMs: 1 });
      expect((await list(true, first?.number)).map(({ id }) => id)).toEqual(['r-tomas']);
      const ended = { by, atMs: 5, note: "that's settled" };
      expect(await store.reports.endReport('r-ines', ended)).toMatchObject({ id: 'r-ines', ended });
      expect([await store.reports.endReport('r-ines', ended), await store.reports.endReport('none', ended)]).toEqual([
        undefined,
        undefined,
      ]);
      expect([await list(true), await list(false)]).toMatchObject([[{ id: second?.id }], [{ id: 'r-ines', ended }]]);
      expect(await store.reports.reportById('r-ines')).toMatchObject({ ended });
      expect((await store.moderation.audit(undefined, 1))[0]).toMatchObject({
        type: 'end-report',
        user: 'pia',
        channel: chat,
        reason: "that's settled",
      });
      expect(await store.retention.forget('reports', 6, 10)).toBe(1);
      expect(await list(false)).toEqual([]);
    });

    describe('messages that wait for a moderator', () => {
      const by = { kind: 'key', id: 'k', name: 'jury' } as const;
      const most = { all: 4, each: 3 };
      const keep = (n: number, user = 'pia', more: Partial<PendingDraft> = {}) => {
        const author = user.startsWith('guest:') ? { user, guest: true as const } : { user };
        const message = { id: `p${n}`, channel: chat, by: author, atMs: n, type: 'message', data: { text: "it's" } };
        return store.pending.keepPending({ ...message, isCleared: false, ...more }, most);
      };
      const waiting = async (more: Partial<PendingWish> = {}) =>
        (await store.pending.pending({ isWaiting: true, limit: 10, chars: 10_000, ...more })).messages.map(
          ({ id }) => id,
        );

      it('are kept once by their keys, within bounds, and listed', async () => {
        const replyTo = 'v1:1' as Cursor;
        const more = { key: 'k"1', reason: "somebody's looking", replyTo, mentions: { users: ['ines'] } };
        expect(await keep(1, 'pia', more)).toMatchObject({ repeated: false });
        const again = await keep(2, 'pia', { key: 'k"1' });
        expect(again).toMatchObject({
          repeated: true,
          message: { id: 'p1', number: 1, data: { text: "it's" }, ...more },
        });
        const which = { user: 'pia', key: 'k"1', isChange: false };
        expect(await store.pending.knownUnder(chat, which)).toEqual({ pending: again.message });
        expect(await store.pending.knownUnder(chat, { ...which, isChange: true })).toBeUndefined();
        await keep(3, 'pia', { key: 'k"1', revises: replyTo, ifRevision: null });
        expect(await store.pending.pendingById('p3')).toMatchObject({ revises: replyTo, ifRevision: null });
        await keep(4);
        await expect(keep(5)).rejects.toMatchObject({ problem: { code: 'busy' } });
        await keep(6, 'ines', { channel: signals });
        await expect(keep(7, 'bram')).rejects.toMatchObject({ problem: { code: 'busy' } });
        // Guests are counted apart.
        await keep(8, 'guest:a');
        expect([await waiting(), await waiting({ channel: signals }), await waiting({ user: 'guest:a' })]).toEqual([
          ['p1', 'p3', 'p4', 'p6', 'p8'],
          ['p6'],
          ['p8'],
        ]);
        expect(await waiting({ from: again.message.number, limit: 1 })).toEqual(['p3']);
        // At least one, and no more than may be.
        expect([await waiting({ chars: 1 }), await waiting({ chars: 190 })]).toEqual([['p1'], ['p1', 'p3']]);
        expect((await store.pending.pending({ isWaiting: true, limit: 10, chars: 190 })).more).toBe(true);
        expect([await store.pending.hasPending(chat, 'pia'), await store.pending.hasPending(chat, 'ines')]).toEqual([
          true,
          false,
        ]);
      });

      it('are decided once, by whoever comes first, which stands in the audit log', async () => {
        for (const n of [1, 2, 3]) await keep(n);
        await keep(4, 'ines', { isCleared: true });
        expect(await store.pending.clearedPending(10)).toEqual([{ channel: chat, user: 'ines' }]);
        expect(await store.pending.clearPending('p2', by, 9)).toMatchObject({ isCleared: true, clearedBy: by });
        await store.pending.clearPending('p2', by, 10);
        // The first one of its author is not decided.
        expect(await store.pending.clearedPending(10)).toEqual([{ channel: chat, user: 'ines' }]);
        expect((await store.pending.clearedPending(10, true)).map(({ user }) => user)).toEqual(['pia', 'ines']);
        expect(await store.pending.nextPending(chat, 'pia')).toMatchObject({ id: 'p1' });
        expect(await store.pending.nextPending(chat, 'pia', true)).toMatchObject({ id: 'p2' });
        expect(await store.pending.takeBackPending('p3', 'ines')).toBeUndefined();
        expect(await store.pending.takeBackPending('p3', 'pia')).toMatchObject({ id: 'p3' });
        const end = { by, atMs: 11, reason: "that's rude" };
        expect(await store.pending.refusePending('p1', end)).toMatchObject({
          refused: { atMs: 11, reason: "that's rude" },
        });
        for (const undone of [
          () => store.pending.refusePending('p1', end),
          () => store.pending.clearPending('p1', by, 12),
          () => store.pending.takeBackPending('p3', 'pia'),
          () => store.pending.refusePending('p9', end),
        ])
          expect(await undone()).toBeUndefined();
        expect(await store.pending.nextPending(chat, 'pia')).toMatchObject({ id: 'p2', clearedBy: by });
        const refused = await store.pending.pending({ isWaiting: false, limit: 10, chars: 10_000 });
        expect([refused.messages.map(({ id }) => id), refused.more]).toEqual([['p1'], false]);
        expect(
          (await store.moderation.audit(undefined, 5)).map(({ type, user, about }) => [type, user, about]),
        ).toEqual([
          ['reject', 'pia', 'p1'],
          ['approve', 'pia', 'p2'],
        ]);
        expect(await store.retention.forgettable('pending', 2)).toBe(1);
        expect(await store.retention.forget('pending', 2, 10)).toBe(1);
        expect(await waiting()).toEqual(['p2', 'p4']);
      });

      it('that the application did not answer are found, and answered once', async () => {
        const unanswered = { reason: unansweredReason, unanswered: { roles: ['jury'] } };
        await keep(1, 'pia', unanswered);
        await keep(2, 'pia', { reason: unansweredReason });
        await keep(3, 'ines', unanswered);
        await keep(4, 'ines', unanswered);
        const found = (await store.pending.unansweredPending(0, 10)).filter((each) => each.unanswered !== undefined);
        expect(found).toMatchObject([{ id: 'p1', unanswered: { roles: ['jury'] } }, { id: 'p3' }, { id: 'p4' }]);
        expect((await store.pending.unansweredPending(found[0]?.number ?? 0, 10)).map(({ id }) => id)).not.toContain(
          'p1',
        );
        expect(await store.pending.answerPending('p1', { isCleared: true, data: 'r***' })).toMatchObject({
          isCleared: true,
          data: 'r***',
        });
        expect(await store.pending.pendingById('p1')).toMatchObject({ isCleared: true, data: 'r***' });
        await store.pending.answerPending('p3', { isCleared: false, reason: 'links wait' });
        expect(await store.pending.pendingById('p3')).toMatchObject({ isCleared: false, reason: 'links wait' });
        for (const id of ['p1', 'p2', 'p3', 'p9'])
          expect(await store.pending.answerPending(id, { isCleared: true })).toBeUndefined();
        expect((await store.pending.unansweredPending(0, 10)).map(({ id }) => id)).toEqual(['p2', 'p4']);
      });

      it('wait no more with the commit that publishes them, each once', async () => {
        await keep(1, 'pia', { key: 'k1' });
        const released = (n: number, releases: string, key?: string) =>
          store.messages.append(chat, { ...draft(n, { by: { user: 'pia' } }), releases, ...(key && { key }) });
        const both = await Promise.allSettled([released(1, 'p1', 'k1'), released(2, 'p1')]);
        expect(both).toMatchObject([
          { status: 'fulfilled', value: { repeated: false } },
          { status: 'rejected', reason: { problem: { code: 'bad-value' } } },
        ]);
        expect([await store.pending.pendingById('p1'), (await store.messages.head(chat)).number]).toEqual([
          undefined,
          1,
        ]);
        expect(await store.pending.knownUnder(chat, { user: 'pia', key: 'k1', isChange: false })).toMatchObject({
          published: { id: 'm1', place: { number: 1 } },
        });
        // Its key was used elsewhere meanwhile: it is there once, and does not wait for good.
        await keep(3, 'pia', { key: 'k3' });
        await store.messages.append(chat, { ...draft(3, { by: { user: 'pia' } }), key: 'k3' });
        expect(await released(4, 'p3', 'k3')).toMatchObject({ repeated: true });
        expect(await waiting()).toEqual([]);
      });

      it('go with their author, and do not say any more who decided', async () => {
        await keep(1);
        await keep(2, 'ines');
        const pia = { kind: 'user', id: 'pia' } as const;
        await store.pending.refusePending('p2', { by: pia, atMs: 3 });
        expect(await store.persons.recordsOf('pia')).toMatchObject({
          pending: [{ id: 'p1', message: { data: { text: "it's" } } }],
        });
        expect(await erase('pending', 'pia')).toBe(2);
        expect(await erase('pending', 'pia')).toBe(0);
        const rows = await database.reads.select<{ ended_by_json: string }>('SELECT * FROM pending_messages', {});
        expect(rows).toMatchObject([{ id: 'p2' }]);
        expect(JSON.stringify(rows)).not.toContain('pia');
      });
    });

    it('forgets records of each kind, and nothing that is still of use', async () => {
      const by = { kind: 'service', id: 'i' } as const;
      for (const [n, untilMs] of [
        [1, 50],
        [2, 500],
        [3, undefined],
      ] as const)
        await store.moderation.take({
          type: 'ban',
          id: `b${n}`,
          user: `ines-${n}`,
          by,
          atMs: n,
          ...(untilMs && { untilMs }),
        });
      await store.moderation.take({ type: 'unban', id: 'u3', ban: 'b3', by, atMs: 60 });
      await store.inboxes.notify([10, 200].map((atMs) => ({ id: `n${atMs}`, user: 'pia', title: 'x', atMs })));
      await store.users.meet([
        { id: 'pia', name: 'Pia Lund', roles: ['crew'], seenAtMs: 10 },
        { id: 'jory', name: 'Jory Teague', roles: ['crew'], seenAtMs: 200 },
      ]);
      const { volume } = await store.messages.append(chat, draft(1)).then(({ logged }) => logged.place);
      for (const user of ['pia', 'jory']) await store.marks.mark(user, chat, { volume, number: 1 }, 10);
      const keys = await ApiKeys.open(database);
      const { key } = await keys.make({ name: 'old', rights: ['read'], forMs: 1 }, by);
      const kinds = ['audit', 'notices', 'users', 'bans', 'keys'] as const;
      const before = (kind: string) => (kind === 'keys' ? Date.now() + 10_000 : 100);
      const count = async () => Promise.all(kinds.map((kind) => store.retention.forgettable(kind, before(kind))));
      // Of users a role, a mark and a name; the last entry of the audit log stays.
      const counted = await count();
      expect(counted).toEqual([4, 1, 3, 2, 1]);
      for (const kind of kinds)
        for (let some = 1; some > 0; ) some = await store.retention.forget(kind, before(kind), 1);
      expect(await count()).toEqual([0, 0, 0, 0, 0]);
      expect(await store.users.usersWith('crew')).toEqual(['jory']);
      expect((await store.users.user('pia'))?.name).toBeUndefined();
      expect(await store.users.user('jory')).toMatchObject({ name: 'Jory Teague' });
      expect([await store.marks.unread('pia'), await store.marks.unread('jory')]).toMatchObject([
        [],
        [{ channel: chat }],
      ]);
      expect((await store.moderation.inForce(0)).bans.map((each) => each.id)).toEqual(['b2']);
      expect((await store.inboxes.inbox('pia', undefined, 10, 0)).notices.map((each) => each.id)).toEqual(['n200']);
      expect((await store.moderation.audit(undefined, 10)).map(({ type }) => type)).toEqual(['make-key']);
      expect((await ApiKeys.open(database)).all.map((each) => each.id)).not.toContain(key.id);
      // A place in an inbox is not given twice.
      const [next] = await store.inboxes.notify([{ id: 'n3', user: 'pia', title: 'x', atMs: 300 }]);
      expect(next?.place.number).toBe(3);
    });

    it.runIf(isFile)('gives space back to the file system', async () => {
      await grow(3_000, () => of('x'.repeat(5_000)));
      await database.write(async () => ({ statements: ['DELETE FROM messages WHERE number < 2900'], result: 0 }));
      const pages = async () => {
        const [row] = await database.reads.select<{ page_count: number }>('SELECT page_count FROM pragma_page_count');
        return row?.page_count as number;
      };
      const full = await pages();
      for (let n = 0; n < 30; n++) await store.retention.prune(chat, 2_000 + n, 2_000);
      expect(await pages()).toBeLessThan(full / 2);
    });
  });

  describe('API keys', () => {
    it('do not lose the first one when the process is killed right before or after its commit', async () => {
      const keys = await ApiKeys.open(database);
      const file = (await keys.makeFirst(folder)) as string;
      const text = readFileSync(file, 'utf8').trim();
      // Killed after the commit: the file has still its other name.
      renameSync(file, join(folder, 'api-key.made-x'));
      const again = await ApiKeys.open(database);
      expect(await again.makeFirst(folder)).toBe(file);
      expect(again.check(readFileSync(file, 'utf8').trim())).toMatchObject({ name: 'first' });
      expect(readFileSync(file, 'utf8').trim()).toBe(text);
      // Killed before: what lies there is no key, and goes.
      writeFileSync(join(folder, 'api-key.made-y'), `bells_${'y'.repeat(8)}_${'y'.repeat(43)}`);
      utimesSync(join(folder, 'api-key.made-y'), 1, 1);
      expect(await again.makeFirst(folder)).toBeUndefined();
      expect(readdirSync(folder).filter((name) => name.startsWith('api-key'))).toEqual(['api-key']);
    });

    it('are stored hashed only, checked, and made once at the first start', async () => {
      const keys = await ApiKeys.open(database);
      const file = await keys.makeFirst(folder);
      expect(file).toBe(join(folder, 'api-key'));
      expect(await keys.makeFirst(folder)).toBeUndefined();
      const { statSync } = await import('node:fs');
      const key = readFileSync(file as string, 'utf8').trim();
      expect(statSync(file as string).mode & 0o777).toBe(0o600);
      expect(keys.check(key)).toMatchObject({ name: 'first' });
      expect(keys.check(`${key}x`)).toBeUndefined();
      expect(keys.check(key.replace(/.$/, (last) => (last === 'A' ? 'B' : 'A')))).toBeUndefined();
      expect(keys.check('')).toBeUndefined();
      await database.reader.query('SELECT 1');
      const stored = JSON.stringify(await database.models.api_keys.findAll({ raw: true }));
      expect(stored).not.toContain(key.split('_').slice(2).join('_'));
      expect((await ApiKeys.open(database)).check(key)).toBeDefined();
    });
  });

  describe('inboxes in the database', () => {
    const notice = (user: string, title: string, more: object = {}) => ({
      id: title,
      user,
      title,
      atMs: 1_000,
      ...more,
    });

    it('number notices per user, replace by key, count, and outlive a restart', async () => {
      const first = await store.inboxes.notify([
        notice('pia', 'a'),
        notice('ines', 'b'),
        notice('pia', 'c', { key: 'k', data: { n: 1 } }),
      ]);
      expect(first.map(({ user, place, unread }) => [user, place.number, unread])).toEqual([
        ['pia', 1, 2],
        ['ines', 1, 1],
        ['pia', 2, 2],
      ]);
      const [replacing] = await store.inboxes.notify([notice('pia', 'd', { key: 'k', untilMs: 5_000 })]);
      expect(replacing).toMatchObject({ place: { number: 3 }, unread: 2 });
      const after = { ...(replacing as { place: { volume: string; number: number } }).place, number: 1 };
      expect((await store.inboxes.inbox('pia', after, 10, 2_000)).notices).toMatchObject([
        { id: 'd', key: 'k', until: '1970-01-01T00:00:05.000Z' },
      ]);
      expect(await store.inboxes.inbox('pia', undefined, 1, 2_000)).toMatchObject({
        notices: [{ id: 'a' }],
        more: true,
        unread: 2,
      });
      expect((await store.inboxes.inbox('pia', undefined, 10, 6_000)).unread).toBe(1);
      expect(await store.inboxes.done('pia', ['a', 'nothing'], 2_000)).toBe(1);
      expect(await store.inboxes.done('pia', true, 2_000)).toBe(0);
      // The numbers go on: what was given once is not given again under its number.
      expect((await store.inboxes.notify([notice('pia', 'e')]))[0]?.place.number).toBe(4);
      expect(await store.inboxes.inbox('nobody', undefined, 10, 0)).toMatchObject({
        notices: [],
        unread: 0,
        head: { number: 0 },
      });
    });

    it('give everything to a client whose place is ahead of the head', async () => {
      const [{ place } = { place: { volume: '', number: 0 } }] = await store.inboxes.notify([notice('pia', 'a')]);
      const ahead = { ...place, number: 9 };
      expect((await store.inboxes.inbox('pia', ahead, 10, 2_000)).notices).toMatchObject([{ id: 'a' }]);
    });

    it('remember who was met with the roles as last seen', async () => {
      await store.inboxes.notify([notice('tomas', 'a')]);
      expect(await store.users.user('tomas')).toBeUndefined();
      await store.users.meet([
        { id: 'tomas', name: 'Tomas', roles: ['skipper', 'skipper', 'x'.repeat(200)], seenAtMs: 1 },
        { id: 'bram', roles: ['coach'], seenAtMs: 1 },
      ]);
      await store.users.meet([{ id: 'tomas', name: 'Tomas Verne', roles: ['coach'], seenAtMs: 2 }]);
      expect(await store.users.user('tomas')).toEqual({
        id: 'tomas',
        name: 'Tomas Verne',
        roles: ['coach'],
        seenAtMs: 2,
      });
      expect(await store.users.usersWith('coach')).toEqual(['bram', 'tomas']);
      expect(await store.users.usersWith('skipper')).toEqual([]);
      expect((await store.inboxes.inbox('tomas', undefined, 10, 0)).unread).toBe(1);
    });
  });

  describe('read marks in the database', () => {
    const by = (user: string) => ({ by: { user } });
    const unread = async (user: string) =>
      (await store.marks.unread(user)).map(({ channel, place, unread: left, counted }) => [
        channel,
        place?.number,
        left,
        counted,
      ]);

    it('count what others said after the mark, over a restart', async () => {
      await store.messages.append(chat, draft(1, by('ines')));
      await store.messages.append(chat, draft(2, { ...by('pia'), type: 'joined' }));
      const { logged } = await store.messages.append(chat, draft(3, by('pia')));
      expect(await store.marks.mark('pia', chat, { ...logged.place, number: 1 }, 10)).toMatchObject({
        unread: 0,
        counted: 2,
      });
      const appended = await Promise.all([
        store.messages.append(chat, draft(4, by('ines'))),
        store.messages.append(chat, draft(5, by('pia'))),
        store.messages.append(chat, draft(6, { ...by('ines'), type: 'left' })),
        store.messages.append(chat, draft(7)),
      ]);
      expect(appended.map(({ counted }) => counted)).toEqual([3, 4, 4, 5]);
      await database.close();
      await open();
      expect(await unread('pia')).toEqual([[chat, 1, 2, 5]]);
      expect(await store.marks.mark('pia', chat, { ...logged.place, number: 7 }, 10)).toMatchObject({ unread: 0 });
      expect(await store.marks.mark('pia', chat, { ...logged.place, number: 4 }, 10)).toMatchObject({
        place: { number: 7 },
      });
      expect(await store.marks.marks(chat, 10)).toEqual([{ user: 'pia', place: { ...logged.place, number: 7 } }]);
      await store.marks.mark('pia', chat, null, 10);
      expect(await unread('pia')).toEqual([]);
    });

    it('begin in a direct channel with its first message, and may begin where nothing was said', async () => {
      const direct = channelName('direct/ines,pia');
      await store.messages.append(direct, draft(1, { ...by('ines'), begins: ['ines', 'pia'] }));
      await store.messages.append(direct, draft(2, { ...by('ines'), begins: ['ines', 'pia'] }));
      const { volume } = await store.messages.head(chat);
      await store.marks.mark('pia', signals, { volume, number: 0 }, 10);
      await store.messages.append(signals, draft(3));
      expect(await unread('pia')).toEqual([
        [direct, 0, 2, 2],
        [signals, 0, 1, 1],
      ]);
      expect(await unread('ines')).toEqual([[direct, 0, 0, 2]]);
      expect(await store.marks.unread('pia', [signals])).toMatchObject([{ channel: signals, unread: 1 }]);
    });

    it('refuse what the channel does not have, and too many, without harm to others of the same commit', async () => {
      const { logged } = await store.messages.append(chat, draft(1));
      const outcomes = await Promise.allSettled([
        store.marks.mark('pia', chat, logged.place, 1),
        store.marks.mark('pia', signals, { ...logged.place, number: 0 }, 1),
        store.marks.mark('ines', chat, { ...logged.place, number: 2 }, 1),
        store.marks.mark('ines', chat, { volume: 'elsewhere', number: 1 }, 1),
        store.marks.mark('jory', chat, logged.place, 1),
      ]);
      expect(outcomes.map((each) => (each.status === 'fulfilled' ? 'moved' : each.reason.problem.code))).toEqual([
        'moved',
        'too-many-channels',
        'bad-cursor',
        'bad-cursor',
        'moved',
      ]);
    });

    it('go forward and away from another process, which also reads messages, persons and hooks', async () => {
      // Processes exchange JSON, where `undefined` becomes `null`.
      const passed = <T>(value: T): T => (value === undefined ? value : JSON.parse(JSON.stringify(value)));
      const serve = serveStore(store);
      let failures = 0;
      const remote = remoteStore(
        { call: async (path, ...args) => passed((await serve(path.replace('store.', ''), passed(args))) as never) },
        () => {
          failures += 1;
        },
      );
      const { logged } = await remote.messages.append(chat, draft(1, { by: { user: 'pia' } }));
      const { place } = logged;
      expect(await remote.marks.mark('ines', chat, place, 10)).toMatchObject({ place });
      expect(await remote.marks.marks(chat, 10)).toEqual([{ user: 'ines', place }]);
      await remote.marks.mark('ines', chat, null, 10);
      expect(await remote.marks.marks(chat, 10)).toEqual([]);
      expect(await remote.marks.markThread('ines', chat, place, null, 5)).toBeUndefined();
      expect(data(await remote.messages.before(chat, undefined, all))).toEqual([1]);
      expect(data(await remote.messages.since(chat, { ...place, number: 0 }, all))).toEqual([1]);
      const found = await remote.persons.messagesOf('pia', undefined, 10);
      expect(found.messages.map(({ text }) => text)).toEqual([logged.text]);
      await remote.hooks.pauseHook('bureau', { atMs: 1, why: 'enough' });
      await remote.hooks.pauseHook('bureau', null);
      expect(await remote.hooks.hookStates()).toEqual([{ name: 'bureau' }]);
      await expect(remote.marks.mark('ines', chat, { ...place, number: 9 }, 10)).rejects.toMatchObject({
        problem: { code: 'bad-cursor' },
      });
      await expect(serve('hooks.constructor', [])).rejects.toThrow('a store has no hooks.constructor');
      expect(failures).toBe(0);
    });

    it('have the tables and columns that are declared, with their types', async () => {
      const shape = database.reader.getQueryInterface();
      const declared: Readonly<Record<string, Readonly<Record<string, Column>>>> = tables;
      const found = (await shape.showAllTables()).map((each) => (typeof each === 'string' ? each : String(each)));
      const ours = found.filter((name) => !/^(migrations|search_words.*|sqlite_.*)$/.test(name));
      expect([...ours].sort()).toEqual(Object.keys(declared).sort());
      for (const name of ours) {
        const columns = Object.entries(await shape.describeTable(name)).filter(([, { type }]) => type !== 'TSVECTOR');
        const said = columns.map(([column, { type, allowNull }]) => {
          const { isKey, isNullable, type: of } = declared[name]?.[column] ?? {};
          // A key that rises may be an INTEGER, and empty as far as SQLite says.
          const isText = /^(VARCHAR|CHARACTER VARYING|TEXT)/.test(type);
          const fits = (isText ? 'TEXT' : type) === of || (isKey && type === 'INTEGER');
          return [column, fits, isKey || isNullable === allowNull];
        });
        expect([name, said]).toEqual([name, columns.map(([column]) => [column, true, true])]);
        expect([name, columns.map(([column]) => column).sort()]).toEqual([
          name,
          Object.keys(declared[name] ?? {}).sort(),
        ]);
      }
    });

    it('number the notes of records that are older than marks', async () => {
      for (const [n, type] of ['message', 'joined', 'message', 'left', 'message'].entries())
        await store.messages.append(chat, draft(n + 1, { type }));
      await store.messages.append(signals, draft(9));
      const statements = [
        'DROP INDEX messages_by_author',
        ...['messages', 'channels'].map((table) => `ALTER TABLE ${table} DROP COLUMN notes`),
        'DROP TABLE marks',
        // Indexes go with the columns in them; the migrations after it run again.
        'DROP INDEX messages_by_key',
        'ALTER TABLE messages DROP COLUMN key_owner',
        'CREATE UNIQUE INDEX messages_by_key ON messages (channel_id, author, publish_key) WHERE publish_key IS NOT NULL',
        "DELETE FROM migrations WHERE name IN ('0006-read-marks', '0008-owners-of-keys')",
      ];
      await database.write(async () => ({ statements, result: undefined }));
      await database.close();
      await open();
      const { volume } = await store.messages.head(chat);
      expect(await store.marks.mark('pia', chat, { volume, number: 2 }, 10)).toMatchObject({ unread: 2, counted: 3 });
      expect(await store.marks.mark('pia', chat, { volume, number: 4 }, 10)).toMatchObject({ unread: 1, counted: 3 });
      expect((await store.messages.append(chat, draft(10))).counted).toBe(4);
      expect((await store.messages.append(signals, draft(11))).counted).toBe(2);
    });

    it.runIf(isFile)('find one’s own messages in an index', async () => {
      const plan = await database.reader.query<{ detail: string }>(
        "EXPLAIN QUERY PLAN SELECT COUNT(*) FROM messages m WHERE m.channel_id = 1 AND m.author = 'pia' AND m.number > 1 AND m.type NOT IN ('joined', 'left')",
        { type: 'SELECT' as never },
      );
      expect(plan.map(({ detail }) => detail).join()).toContain('USING INDEX messages_by_author');
    });
  });

  describe('the queues of hooks', () => {
    const queued = (n: number, more: Partial<QueuedEvent> = {}): QueuedEvent => ({
      hook: 'bureau',
      id: `e${n}`,
      event: 'message',
      atMs: n,
      channel: chat,
      dataText: JSON.stringify({ n, text: "it's: :a ?" }),
      ...more,
    });
    const wish = { nowMs: 1_000, horizonMs: 10_000, count: 100, chars: 1_000_000, heldUp: [] };
    const ids = async (more: Partial<DueWish> = {}, hook = 'bureau') =>
      (await store.hooks.due(hook, { ...wish, ...more })).deliveries.map(({ id }) => id);
    const outcome = (number: number, more: Partial<DeliveryOutcome> = {}): DeliveryOutcome => ({
      number,
      state: 'waiting',
      attempts: 1,
      atMs: 900,
      dueAtMs: 5_000,
      answer: { tookMs: 12, status: 500, problem: 'status 500', sent: { 'webhook-id': 'x' }, text: 'sorry' },
      ...more,
    });

    it('hold an event once for each hook, in the order of commits, and give what is due', async () => {
      await Promise.all([
        store.hooks.queue([queued(1), queued(1, { hook: 'other' })]),
        store.hooks.queue([queued(2), queued(3)]),
      ]);
      await store.hooks.queue([queued(2), queued(4, { dataText: JSON.stringify('x'.repeat(900)) })]);
      expect(await ids()).toEqual(['e1', 'e2', 'e3', 'e4']);
      expect(await ids({}, 'other')).toEqual(['e1']);
      expect(await ids({ count: 2 })).toEqual(['e1', 'e2']);
      expect(await ids({ chars: 1 })).toEqual(['e1']);
      const { deliveries } = await store.hooks.due('bureau', wish);
      expect(deliveries[0]).toMatchObject({ channel: chat, attempts: 0, dataText: queued(1).dataText });
    });

    it('hold an event together with its message, or not at all', async () => {
      await store.messages.append(chat, draft(1, { hooks: ['bureau', 'other'], hops: 2, key: 'k' }));
      await store.messages.append(chat, draft(2, { hooks: ['bureau'], key: 'k' }));
      const { deliveries } = await store.hooks.due('bureau', wish);
      expect(deliveries).toHaveLength(1);
      expect(deliveries[0]).toMatchObject({ id: 'm1', hops: 2, event: 'message' });
      expect(JSON.parse(deliveries[0]?.dataText ?? '')).toMatchObject({ channel: chat, id: 'm1', data: 1 });
      await store.moderation.take({ type: 'sign-out', user: 'pia', id: 'b', by: { kind: 'key', id: 'k' }, atMs: 5 }, [
        queued(9, { event: 'sign-out' }),
      ]);
      expect(await ids()).toEqual(['m1', 'e9']);
    });

    it('give what failed when it is due again, or when the clock was set back, and held up channels by themselves', async () => {
      await store.hooks.queue([queued(1), queued(2), queued(3, { channel: signals })]);
      const [first] = (await store.hooks.due('bureau', wish)).deliveries;
      await store.hooks.settle([outcome(first?.number as number)]);
      expect(await store.hooks.heldUp('bureau')).toEqual([{ channel: chat, number: first?.number }]);
      expect(await ids()).toEqual(['e2', 'e3']);
      expect(await ids({ heldUp: [chat] })).toEqual(['e3']);
      expect((await store.hooks.due('bureau', { ...wish, heldUp: 'all' })).nextAtMs).toBe(5_000);
      expect(await ids({ nowMs: 5_000 })).toEqual(['e1', 'e2', 'e3']);
      expect(await ids({ nowMs: 1, horizonMs: 100 })).toEqual(['e1', 'e2', 'e3']);
      const number = first?.number as number;
      await store.hooks.settle([
        outcome(number, { state: 'delivered', attempts: 2, answer: { tookMs: 1, status: 200 } }),
      ]);
      expect(await ids({ nowMs: 9_000 })).toEqual(['e2', 'e3']);
      expect(await store.hooks.attempts(number)).toMatchObject([{ status: 200 }, { status: 500, text: 'sorry' }]);
      expect(await store.hooks.deliveries({ failed: true, limit: 9 })).toMatchObject([
        { id: 'e1', state: 'delivered' },
      ]);
    });

    it('are each held by one instance at a time, and taken over when its time is over', async () => {
      const lease = (holder: string, nowMs: number, more = 9) =>
        store.hooks.leaseHooks({ holder, hooks: ['a', 'b', 'c'], more, nowMs, untilMs: nowMs + 100 });
      const hold = async (...args: Parameters<typeof lease>) => [...(await lease(...args)).held].sort();
      expect(await lease('one', 0, 2)).toEqual({ held: ['a', 'b'], free: ['c'] });
      expect(await hold('two', 50)).toEqual(['c']);
      expect(await hold('one', 90, 0)).toEqual(['a', 'b']);
      expect(await hold('two', 150)).toEqual(['c']);
      expect(await lease('two', 191, 0)).toEqual({ held: ['c'], free: ['a', 'b'] });
      expect(await hold('two', 191)).toEqual(['a', 'b', 'c']);
      expect(await hold('one', 191)).toEqual([]);
      await store.hooks.releaseHooks('two', ['a']);
      expect(await hold('one', 192)).toEqual(['a']);
    });

    it('keep the state of a hook, and what was registered', async () => {
      await store.hooks.hookFails('bureau', 7);
      await store.hooks.pauseHook('bureau', { atMs: 8, why: "it's gone" });
      await store.hooks.keepHook('mine', { definition: { url: 'x' }, key: 'k', secrets: ['s'] });
      await store.hooks.queue([queued(1, { hook: 'mine' })]);
      expect(await store.hooks.hookStates()).toEqual(
        expect.arrayContaining([
          { name: 'bureau', failingSinceMs: 7, paused: { atMs: 8, why: "it's gone" } },
          { name: 'mine', registered: { definition: { url: 'x' }, key: 'k', secrets: ['s'] } },
        ]),
      );
      await store.hooks.pauseHook('bureau', null);
      await store.hooks.keepHook('mine', null);
      expect(await store.hooks.hookStates()).toEqual([{ name: 'bureau' }]);
      expect(await ids({}, 'mine')).toEqual([]);
    });

    it('estimate the bytes that wait of many, in the queues of two hooks', async () => {
      const dataText = (n: number) => JSON.stringify('x'.repeat(n < 2_000 ? 10 : 1_000));
      const numbers = Array.from({ length: 4_000 }, (_, n) => n);
      await store.hooks.queue(
        numbers.flatMap((n) => [
          queued(n, { dataText: dataText(n) }),
          queued(n, { hook: 'other', dataText: dataText(n) }),
        ]),
      );
      const exact = numbers.reduce((sum, n) => sum + dataText(n).length, 0);
      for (const { waiting, waitingBytes } of Object.values(await store.hooks.hookFigures())) {
        expect(waiting).toBe(4_000);
        expect(Math.abs(waitingBytes / exact - 1)).toBeLessThan(0.05);
      }
    });

    it('give up, forget, count and send again', async () => {
      await store.hooks.queue([queued(1), queued(2), queued(500)]);
      const [first] = (await store.hooks.due('bureau', wish)).deliveries;
      await store.hooks.settle([outcome(first?.number as number, { state: 'delivered', atMs: 20 })]);
      const bytesOf = (...numbers: number[]) => numbers.reduce((sum, n) => sum + queued(n).dataText.length, 0);
      expect(await store.hooks.hookFigures()).toEqual({
        bureau: { waiting: 2, waitingBytes: bytesOf(2, 500), dead: 0, oldestMs: 2 },
      });
      expect(await store.hooks.tidyHook('bureau', 600, 100, 10)).toEqual({ gaveUp: 1, forgot: 0 });
      expect(await store.hooks.hookFigures()).toEqual({
        bureau: { waiting: 1, waitingBytes: bytesOf(500), dead: 1, oldestMs: 500 },
      });
      expect(
        await store.hooks.resend(
          {
            ids: [
              { hook: 'bureau', id: 'e2' },
              { hook: 'bureau', id: 'none' },
            ],
          },
          700,
        ),
      ).toBe(1);
      expect(await ids()).toEqual(['e2', 'e500']);
      expect(await store.hooks.tidyHook('bureau', 700, 100, 30)).toEqual({ gaveUp: 0, forgot: 1 });
      expect(await store.hooks.delivery({ hook: 'bureau', id: 'e1' })).toBeUndefined();
      expect(await store.hooks.attempts(first?.number as number)).toEqual([]);
      expect(await store.hooks.resend({ hook: 'bureau', fromMs: 0 }, 800)).toBe(0);
    });

    it('give events of a feed to one reader at a time, until they are acknowledged', async () => {
      await store.hooks.queue([queued(1), queued(2), queued(3)]);
      const lease = (nowMs: number, count: number) =>
        store.hooks.lease('bureau', { nowMs, untilMs: nowMs + 100, horizonMs: 200, count, chars: 1_000_000 });
      const taken = await Promise.all([lease(0, 2), lease(0, 2)]);
      expect(taken.map((each) => each.map(({ id }) => id))).toEqual([['e1', 'e2'], ['e3']]);
      expect(await store.hooks.acknowledge('bureau', ['e2', 'none'], 10)).toBe(1);
      expect(await store.hooks.unacknowledged('bureau', ['e1', 'e2', 'e3'])).toHaveLength(2);
      await store.hooks.giveBack('bureau', ['e3', 'e2']);
      expect((await lease(20, 9)).map(({ id }) => id)).toEqual(['e3']);
      expect((await lease(150, 9)).map(({ id }) => id)).toEqual(['e1', 'e3']);
    });

    it('know which channels are occupied, and queue only what changes that', async () => {
      const first = (n: number) => [queued(n, { event: 'first-in' })];
      await store.hooks.queue(first(1), { channel: chat, is: true });
      await store.hooks.queue(first(2), { channel: chat, is: true });
      await store.hooks.queue([], { channel: signals, is: true });
      expect(await store.hooks.occupied('', 9)).toEqual([chat, signals]);
      await store.hooks.queue(first(3), { channel: chat, is: false });
      await store.hooks.queue(first(4), { channel: chat, is: false });
      expect(await store.hooks.occupied('', 9)).toEqual([signals]);
      expect(await ids()).toEqual(['e1', 'e3']);
    });
  });

  describe('what came in', () => {
    it('is kept once by the sender’s id of it, also within one commit', async () => {
      const kept = await Promise.all([
        store.intakes.arrive(arrival(1)),
        store.intakes.arrive(arrival(2, { eventId: 'e1' })),
        store.intakes.arrive(arrival(3, { eventId: 'e1', intake: 'harbour' })),
        store.intakes.arrive(arrival(4, { eventId: undefined })),
        store.intakes.arrive(arrival(5, { eventId: undefined })),
      ]);
      expect(kept.map(({ id, repeated }) => `${id} ${repeated}`)).toEqual([
        'a1 false',
        'a1 true',
        'a3 false',
        'a4 false',
        'a5 false',
      ]);
      expect(await store.intakes.arrive(arrival(6, { eventId: 'e1' }))).toEqual({ id: 'a1', repeated: true });
      expect(await store.intakes.arrival('a1')).toMatchObject({ ...arrival(1), state: 'waiting', tries: 0 });
      expect(await store.intakes.arrival('a2')).toBeUndefined();
    });

    it('is taken over when its holder is gone, and forgotten when it has ended', async () => {
      for (const n of [1, 2, 3]) await store.intakes.arrive(arrival(n, { heldUntilMs: n * 100 }));
      const taken = async (nowMs: number, horizonMs = 1_000) =>
        (await store.intakes.takeOverArrivals(nowMs, nowMs + 50, horizonMs, 9)).map(({ id }) => id);
      expect(await taken(150)).toEqual(['a1']);
      expect(await taken(199)).toEqual([]);
      expect(await taken(200)).toEqual(['a1', 'a2']);
      // The clock was set back.
      expect(await taken(1, 10)).toEqual(['a1', 'a2', 'a3']);
      const became = { route: 1, messages: [{ channel: chat, id: 'm', cursor: 'v:1' as never }] };
      await Promise.all([
        store.intakes.endArrival({ id: 'a1', state: 'done', atMs: 10, became }),
        store.intakes.endArrival({ id: 'a2', state: 'failed', atMs: 20, problem: "it's odd" }),
        store.intakes.endArrival({ id: 'a3', state: 'waiting', atMs: 20, heldUntilMs: 900, problem: 'later' }),
      ]);
      expect(await store.intakes.arrivals({ limit: 9 })).toMatchObject([
        { id: 'a3', state: 'waiting', tries: 1, heldUntilMs: 900 },
        { id: 'a2', state: 'failed', problem: "it's odd", endedAtMs: 20 },
        { id: 'a1', state: 'done', became },
      ]);
      expect(await store.intakes.arrivals({ intake: 'buoy', state: 'failed', limit: 9 })).toHaveLength(1);
      expect(await store.intakes.tidyIntake('buoy', 15, 0)).toBe(1);
      expect((await store.intakes.arrivals({ limit: 9 })).map(({ id }) => id)).toEqual(['a3', 'a2']);
    });

    it('keeps the sender’s id for longer than the event, so that it recognizes a repeat', async () => {
      await store.intakes.arrive(arrival(1, { eventId: 'e1' }));
      await store.intakes.arrive(arrival(2));
      for (const id of ['a1', 'a2']) await store.intakes.endArrival({ id, state: 'done', atMs: 10 });
      expect(await store.intakes.tidyIntake('buoy', 15, 5)).toBe(2);
      expect(await store.intakes.arrivals({ limit: 9 })).toEqual([]);
      expect(await store.intakes.arrival('a1')).toBeUndefined();
      expect(await store.intakes.arrive(arrival(3, { eventId: 'e1' }))).toEqual({ id: 'a1', repeated: true });
      // There is nothing more to forget until the id's time is over.
      expect(await store.intakes.tidyIntake('buoy', 15, 5)).toBe(0);
      expect(await store.intakes.tidyIntake('quay', 99, 99)).toBe(0);
      await store.intakes.tidyIntake('buoy', 99, 99);
      expect(await store.intakes.arrive(arrival(4, { eventId: 'e1' }))).toEqual({ id: 'a4', repeated: false });
    });

    it('forgets the sender’s id in time, however many older ones another intake keeps for longer', async () => {
      const kept = Array.from({ length: 2_100 }, (_, n) => arrival(n + 1, { intake: 'quay', eventId: `q${n}` }));
      await Promise.all(kept.map((each) => store.intakes.arrive(each)));
      await Promise.all(kept.map(({ id }) => store.intakes.endArrival({ id, state: 'done', atMs: 10 })));
      await store.intakes.arrive(arrival(9_001, { eventId: 'e1' }));
      await store.intakes.endArrival({ id: 'a9001', state: 'done', atMs: 10 });
      for (let pruned = 1; pruned > 0; ) pruned = await store.intakes.tidyIntake('quay', 15, 5);
      expect(await store.intakes.tidyIntake('buoy', 15, 5)).toBe(1);
      expect(await store.intakes.tidyIntake('buoy', 15, 15)).toBe(1);
      expect(await store.intakes.arrive(arrival(9_002, { eventId: 'e1' }))).toEqual({ id: 'a9002', repeated: false });
    });
  });

  it('of a newer version is not opened, and is left as it is', async () => {
    const statements = ["INSERT INTO migrations (name) VALUES ('9999-from-the-future')"];
    await database.write(async () => ({ statements, result: undefined }));
    await database.close();
    const opening = Database.open({ data: folder, sqliteSynchronous: 'full', database: url });
    await expect(opening).rejects.toThrow(
      /^the database was changed by a newer version of Nine Bells \(9999-from-the-future\)/,
    );
  });

  it('keeps the terms of the relay in one order for all instances', async () => {
    const [here, there] = [new TermStore(database), new TermStore(database)];
    const facts = { run: 'r1', replication: 'x1', wasReplica: false, startedAtMs: 10, nowMs: 20 };
    const first = { ...facts, isDurable: true, hasReplicas: false };
    const agreed = await Promise.all([here.agree('one', first), there.agree('one', first)]);
    expect(agreed.map(({ term }) => term.term)).toEqual([1, 1]);
    expect(agreed.filter(({ isNew }) => isNew)).toHaveLength(1);
    // Started again with everything on disk: it goes on. Another place counts for itself.
    const again = await there.agree('one', { ...first, run: 'r2', replication: 'x2', startedAtMs: 30, nowMs: 31 });
    expect(again).toMatchObject({ isNew: true, wasMet: false, term: { term: 2, continues: 1 } });
    expect((await here.agree('other', first)).term).toMatchObject({ term: 3, place: 'other' });
    expect(await here.latestOf(1)).toMatchObject({ term: 2, run: 'r2' });
    await here.note(2, { isReplicated: true });
    const third = await here.agree('one', { ...first, run: 'r3', replication: 'x3', startedAtMs: 40, nowMs: 41 });
    expect(third.term.continues).toBeUndefined();
    // The first one comes back, as it was.
    expect(await here.agree('one', first)).toMatchObject({ isNew: true, wasMet: true, term: { term: 5 } });
    expect(await here.latestOf(4)).toMatchObject({ term: 4 });
    expect(await here.latestOf(99)).toBeUndefined();
  });

  it('is one for several processes: no number twice, no hole, a key known to all', async () => {
    const other = await Database.open({ data: folder, sqliteSynchronous: 'full', database: url });
    const others = await SqlStore.open(other);
    const appended = await Promise.all(
      Array.from({ length: 400 }, (_, n) =>
        (n % 2 ? store : others).messages.append(chat, draft(n, { key: `k${n >> 1}` })),
      ),
    );
    expect(appended.filter(({ repeated }) => repeated)).toHaveLength(200);
    const { messages, head } = await store.messages.since(
      chat,
      { ...(await store.messages.head(chat)), number: 0 },
      all,
    );
    expect(messages.map(({ place }) => place.number)).toEqual(Array.from({ length: 200 }, (_, n) => n + 1));
    expect(await others.messages.heads([signals, chat])).toEqual([{ ...head, number: 0 }, head]);
    await other.close();
  });
}
