import type { MemoryStore } from '@nine-bells/core/testing';
import { type Author, channelName, closeCodes } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import type { Answer, ChannelRule, MessageReport, Question } from '../src/index.js';
import { harness } from './harness.js';

const hearing = channelName('protest/7');
const open = channelName('open');
const rules: readonly ChannelRule[] = [
  {
    pattern: 'protest/:case',
    logbook: { type: 'kept' },
    allow: { enter: 'anyone', publish: 'anyone', moderate: { role: 'chair' } },
  },
  { pattern: 'open', logbook: { type: 'kept' }, allow: { enter: 'anyone', publish: 'anyone' } },
  {
    pattern: 'asked/:n',
    logbook: { type: 'kept' },
    allow: { enter: { ask: 'http://regatta.example' }, publish: 'anyone' },
  },
];
type StoreOf = Parameters<typeof harness>[1];
const operator = { kind: 'key', id: 'k1', name: 'first' } as const;
const enter = { enter: [{ channel: hearing }, { channel: open }] };

function setUp(ask: (question: Question) => Promise<Answer> = async () => ({ allow: true }), store?: StoreOf) {
  return harness({ pulseMs: 3_600_000 }, store, { rules, asker: { ask: (_, question) => ask(question) } });
}

describe('silencing a user', () => {
  const chat = { enter: [{ channel: hearing }, { channel: open }] };
  const codes = (client: { reply(id: number): { problem?: { code: string } } }, ids: readonly number[]) =>
    ids.map((id) => client.reply(id)?.problem?.code);

  it('lets it read and not write, where and for as long as is said, on any connection', async () => {
    const { welcomed, settle, engine, clock, restarted } = setUp();
    const sunniva = await welcomed('sunniva!chair', chat);
    const ines = await welcomed('ines', chat);
    const write = (client: typeof ines) => [
      client.send({ do: 'publish', channel: hearing, data: 1 }),
      client.send({ do: 'hail', channel: hearing, type: 'typing' }),
      client.send({ do: 'status', status: 'away' }),
      client.send({ do: 'publish', channel: open, data: 2 }),
      client.send({ do: 'read', channel: hearing }),
      client.send({ do: 'mark', channel: open, cursor: 'v1:0' }),
    ];
    const before = write(ines);
    await settle();
    const hailed = codes(ines, before)[1];
    const id = sunniva.send({ do: 'silence', channel: hearing, user: 'ines', reason: 'shouting', forMs: 60_000 });
    await settle();
    const until = '2031-06-14T12:01:00.000Z';
    expect(sunniva.reply(id)).toEqual({ re: id, until });
    const by = { user: 'sunniva', name: 'SUNNIVA' };
    const told = { on: 'silenced', channel: hearing, reason: 'shouting', by, until };
    expect(ines.pushes('silenced')).toEqual([told]);
    const marked = codes(ines, before)[5];
    const expected = ['silenced', 'silenced', 'silenced', undefined, undefined, marked];
    const during = write(ines);
    await settle();
    expect([hailed, codes(ines, during)]).toEqual(['not-allowed', expected]);
    expect(ines.reply(during[0] as number).problem).toMatchObject({
      detail: `silenced in ${hearing} by SUNNIVA until ${until}: shouting`,
      until,
    });
    // It still receives messages. New connections get the push again, also after a restart.
    await engine.messages.publish({ channel: hearing, data: 'for all' });
    await settle();
    expect(ines.data).toContain('for all');
    const again = restarted();
    await settle();
    for (const where of [engine, again]) {
      const other = await welcomed(
        'ines',
        { enter: [{ channel: hearing, status: 'words' }, { channel: open }] },
        where,
      );
      expect(other.pushes('silenced')).toEqual([told]);
      const ids = write(other);
      await settle();
      expect(codes(other, ids)).toEqual(expected);
    }
    await clock.run(60_000);
    const after = write(ines);
    await settle();
    expect(codes(ines, after)).toEqual(codes(ines, before));
  });

  it('reaches the user again after a restored backup has numbered it like an earlier action', async () => {
    const { welcomed, settle, engine, clock } = setUp(undefined, (memory) => {
      const take = memory.take.bind(memory);
      return Object.assign(memory, { take: async (...of: Parameters<typeof take>) => Math.min(1, await take(...of)) });
    });
    const ines = await welcomed('ines', chat);
    await engine.moderation.silence({ user: 'ines', forMs: 60_000 }, operator);
    await clock.run(1_000);
    await engine.moderation.silence({ user: 'ines', forMs: 120_000 }, operator);
    await settle();
    expect(ines.pushes('silenced')).toHaveLength(2);
  });

  it.each([
    ['as it is heard of', false],
    ['as it is read from the database before it is heard of', true],
  ])('everywhere ends when that is said, and the user is told once of each, %s', async (_, isReadBefore) => {
    const { welcomed, settle, engine } = setUp(undefined, (memory) => {
      const take = memory.take.bind(memory);
      return Object.assign(memory, {
        take: async (...of: Parameters<typeof take>) => {
          const change = await take(...of);
          if (isReadBefore) await engine.moderation.catchUp();
          return change;
        },
      });
    });
    const ines = await welcomed('ines', chat);
    const tomas = await welcomed('tomas', chat);
    const { action } = await engine.moderation.silence({ user: 'ines' }, operator);
    const late = await welcomed('ines', chat);
    const ids = [hearing, open].map((channel) => ines.send({ do: 'publish', channel, data: 1 }));
    const other = tomas.send({ do: 'publish', channel: open, data: 2 });
    await settle();
    expect([codes(ines, ids), codes(tomas, [other])]).toEqual([['silenced', 'silenced'], [undefined]]);
    expect(engine.moderation.silences.map(({ user }) => user)).toEqual(['ines']);
    await engine.moderation.endSilence(action.id, operator);
    const last = ines.send({ do: 'publish', channel: open, data: 3 });
    await settle();
    expect(codes(ines, [last])).toEqual([undefined]);
    for (const client of [ines, late])
      expect(client.pushes('silenced')).toEqual([{ on: 'silenced' }, { on: 'silenced', over: true }]);
    expect(() => engine.moderation.endSilence(action.id, operator)).toThrow('no silence of this id is in force');
  });

  it.each([
    ['a longer silence', 3_600_000, 60_000],
    ['a shorter one', 60_000, 3_600_000],
  ])('replaces %s of the user there, also after a restart', async (_, before, forMs) => {
    const { settle, engine, clock, restarted } = setUp();
    const silence = async (wish: object) => {
      const [{ action }] = await Promise.all([
        engine.moderation.silence({ user: 'ines', ...wish }, operator),
        settle(),
      ]);
      await clock.run(1);
      return action.id;
    };
    const other = await silence({ channel: open, forMs: before });
    await silence({ channel: hearing, forMs: before });
    const last = await silence({ channel: hearing, forMs });
    const again = restarted();
    await again.moderation.ready();
    for (const { moderation } of [engine, again])
      expect(moderation.silences.map(({ id }) => id)).toEqual([last, other]);
    await clock.run(Math.min(before, forMs) + 1);
    expect(engine.moderation.silences.map(({ id }) => id)).toEqual([forMs < before ? other : last]);
  });

  it('is for those who may moderate', async () => {
    const { welcomed, settle } = setUp();
    const ines = await welcomed('ines', chat);
    const id = ines.send({ do: 'silence', channel: hearing, user: 'sunniva' });
    await settle();
    expect(ines.reply(id).problem?.code).toBe('not-allowed');
  });
});

