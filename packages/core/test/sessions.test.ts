import { describe, expect, it } from 'vitest';
import { VirtualClock } from '../simulator/virtualClock.js';
import { guestIdentity } from '../src/index.js';
import { Sessions } from '../src/session/sessions.js';

describe('sessions without a connection', () => {
  const setUp = () => {
    const clock = new VirtualClock();
    let counter = 0;
    const next = () => `${++counter}`;
    const ids = { message: next, session: next, volume: next, moderation: next };
    const hmac = {
      sign: (text: string) => `mac${text.length}`,
      matches: (text: string, mac: string) => mac === `mac${text.length}`,
      digest: (text: string) => text,
    };
    const sessions = new Sessions(clock, ids, hmac, 60_000);
    const guest = (id: string, name?: string) => guestIdentity(`guest:${id}`, name);
    return { clock, sessions, admit: (id?: string, secret?: string) => sessions.admit(guest, id, secret) };
  };

  it('are remembered for a time, those that come back for longer, and then forgotten with their names', async () => {
    const { clock, sessions, admit } = setUp();
    const [first, second, third] = [admit(), admit(), admit()];
    sessions.ended(first.session, 'lost');
    sessions.ended(second.session, 'lost');
    await clock.run(40_000);
    const back = admit(first.session.id, first.secret);
    expect([back.continued, back.who.name]).toEqual([true, first.who.name]);
    await clock.run(30_000);
    sessions.sweep();
    // The second is forgotten; the first has come back, the third never went.
    expect(sessions.size).toBe(2);
    sessions.ended(back.session, 'lost');
    sessions.ended(third.session, 'left');
    await clock.run(60_001);
    sessions.sweep();
    expect(sessions.size).toBe(0);
  });

  it('are so many at the most', () => {
    const { sessions, admit } = setUp();
    for (let n = 0; n < 100_050; n++) sessions.ended(admit().session, 'lost');
    expect(sessions.size).toBe(100_000);
  });
});
