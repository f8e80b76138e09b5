import type { Line } from '@nine-bells/client';
import { afterEach, describe, expect, it } from 'vitest';
import { ninebells } from './support/command.js';
import { redisIsThere } from './support/realRedis.js';
import { openLine, type StartedService, startInstances } from './support/service.js';
import { startTwo } from './support/twoInstances.js';
import { until } from './support/until.js';

const text = `
service: { port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
channels:
  - pattern: "protest/:case"
    logbook: kept
    allow:
      enter: { any: [{ role: committee }, invited] }
      publish: { any: [{ role: committee }, { invited: witness }] }
      invite: { role: committee }
`;
const hearing = 'protest/7';
const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const start = (more: Parameters<typeof startInstances>[2] = {}): Promise<StartedService[]> =>
  startInstances(text, clean, more);

const come = (service: StartedService, user: string | undefined, roles: string[] = []): Promise<Line> =>
  openLine(clean, service, user, { rights: { roles } });

describe('invitations', () => {
  it('let a client in that was refused before, by the SDK, and end', async () => {
    const [service] = (await start()) as [StartedService];
    const mira = await come(service, 'mira', ['committee', 'witness']);
    const guest = await come(service, undefined);
    const entry = guest.enter(hearing);
    const refused = new Promise((resolve) => entry.addEventListener('refused', ({ detail }) => resolve(detail.code)));
    expect(await refused).toBe('not-allowed');
    const { code, invitation } = await mira.invite(hearing, { role: 'witness' });
    expect(code).toMatch(/^[a-z2-9]{6}(-[a-z2-9]{6}){3}$/);
    expect(await guest.accept(code)).toMatchObject({ channel: hearing, role: 'witness', until: expect.any(String) });
    await entry.ready;
    await entry.publish('I saw it');
    const removed = new Promise((resolve) => entry.addEventListener('refused', ({ detail }) => resolve(detail.code)));
    expect(await mira.uninvite(hearing, invitation.id, { admitted: true })).toMatchObject({ ended: 1 });
    expect(await removed).toBe('not-allowed');
    expect((await mira.invitations(hearing)).invitations).toMatchObject([
      { id: invitation.id, over: 'revoked', used: 1 },
    ]);
    await expect(guest.accept('abcdef')).rejects.toMatchObject({ code: 'no-such-invitation' });
  });

  it('are made and ended by commands, explained, exported, erased and forgotten', async () => {
    const [service] = (await start()) as [StartedService];
    const { backend, url, key } = service;
    const env = { NINEBELLS_URL: url, NINEBELLS_KEY: key };
    const run = async (...args: string[]) => (await ninebells(args, env)).out;
    const page = 'https://regatta.example/hearing';
    const link = await run(
      'invite',
      hearing,
      '--role',
      'witness',
      '--for',
      '2h',
      '--by',
      'mira:Mira Holt',
      '--link',
      page,
    );
    const code = /^https:\/\/regatta\.example\/hearing#invitation=(\S+)\n$/.exec(link)?.[1] ?? '';
    const pia = await come(service, 'pia');
    await pia.accept(code);
    expect(await run('invitations', hearing)).toMatch(/1 of 1 +any +witness +Mira Holt +used-up/);
    expect(await run('admissions', hearing)).toMatch(/^USER.*\npia +witness +\S+ \S+ +it is ended/);
    expect(await run('explain', 'publish', hearing, '--user', 'pia')).toMatch(/invited as witness.*by the invitation/s);
    expect(JSON.parse(await run('person', 'pia')).records.admissions).toMatchObject([
      { channel: hearing, role: 'witness' },
    ]);
    expect(JSON.parse(await run('person', 'mira')).records.invitations).toMatchObject([{ channel: hearing }]);
    const some = (await backend.makeKey({ name: 'other', rights: ['moderate:race/:race/chat'] })).key;
    const [{ id } = { id: '' }] = (await backend.invitations(hearing)).invitations;
    expect((await ninebells(['end-invitation', id], { ...env, NINEBELLS_KEY: some })).err).toMatch(
      /Unknown invitation/,
    );
    expect(await run('end-admission', hearing, 'pia')).toBe(`pia is no longer let into ${hearing}.\n`);
    expect(await run('end-admission', hearing, 'pia')).toBe(`pia was not let into ${hearing} by an invitation.\n`);
    const second = await backend.invite({ channel: hearing, user: 'pia' });
    await pia.accept(second.code);
    expect(await run('end-invitation', second.invitation.id, '--admitted')).toBe(
      'Ended; 1 who had accepted it are no longer let in.\n',
    );
    await backend.endInvitation((await backend.invite({ channel: hearing })).invitation.id, { by: { user: 'mira' } });
    const { entries } = await backend.audit();
    expect(entries.filter(({ channel }) => channel === hearing)).toMatchObject([
      { type: 'end-invitation', by: { user: 'mira' } },
      { type: 'end-invitation', about: second.invitation.id },
      { type: 'end-admission', by: { name: 'first' }, user: 'pia', about: id },
    ]);
    await pia.accept((await backend.invite({ channel: hearing, uses: 5 })).code);
    await backend.erase({ user: 'pia' });
    await backend.erase({ user: 'mira' });
    await until(async () => (await backend.erasures()).erasures.every(({ endedAt }) => endedAt !== undefined));
    expect((await backend.admissions(hearing)).admissions).toEqual([]);
    expect(JSON.stringify((await backend.invitations(hearing)).invitations)).not.toMatch(/mira|pia/);
  });
});

describe('invitations, on two instances', () => {
  it.skipIf(!redisIsThere)('hold on both at once, and admit no more than they say', async () => {
    const [one, two] = await startTwo(text, clean);
    const { code, invitation } = await one.backend.invite({ channel: hearing, uses: 3 });
    const lines = await Promise.all(
      Array.from({ length: 8 }, (_, n) => come(n % 2 === 0 ? one : two, `user${Math.floor(n / 2)}`)),
    );
    // Each user on both instances, all at once.
    const outcomes = await Promise.all(
      lines.map((line) =>
        line.accept(code).then(
          () => 'in',
          (error: { code: string }) => error.code,
        ),
      ),
    );
    expect(outcomes.filter((each) => each === 'invitation-over')).toHaveLength(2);
    expect((await two.backend.admissions(hearing)).admissions).toHaveLength(3);
    const at = outcomes.indexOf('in');
    const [here, there] = [lines[at - (at % 2)] as Line, lines[at - (at % 2) + 1] as Line];
    const entries = [here.enter(hearing), there.enter(hearing)];
    await Promise.all(entries.map((each) => each.ready));
    const gone = entries.map((each) => new Promise((resolve) => each.addEventListener('refused', resolve)));
    await two.backend.endInvitation(invitation.id, { admitted: true });
    await Promise.all(gone);
  });
});