describe('reporting a message', () => {
  it('puts it before the moderators as it was, once for each user, and they end it', async () => {
    const { welcomed, settle, engine } = setUp();
    const ines = await welcomed('ines');
    const { cursor } = await engine.messages.publish({ channel: open, data: 'a loose word', by: { user: 'pia' } });
    const report = async (client: typeof ines, more: object) => {
      const id = client.send({ do: 'report', channel: open, cursor, ...more });
      await settle();
      return client.reply(id) as unknown as { report?: string; problem?: { code: string } };
    };
    const { report: id } = await report(ines, { reason: 'an insult' });
    expect(await report(ines, { reason: 'again' })).toMatchObject({ report: id });
    expect((await report(await welcomed('tomas'), {})).report).not.toBe(id);
    const list = async (more: object = {}) => engine.reports.list({ isOpen: true, limit: 10, ...more });
    const [first, second] = await list();
    expect(first).toMatchObject({ id, channel: open, cursor, reason: 'an insult', by: { user: 'ines' } });
    expect(first?.message).toMatchObject({ data: 'a loose word', by: { user: 'pia' } });
    expect((await list({ from: first?.number })).map(({ by }) => by.user)).toEqual(['tomas']);
    expect(await list({ channel: hearing })).toEqual([]);
    const ended = await engine.reports.end(id as string, operator, 'silenced for an hour');
    expect(ended.ended).toMatchObject({ by: operator, note: 'silenced for an hour' });
    await expect(engine.reports.end(id as string, operator)).rejects.toMatchObject({ problem: { code: 'no-such-id' } });
    expect([await list(), await list({ isOpen: false })]).toMatchObject([[{ id: second?.id }], [{ id }]]);
  });

  it.each([
    ['no such message', { cursor: 'v1:99' }, 'bad-cursor'],
    ['a message of another record', { cursor: 'other:1' }, 'bad-cursor'],
    ['what is no cursor', { cursor: 'x' }, 'bad-cursor'],
    ['a channel that one may not read', { channel: 'closed', cursor: 'v1:1' }, 'not-allowed'],
    ['a reason of 501 characters', { reason: 'x'.repeat(501) }, 'bad-value'],
  ])('of %s is refused', async (_, wrong, code) => {
    const more = [...rules, { pattern: 'closed', logbook: { type: 'kept' }, allow: {} } as const];
    const { welcomed, settle, engine } = harness({}, undefined, {
      rules: more,
      asker: { ask: async () => ({ allow: true }) },
    });
    const { cursor } = await engine.messages.publish({ channel: open, data: 1 });
    const ines = await welcomed('ines');
    const id = ines.send({ do: 'report', channel: open, cursor, ...wrong });
    await settle();
    expect(ines.reply(id).problem?.code).toBe(code);
  });

  it('is bounded for a session, and for all', async () => {
    const { welcomed, settle, engine, memory } = setUp();
    const ines = await welcomed('ines');
    const codes: unknown[] = [];
    for (let n = 0; n < 12; n++) {
      const { cursor } = await engine.messages.publish({ channel: open, data: n });
      const id = ines.send({ do: 'report', channel: open, cursor });
      await settle();
      codes.push(ines.reply(id).problem?.code);
    }
    expect(codes).toEqual([...Array(10).fill(undefined), 'rate-limited', 'rate-limited']);
    const [kept] = await engine.reports.list({ isOpen: true, limit: 1 });
    const taken = (by: object, most: { all: number; each: number }) =>
      memory.report({ ...(kept as MessageReport), id: 'another', by: by as Author }, most).then(
        () => 'taken',
        (error: { problem: { code: string } }) => error.problem.code,
      );
    // Guests do not crowd out users, nor one user the others.
    expect([
      await taken({ user: 'x' }, { all: 10, each: 5 }),
      await taken({ user: 'guest:x', guest: true }, { all: 1, each: 5 }),
      await taken({ user: 'guest:y', guest: true }, { all: 1, each: 5 }),
      await taken({ user: 'x' }, { all: 11, each: 5 }),
    ]).toEqual(['busy', 'taken', 'busy', 'taken']);
  });
});

