import type { MemoryStore } from '@nine-bells/core/testing';
import { closeCodes } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { harness } from './harness.js';

const operator = { kind: 'key', id: 'k1', name: 'first' } as const;
const erase = { user: 'oona', messages: 'withdraw' } as const;

/** An instance whose process ends after the first commit of an erasure, and one beside it to which the user is connected. */
async function killedAfterFirstCommit() {
  let dies = false;
  const dying = (memory: MemoryStore) =>
    new Proxy(memory, {
      get(target, name) {
        const member = Reflect.get(target, name);
        if (typeof member !== 'function') return member;
        return async (...given: unknown[]) => {
          const result = await member.apply(target, given);
          if (name !== 'beginErasure' || !dies) return result;
          return new Promise(() => {});
        };
      },
    });
  const all = harness({ pulseMs: 3_600_000 }, dying);
  const oona = await all.welcomed('oona');
  dies = true;
  void all.restarted().eraser.begin(erase, operator);
  await all.settle();
  dies = false;
  return { ...all, oona };
}

describe('an erasure whose instance was killed after its first commit', () => {
  it('has revoked the tokens of the user', async () => {
    const { memory, clock } = await killedAfterFirstCommit();
    expect((await memory.inForce(clock.now())).cutoffs).toEqual([{ user: 'oona', beforeMs: expect.any(Number) }]);
  });

  it('signs the user out when it is requested again', async () => {
    const { engine, oona } = await killedAfterFirstCommit();
    const again = await engine.eraser.begin(erase, operator);
    expect([oona.closedWith?.code, (await engine.eraser.list(5)).map(({ id }) => id)]).toEqual([
      closeCodes.tokenEnded,
      [again.id],
    ]);
  });

  it('signs the user out when another instance takes it over', async () => {
    const { engine, oona, clock, settle } = await killedAfterFirstCommit();
    await clock.run(61_000);
    await engine.eraser.takeUp();
    await settle();
    expect(oona.closedWith?.code).toBe(closeCodes.tokenEnded);
  });
});
