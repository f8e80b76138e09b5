import type { EveryStore, MemoryStore } from '@nine-bells/core/testing';
import { channelName, refusal } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import type { ChannelRule } from '../src/index.js';
import { type Client, harness, storeWith } from './harness.js';

const hearing = channelName('protest/7');
const rules: readonly ChannelRule[] = [
  {
    pattern: 'protest/:case',
    logbook: { type: 'kept' },
    allow: {
      enter: { any: [{ role: 'committee' }, 'invited'] },
      publish: { any: [{ role: 'committee' }, { invited: 'witness' }] },
      invite: { role: 'committee' },
      moderate: { role: 'chair' },
    },
  },
];
const setUp = (options: object = {}, store?: (memory: MemoryStore) => EveryStore) =>
  harness({ pulseMs: 400 * 86_400_000, guests: true, users: {}, ...options }, store, { rules });
type Harness = ReturnType<typeof setUp>;

async function ask({ settle }: Harness, client: Client, request: object) {
  const id = client.send(request);
  await settle();
  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  return client.reply(id) as any;
}
const codeOf = async (all: Harness, client: Client, request: object): Promise<string> =>
  (await ask(all, client, request)).problem?.code ?? 'done';
const enter = { do: 'enter', channel: hearing };
const publish = { do: 'publish', channel: hearing, data: 'I saw it' };