describe('slow mode', () => {
  const slow = (slowMs?: number): readonly ChannelRule[] => [
    {
      pattern: 'chat/:n',
      logbook: { type: 'kept' },
      allow: { enter: 'anyone', publish: 'anyone', moderate: { role: 'chair' } },
      ...(slowMs && { slowMs }),
    },
  ];
  const [one, two] = [channelName('chat/1'), channelName('chat/2')];

  it('takes a message of a user once in a time, whatever its sessions; a moderator writes as it likes', async () => {
    const { welcomed, settle, clock } = harness({ dataBytes: 100 }, undefined, { rules: slow(10_000) });
    const [pia, phone, chair] = [await welcomed('pia'), await welcomed('pia'), await welcomed('sunniva!chair')];
    const publish = async (client: typeof pia, channel = one, data: unknown = 1) => {
      const id = client.send({ do: 'publish', channel, data });
      await settle();
      const { problem } = client.reply(id) as { problem?: { code: string; retryAfterMs?: number } };
      return problem && [problem.code, problem.retryAfterMs];
    };
    // What is refused anyway does not count.
    expect(await publish(pia, one, 'x'.repeat(200))).toEqual(['too-large', undefined]);
    expect([await publish(pia), await publish(pia)]).toEqual([undefined, ['rate-limited', 10_000]]);
    // The message that had the turn, tried again, is not refused: its publisher may have missed the reply.
    const third = await welcomed('tomas');
    const tries = ['k', 'k', 'other'].map((key) => third.send({ do: 'publish', channel: one, data: 1, key }));
    await settle();
    expect(tries.map((id) => third.reply(id).problem?.code)).toEqual([undefined, undefined, 'rate-limited']);
    await clock.run(4_000);
    expect([await publish(phone), await publish(phone, two)]).toEqual([['rate-limited', 6_000], undefined]);
    expect([await publish(chair), await publish(chair)]).toEqual([undefined, undefined]);
    await clock.run(6_000);
    expect([await publish(phone), await publish(pia)]).toEqual([undefined, ['rate-limited', 10_000]]);
  });

  it('of one user comes from a moderator, and ends with that', async () => {
    const { welcomed, settle, clock, engine } = harness({ pulseMs: 3_600_000 }, undefined, { rules: slow() });
    const [pia, tomas] = [await welcomed('pia', { enter: [{ channel: one }] }), await welcomed('tomas')];
    const wish = { user: 'pia', channel: one, everyMs: 30_000, forMs: 60_000 };
    await engine.moderation.silence(wish, operator);
    await settle();
    expect(pia.pushes('silenced')).toMatchObject([{ channel: one, everyMs: 30_000 }]);
    const publish = async (client: typeof pia, channel = one) => {
      const id = client.send({ do: 'publish', channel, data: 1 });
      await settle();
      return client.reply(id).problem?.code;
    };
    expect([await publish(pia), await publish(pia), await publish(pia, two)]).toEqual([
      undefined,
      'rate-limited',
      undefined,
    ]);
    expect([await publish(tomas), await publish(tomas)]).toEqual([undefined, undefined]);
    await clock.run(60_000);
    expect([await publish(pia), await publish(pia)]).toEqual([undefined, undefined]);
  });
});

