import { connect, type Notice } from '@nine-bells/client';
import { afterEach, describe, expect, it } from 'vitest';
import { WebSocket } from 'ws';
import { ninebells } from './support/command.js';
import { type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

async function start(): Promise<StartedService> {
  const started = await startService();
  clean.push(() => started.remove());
  return started;
}

function open(started: StartedService, user: string) {
  const sockets: WebSocket[] = [];
  class Breakable extends WebSocket {
    constructor(url: string, protocols: string[]) {
      super(url, protocols);
      sockets.push(this);
    }
  }
  const line = connect(started.url, {
    token: () => started.token(user, 60_000, { roles: ['skipper'] }),
    backOff: { firstMs: 10, maxMs: 50 },
    WebSocket: Breakable as never,
  });
  clean.push(() => line.close());
  const inbox = line.inbox();
  const rung: Notice[] = [];
  inbox.addEventListener('notice', ({ detail }) => rung.push(detail));
  return { line, inbox, rung, cut: () => sockets.at(-1)?.terminate() };
}

describe('an inbox', () => {
  it('is the same on two devices and after a restart; what came during a break rings once', async () => {
    const started = await start();
    await started.backend.notify({ users: ['tomas'], title: 'before he came' });
    const desk = open(started, 'tomas');
    const phone = open(started, 'tomas');
    await until(() => desk.inbox.unread === 1 && phone.inbox.unread === 1);
    // What was there already is shown, and does not ring.
    expect([desk.inbox.notices[0]?.title, desk.rung]).toEqual(['before he came', []]);
    await started.backend.notify({ users: ['tomas'], title: 'start moved', data: { by: 20 } });
    await until(() => desk.rung.length === 1 && phone.rung.length === 1);
    phone.cut();
    await started.backend.notify({ users: ['tomas'], title: 'while away' });
    await until(() => phone.inbox.unread === 3);
    expect(phone.rung.map(({ title }) => title)).toEqual(['start moved', 'while away']);
    await phone.inbox.done([phone.inbox.notices[0]?.id as string]);
    await until(() => desk.inbox.unread === 2);
    expect(desk.inbox.notices.map(({ title }) => title)).toEqual(['start moved', 'while away']);
    await started.stop();
    const again = await startService({ folder: started.folder });
    clean.push(() => again.remove());
    const later = open(again, 'tomas');
    await until(() => later.inbox.unread === 2);
    await later.inbox.done(true);
    expect((await again.backend.inbox('tomas')).unread).toBe(0);
  });

  it('is written and read by command and call, to roles as last seen too', async () => {
    const started = await start();
    const tomas = open(started, 'tomas');
    await tomas.line.opened();
    await new Promise((resolve) => setTimeout(resolve, 1_300));
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    const run = (...args: string[]) => ninebells(args, env);
    expect((await run('notify', '--role', 'skipper', '--title', 'Tide tables', '--data', '{"at":"desk"}')).out).toBe(
      'Notified one user.\n',
    );
    expect((await run('notify', 'ines', 'pia', '--title', 'x', '--if-available')).out).toBe(
      'Notified no user, passed over 2.\n',
    );
    await until(() => tomas.rung.length === 1);
    expect((await run('inbox', 'tomas')).out).toMatch(/Tide tables +\{"at":"desk"\} +done +\w{26}/);
    expect((await run('inbox', 'pia')).err).toContain('is empty');
    expect(await started.backend.user('tomas')).toMatchObject({ name: 'tomas of the test', roles: ['skipper'] });
    expect((await started.backend.done('tomas', true)).unread).toBe(0);
    await until(() => tomas.inbox.unread === 0);
    const { code, err } = await run('notify', '--title', 'x');
    expect([code, err]).toEqual([3, expect.stringContaining('say whom')]);
  });

  it.each<[object, string]>([
    [{ title: 'x' }, 'say whom'],
    [{ users: [], title: 'x' }, 'is empty'],
    [{ users: ['guest:x'], title: 'x' }, 'guests have no inbox'],
    [{ users: ['a'], role: 'b', title: 'x' }, 'say whom'],
    [{ users: ['a'] }, 'title'],
    [{ users: ['a'], title: 'x', data: 'x'.repeat(20_000) }, 'at most 16384'],
    [{ users: ['a'], title: 'x', forMs: 0 }, 'forMs'],
    [{ channel: 'nowhere', title: 'x' }, 'no channel rule'],
    [{ channel: 'committee', title: 'x' }, 'do not show who is there'],
  ])('takes nothing of %j', async (wish, detail) => {
    const started = await start();
    await expect(started.backend.notify(wish as never)).rejects.toThrow(detail);
  });
});