describe('an invitation', () => {
  it('lets users in by its code, with its role, as often as it says; each user once', async () => {
    const all = setUp();
    const mira = await all.welcomed('mira!committee!witness');
    const [pia, ines, bram, guest] = [
      await all.welcomed('pia'),
      await all.welcomed('ines'),
      await all.welcomed('bram'),
      await all.welcomed(),
    ];
    const first = await ask(all, mira, { do: 'invite', channel: hearing, role: 'witness', uses: 2 });
    expect(first.invitation).toMatchObject({
      channel: hearing,
      by: { user: 'mira' },
      uses: 2,
      used: 0,
      role: 'witness',
    });
    const { code } = first;
    expect(await codeOf(all, pia, enter)).toBe('not-allowed');
    expect(await ask(all, pia, { do: 'accept', code })).toMatchObject({ channel: hearing, role: 'witness' });
    // However it is typed, and whatever comes twice at once.
    const typed = ` ${code.toUpperCase().replaceAll('-', ' ')}`;
    const twice = [ines.send({ do: 'accept', code: typed }), ines.send({ do: 'accept', code })];
    await all.settle();
    for (const id of twice) expect(ines.reply(id)).toMatchObject({ channel: hearing });
    expect(await codeOf(all, pia, { do: 'accept', code })).toBe('done');
    expect(await codeOf(all, bram, { do: 'accept', code })).toBe('invitation-over');
    for (const each of [pia, ines])
      expect([await codeOf(all, each, enter), await codeOf(all, each, publish)]).toEqual(['done', 'done']);
    expect((await ask(all, mira, { do: 'invitations', channel: hearing })).invitations).toMatchObject([
      { used: 2, over: 'used-up' },
    ]);
    // Without a role it lets in, and no more; a guest for a day.
    const other = await ask(all, mira, { do: 'invite', channel: hearing });
    expect(await ask(all, guest, { do: 'accept', code: other.code })).toMatchObject({ until: expect.any(String) });
    expect([await codeOf(all, guest, enter), await codeOf(all, guest, publish)]).toEqual(['done', 'not-allowed']);
    await all.clock.run(86_500_000);
    expect(guest.pushes('removed')).toMatchObject([{ channel: hearing, problem: { code: 'not-allowed' } }]);
    expect(await codeOf(all, pia, publish)).toBe('done');
  });

  it('is for one user, who is notified, unless it has blocked who invites', async () => {
    const all = setUp();
    const [mira, pia, ines] = [
      await all.welcomed('mira!committee'),
      await all.welcomed('pia'),
      await all.welcomed('ines'),
    ];
    await ask(all, mira, { do: 'invite', channel: hearing, user: 'pia' });
    const { data, title } = pia.pushes('notice')[0];
    expect([title, data.channel]).toEqual(['MIRA invites you to protest/7', hearing]);
    expect(await ask(all, ines, { do: 'accept', code: data.code })).toMatchObject({
      problem: { code: 'invitation-over', detail: 'it is for another user' },
    });
    expect(await codeOf(all, pia, { do: 'accept', code: data.code })).toBe('done');
    await ask(all, ines, { do: 'block', user: 'mira' });
    await ask(all, mira, { do: 'invite', channel: hearing, user: 'ines' });
    expect(ines.pushes('notice')).toEqual([]);
  });

  it('ends, and with it at once what it has let in: by who made it, or who may moderate', async () => {
    const all = setUp();
    const [mira, tomas, chair, pia] = [
      await all.welcomed('mira!committee'),
      await all.welcomed('tomas!committee'),
      await all.welcomed('oona!committee!chair'),
      await all.welcomed('pia'),
    ];
    const made = async () =>
      (await ask(all, mira, { do: 'invite', channel: hearing, uses: 3, forMs: 600_000 })) as Awaited<
        ReturnType<typeof ask>
      >;
    const [one, two] = [await made(), await made()];
    await ask(all, pia, { do: 'accept', code: one.code });
    await ask(all, pia, enter);
    const end = (id: string, more = {}) => ({ do: 'uninvite', channel: hearing, invitation: id, ...more });
    expect(await codeOf(all, tomas, end(one.invitation.id))).toBe('not-allowed');
    expect(await codeOf(all, mira, end('n999'))).toBe('no-such-invitation');
    expect(await ask(all, mira, end(one.invitation.id))).toMatchObject({ invitation: { over: 'revoked' }, ended: 0 });
    expect(await codeOf(all, tomas, { do: 'accept', code: one.code })).toBe('invitation-over');
    expect([await codeOf(all, pia, enter), pia.pushes('removed')]).toEqual(['done', []]);
    expect(await ask(all, chair, end(one.invitation.id, { admitted: true }))).toMatchObject({ ended: 1 });
    expect(pia.pushes('removed')).toMatchObject([{ channel: hearing, problem: { code: 'not-allowed' } }]);
    expect(await codeOf(all, pia, enter)).toBe('not-allowed');
    // By an application, for one user.
    await ask(all, pia, { do: 'accept', code: two.code });
    await ask(all, pia, enter);
    expect(await all.engine.invitations.endAdmission(hearing, 'pia', { kind: 'key', id: 'k1' })).toBe(true);
    await all.settle();
    expect(pia.pushes('removed')).toHaveLength(2);
    await all.clock.run(601_000);
    expect(await codeOf(all, pia, { do: 'accept', code: two.code })).toBe('invitation-over');
  });

  it.each([
    ['by who may not', 'pia', { do: 'invite', channel: hearing }, 'not-allowed'],
    ['to see, by who may not', 'pia', { do: 'invitations', channel: hearing }, 'not-allowed'],
    [
      'with a role that one has not',
      'mira!committee',
      { do: 'invite', channel: hearing, role: 'chair' },
      'not-allowed',
    ],
    ['for nobody', 'mira!committee', { do: 'invite', channel: hearing, uses: 0 }, 'bad-value'],
    ['into nowhere', 'mira!committee', { do: 'invite', channel: 'nowhere' }, 'no-such-channel'],
    ['that there is none of', 'pia', { do: 'accept', code: 'abcdef-abcdef' }, 'no-such-invitation'],
    ['without a code', 'pia', { do: 'accept' }, 'bad-value'],
  ])('is refused: %s', async (_, user, request, code) => {
    const all = setUp();
    expect(await codeOf(all, await all.welcomed(user), request)).toBe(code);
  });

  it('is not found out by guessing: the session, and then its address, must wait', async () => {
    const all = setUp({ accepts: { count: 3, perMs: 60_000 }, wrongCodes: { count: 5, perMs: 60_000 } });
    const codes: string[] = [];
    for (const user of ['pia', 'ines', 'bram']) {
      const client = await all.welcomed(user, {}, undefined, '192.0.2.7');
      for (let guess = 0; guess < 4; guess++)
        codes.push(await codeOf(all, client, { do: 'accept', code: `guess${guess}` }));
    }
    const wrong = 'no-such-invitation';
    expect(codes).toEqual([
      ...[wrong, wrong, wrong, 'rate-limited'],
      ...[wrong, wrong, 'rate-limited', 'rate-limited'],
      ...['rate-limited', 'rate-limited', 'rate-limited', 'rate-limited'],
    ]);
    expect(
      await codeOf(all, await all.welcomed('oona', {}, undefined, '192.0.2.8'), { do: 'accept', code: 'guess' }),
    ).toBe(wrong);
  });

  it('lets no user in while it cannot be read who is invited, and is explained', async () => {
    let fails = false;
    const store = (memory: MemoryStore): EveryStore =>
      storeWith(memory, {
        admissions: async (...wish) => {
          if (fails) throw refusal('unavailable', 'the database does not answer');
          return memory.admissions(...wish);
        },
      });
    const all = setUp({}, store);
    const [mira, pia] = [await all.welcomed('mira!committee'), await all.welcomed('pia')];
    const { code, invitation } = await ask(all, mira, { do: 'invite', channel: hearing });
    await ask(all, pia, { do: 'accept', code });
    const who = { user: 'pia', guest: false, roles: [], claims: {} };
    const explained = await all.engine.access.explain('enter', hearing, { who, address: undefined });
    expect(JSON.stringify(explained.evaluation)).toContain(`by the invitation ${invitation.id}`);
    fails = true;
    await all.clock.run(31_000);
    expect(await codeOf(all, pia, enter)).toBe('ask-failed');
    expect(await codeOf(all, mira, enter)).toBe('done');
    fails = false;
    expect(await codeOf(all, pia, enter)).toBe('done');
  });
});