describe('removing a member', () => {
  it('tells who and why, drops what waits of the channel, and leaves the other channels alone', async () => {
    const { welcomed, settle, engine } = setUp();
    const sunniva = await welcomed('sunniva!chair', enter);
    const ines = await welcomed('ines', enter);
    ines.waitingBytes = 1;
    await engine.messages.publish({ channel: hearing, data: 'not for Ines any more' });
    await engine.messages.publish({ channel: open, data: 'for everybody' });
    const id = sunniva.send({ do: 'remove', channel: hearing, user: 'ines', reason: 'interrupting', banMs: 60_000 });
    await settle();
    ines.waitingBytes = 0;
    ines.connection.drained();
    expect(sunniva.reply(id)).toEqual({ re: id, until: '2031-06-14T12:01:00.000Z' });
    expect(ines.data).toEqual(['for everybody']);
    expect(ines.pushes('removed')).toEqual([
      {
        on: 'removed',
        channel: hearing,
        reason: 'interrupting',
        by: { user: 'sunniva', name: 'SUNNIVA' },
        until: '2031-06-14T12:01:00.000Z',
      },
    ]);
    await engine.messages.publish({ channel: hearing, data: 'behind closed doors' });
    await settle();
    expect(ines.data).toEqual(['for everybody']);
    expect(sunniva.data).toEqual(['not for Ines any more', 'for everybody', 'behind closed doors']);
  });

  it('keeps the member out until the ban ends, for every act and on a new connection too', async () => {
    const { welcomed, settle, engine, clock, restarted } = setUp();
    await engine.moderation.remove({ channel: hearing, user: 'ines', reason: 'interrupting', banMs: 60_000 }, operator);
    const refusedAll = async (again: Awaited<ReturnType<typeof welcomed>>): Promise<unknown[]> => {
      const ids = [
        again.send({ do: 'enter', channel: hearing }),
        again.send({ do: 'publish', channel: hearing, data: 1 }),
        again.send({ do: 'read', channel: hearing }),
        again.send({ do: 'remove', channel: hearing, user: 'pia' }),
      ];
      await settle();
      return ids.map((id) => again.reply(id).problem?.code);
    };
    const again = await welcomed('ines', enter);
    expect(again.frames[0].entered[0].problem).toMatchObject({
      code: 'banned',
      detail: 'banned from protest/7 until 2031-06-14T12:01:00.000Z: interrupting',
      until: '2031-06-14T12:01:00.000Z',
    });
    expect(await refusedAll(again)).toEqual(['banned', 'banned', 'banned', 'banned']);
    // It outlives the process.
    const after = restarted();
    expect((await welcomed('ines', enter, after)).frames[0].entered[0].problem.code).toBe('banned');
    await clock.run(60_000);
    const id = again.send({ do: 'enter', channel: hearing });
    await settle();
    expect(again.reply(id).problem).toBeUndefined();
  });

  it('is for those who may moderate', async () => {
    const { welcomed, settle } = setUp();
    const pia = await welcomed('pia', enter);
    const ines = await welcomed('ines', enter);
    const ids = [
      pia.send({ do: 'remove', channel: hearing, user: 'ines' }),
      pia.send({ do: 'remove', channel: open, user: 'ines' }),
      pia.send({ do: 'remove', channel: 'nowhere', user: 'ines' }),
    ];
    await settle();
    expect(ids.map((id) => pia.reply(id).problem?.code)).toEqual(['not-allowed', 'not-allowed', 'no-such-channel']);
    expect(ines.pushes('removed')).toEqual([]);
  });

  it('without a ban lets the member come back at once', async () => {
    const { welcomed, settle, engine } = setUp();
    const ines = await welcomed('ines', enter);
    const { sessions } = await engine.moderation.remove({ channel: hearing, user: 'ines' }, operator);
    expect(sessions).toBe(1);
    await settle();
    expect(ines.pushes('removed')).toEqual([{ on: 'removed', channel: hearing }]);
    const id = ines.send({ do: 'enter', channel: hearing });
    await settle();
    expect(ines.reply(id).problem).toBeUndefined();
  });

  it('reaches whoever is just about to enter', async () => {
    let answer = (_: Answer): void => {};
    const { welcomed, settle, engine } = setUp(() => new Promise((resolve) => (answer = resolve)));
    const ines = await welcomed('ines');
    const channel = channelName('asked/1');
    const id = ines.send({ do: 'enter', channel });
    await settle();
    await engine.moderation.remove({ channel, user: 'ines', banMs: 1000 }, operator);
    answer({ allow: true });
    await settle();
    expect(ines.reply(id).problem?.code).toBe('banned');
    await engine.messages.publish({ channel, data: 1 });
    await settle();
    expect(ines.data).toEqual([]);
  });

  it('reaches whoever is let in already, while the record is being read', async () => {
    let read = (): void => {};
    const slow = (memory: MemoryStore) => {
      const head = memory.head.bind(memory);
      return Object.assign(memory, {
        head: async (...args: Parameters<typeof head>) => {
          await new Promise<void>((resolve) => (read = resolve));
          return head(...args);
        },
      });
    };
    const { welcomed, settle, engine } = harness({ pulseMs: 3_600_000 }, slow, {
      rules,
      asker: { ask: async () => ({ allow: true }) },
    });
    const ines = await welcomed('ines');
    const id = ines.send({ do: 'enter', channel: hearing });
    await settle();
    await engine.moderation.remove({ channel: hearing, user: 'ines', banMs: 1000 }, operator);
    read();
    await settle();
    expect(ines.reply(id).problem?.code).toBe('banned');
    await engine.messages.publish({ channel: hearing, data: 1 });
    await settle();
    expect(ines.data).toEqual([]);
  });
});

describe('a ban from the service', () => {
  it('ends every connection of the user with a word, and lets none in until it is lifted', async () => {
    const { welcomed, settle, engine } = setUp();
    const both = [await welcomed('ines'), await welcomed('ines')];
    const pia = await welcomed('pia');
    const { action, sessions } = await engine.moderation.ban(
      { user: 'ines', reason: 'threats', forMs: 3_600_000 },
      operator,
    );
    await settle();
    expect(sessions).toBe(2);
    for (const each of both) {
      expect(each.closedWith).toEqual({ code: closeCodes.signedOut, reason: 'banned' });
      expect(each.pushes('problem')[0]).toMatchObject({ code: 'banned', detail: expect.stringContaining('threats') });
    }
    expect(pia.closedWith).toBeUndefined();
    const again = await welcomed('ines');
    expect(again.frames[0].problem.code).toBe('banned');
    expect(again.closedWith?.code).toBe(closeCodes.signedOut);
    expect(engine.moderation.bans).toEqual([action]);
    await engine.moderation.unban(action.id, operator);
    expect((await welcomed('ines')).frames[0].session).toBeDefined();
    expect(() => engine.moderation.unban(action.id, operator)).toThrow('no ban of this id');
  });

  it('reaches an act that is waiting for its token', async () => {
    const { connect, clock, engine, settle } = setUp();
    const ines = connect();
    ines.send({ do: 'hello', token: 'late:ines' });
    await settle();
    await engine.moderation.ban({ user: 'ines' }, operator);
    await clock.run(1000);
    expect(ines.closedWith?.code).toBe(closeCodes.signedOut);
  });

  it('of a guest holds for its session; of an address, for everybody from there', async () => {
    const { welcomed, connect, engine, settle } = setUp();
    const guest = await welcomed(undefined, {}, engine, '192.0.2.7');
    const { user, session, secret } = guest.frames[0];
    await engine.moderation.ban({ user }, operator);
    await settle();
    expect(guest.closedWith?.code).toBe(closeCodes.signedOut);
    expect((await welcomed(undefined, { session, secret })).frames[0].problem.code).toBe('banned');
    // Without its session a guest is somebody new: that is the limit of banning one.
    expect((await welcomed(undefined, {}, engine, '192.0.2.7')).frames[0].user).not.toBe(user);
    const { sessions } = await engine.moderation.ban({ address: '192.0.2.7' }, operator);
    expect(sessions).toBe(1);
    const back = connect(engine, '192.0.2.7');
    await settle();
    expect(back.closedWith?.code).toBe(closeCodes.signedOut);
    expect((await welcomed(undefined, {}, engine, '192.0.2.8')).closedWith).toBeUndefined();
  });

  it.each([
    [{}, 'of a user or of an address'],
    [{ user: 'a', address: 'b' }, 'of a user or of an address'],
    [{ user: 'a', channel: channelName('nowhere') }, 'no channel rule'],
  ])('is of a user or an address, in a channel that there is, and not of %j', async (wish, why) => {
    await expect(setUp().engine.moderation.ban(wish, operator)).rejects.toThrow(why);
  });
});

describe('signing out and revoking', () => {
  it('ends the sessions, and takes no token of before any more', async () => {
    const { welcomed, engine, settle, clock } = setUp();
    const ines = await welcomed('ines');
    const { session, secret } = ines.frames[0];
    // Read before, slowly: it was issued before, too.
    await engine.moderation.signOut('ines', operator, 'lost phone');
    await settle();
    expect(ines.closedWith).toEqual({ code: closeCodes.signedOut, reason: 'signed-out' });
    expect(ines.pushes('problem')).toMatchObject([
      { code: 'token-ended', detail: 'signed out: lost phone', ends: true },
    ]);
    await clock.run(1);
    const again = await welcomed('ines', { session, secret });
    expect(again.frames[0]).toMatchObject({ user: 'ines', continued: false });
  });

  it('closes with 4903 when tokens are revoked, so that a client brings a new one', async () => {
    const { welcomed, connect, engine, settle, clock } = setUp();
    const ines = await welcomed('ines');
    const waiting = connect();
    waiting.send({ do: 'hello', token: 'ines' });
    await settle();
    clock.run(1);
    await engine.moderation.revokeTokens('ines', { kind: 'user', id: 'sunniva', name: 'Sunniva Dahl' }, 'a new role');
    await settle();
    const detail = 'the token was revoked by Sunniva Dahl: a new role';
    expect(ines.pushes('problem')).toMatchObject([{ code: 'token-ended', detail, ends: true }]);
    expect(ines.closedWith).toEqual({ code: closeCodes.tokenEnded, reason: 'the token was revoked' });
    expect(waiting.closedWith?.code).toBe(closeCodes.tokenEnded);
  });

  it('outlives the process, and a token that does not say when it was issued is not taken then', async () => {
    const { engine, welcomed, clock, restarted } = setUp();
    const early = await welcomed('ines');
    await clock.run(5);
    await engine.moderation.revokeTokens('ines', operator);
    expect(early.closedWith?.code).toBe(closeCodes.tokenEnded);
    const after = restarted();
    await after.ready();
    expect(
      (await after.access.explain('enter', open, { who: { user: 'ines', guest: false, roles: [], claims: {} } }))
        .allowed,
    ).toBe(true);
    await clock.run(5);
    expect((await welcomed('ines', {}, after)).frames[0].user).toBe('ines');
  });

  it('signs out a guest by its session', async () => {
    const { welcomed, engine, settle } = setUp();
    const guest = await welcomed();
    const { user, session, secret } = guest.frames[0];
    await engine.moderation.signOut(user, operator);
    await settle();
    expect(guest.closedWith?.code).toBe(closeCodes.signedOut);
    expect((await welcomed(undefined, { session, secret })).frames[0].problem.code).toBe('token-ended');
  });
});

describe('the audit log', () => {
  it('says who did what to whom, where, why and until when, the latest first', async () => {
    const { engine, welcomed, settle } = setUp();
    const sunniva = await welcomed('sunniva!chair', enter);
    sunniva.send({ do: 'remove', channel: hearing, user: 'ines', reason: 'interrupting' });
    await settle();
    await engine.moderation.ban({ user: 'ines', forMs: 1000 }, operator);
    await engine.moderation.signOut('tomas', operator, 'lost phone');
    const all = await engine.moderation.audit(undefined, 10);
    expect(all.map(({ type, user, by }) => [type, user, by.id])).toEqual([
      ['sign-out', 'tomas', 'k1'],
      ['ban', 'ines', 'k1'],
      ['remove', 'ines', 'sunniva'],
    ]);
    expect(all[2]).toMatchObject({ channel: hearing, reason: 'interrupting', by: { kind: 'user', name: 'SUNNIVA' } });
    expect(await engine.moderation.audit(all[1]?.number, 10)).toEqual([all[2]]);
  });
});

describe('an answer of the application', () => {
  it('that runs out is asked for again, and whoever is not let in any more leaves with the reason', async () => {
    let answer: Answer = { allow: true, rememberMs: 10_000 };
    let asked = 0;
    const { welcomed, clock, engine, settle } = setUp(async () => {
      asked += 1;
      return answer;
    });
    const channel = channelName('asked/1');
    const ines = await welcomed('ines', { enter: [{ channel }] });
    await clock.run(10_100);
    expect([asked, ines.pushes('removed')]).toEqual([2, []]);
    answer = { allow: false, reason: 'the desk is closed' };
    await clock.run(10_100);
    expect(ines.pushes('removed')).toMatchObject([
      { channel, problem: { code: 'not-allowed', detail: 'the desk is closed' } },
    ]);
    await engine.messages.publish({ channel, data: 1 });
    await settle();
    expect(ines.data).toEqual([]);
    // Nobody is there any more to be asked about.
    await clock.run(60_000);
    expect(asked).toBe(3);
  });

  it('holds up the later acts of the session, and of nobody else', async () => {
    let answer = (_: Answer): void => {};
    const { welcomed, settle } = setUp(() => new Promise((resolve) => (answer = resolve)));
    const pia = await welcomed('pia', enter);
    const ines = await welcomed('ines', enter);
    ines.send({ do: 'enter', channel: 'asked/1' });
    ines.send({ do: 'publish', channel: open, data: 'second' });
    pia.send({ do: 'publish', channel: open, data: 'first' });
    await settle();
    expect(pia.data).toEqual(['first']);
    answer({ allow: true });
    await settle();
    expect(pia.data).toEqual(['first', 'second']);
  });
});

describe('limits', () => {
  it('refuse publishes and requests beyond the rate with a time to wait, and take them again after it', async () => {
    const { welcomed, clock, settle } = harness({
      publishes: { count: 2, perMs: 1000 },
      requests: { count: 13, perMs: 1000 },
    });
    const pia = await welcomed('pia');
    const ids = [1, 2, 3].map((data) => pia.send({ do: 'publish', channel: 'race/3/chat', data }));
    await settle();
    expect(ids.map((id) => pia.reply(id).problem?.code)).toEqual([undefined, undefined, 'rate-limited']);
    expect(pia.reply(ids[2] as number).problem).toMatchObject({ retryAfterMs: 500 });
    const reads = [1, 2, 3, 4].map(() => pia.send({ do: 'read', channel: 'race/3/chat' }));
    await settle();
    // A read counts for five. A client that goes on all the same is read from no faster than it may ask.
    expect(reads.map((id) => pia.reply(id)?.problem?.code ?? pia.reply(id))).toMatchObject([
      { messages: [{}, {}] },
      { messages: [{}, {}] },
      'rate-limited',
      undefined,
    ]);
    await clock.run(500);
    expect(pia.reply(reads[3] as number)).toMatchObject({ messages: [{}, {}] });
  });

  it('hold for a session, whatever connection it comes on', async () => {
    const { welcomed, settle } = harness({ publishes: { count: 1, perMs: 60_000 } });
    const pia = await welcomed('pia');
    const { session, secret } = pia.frames[0];
    pia.send({ do: 'publish', channel: 'race/3/chat', data: 1 });
    await settle();
    const again = await welcomed('pia', { session, secret });
    const id = again.send({ do: 'publish', channel: 'race/3/chat', data: 2 });
    await settle();
    expect(again.reply(id).problem?.code).toBe('rate-limited');
  });

  it('bound the connections of a user and of an address', async () => {
    const { welcomed, connect, engine, settle } = harness({ connectionsPerUser: 2, connectionsPerAddress: 3 });
    const first = await welcomed('pia', {}, engine, '192.0.2.1');
    await welcomed('pia', {}, engine, '192.0.2.1');
    const third = await welcomed('pia', {}, engine, '192.0.2.1');
    expect(third.frames[0].problem.code).toBe('too-many-connections');
    first.connection.closed(1000);
    expect((await welcomed('pia', {}, engine, '192.0.2.2')).frames[0].user).toBe('pia');
    await welcomed('jory', {}, engine, '192.0.2.1');
    await welcomed('jory', {}, engine, '192.0.2.1');
    const fourth = connect(engine, '192.0.2.1');
    await settle();
    expect(fourth.closedWith).toEqual({ code: closeCodes.tryLater, reason: 'too-many-connections' });
    // What was turned away does not count.
    expect((await welcomed('ines', {}, engine, '192.0.2.9')).frames[0].user).toBe('ines');
  });

  it('shut the limiter to an address that tries out tokens, and open it again', async () => {
    const { welcomed, connect, engine, settle, clock } = harness({ failedHellos: { count: 3, perMs: 60_000 } });
    for (let i = 0; i < 3; i++) await welcomed('forged', {}, engine, '192.0.2.1');
    const shut = connect(engine, '192.0.2.1');
    await settle();
    expect(shut.closedWith).toEqual({ code: closeCodes.tryLater, reason: 'rate-limited' });
    // Tokens that have merely ended, and other addresses, are not meant.
    for (let i = 0; i < 5; i++) await welcomed('ended', {}, engine, '192.0.2.2');
    expect((await welcomed('pia', {}, engine, '192.0.2.2')).frames[0].user).toBe('pia');
    await clock.run(20_000);
    expect((await welcomed('pia', {}, engine, '192.0.2.1')).frames[0].user).toBe('pia');
  });
});
