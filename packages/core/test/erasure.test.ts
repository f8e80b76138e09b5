import type { MemoryStore } from '@nine-bells/core/testing';
import { channelName, closeCodes } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { harness, storeWith } from './harness.js';

const operator = { kind: 'key', id: 'k1', name: 'first' } as const;
const erase = { user: 'oona', messages: 'withdraw' } as const;

/** An instance whose process ends after the first commit of an erasure, and another that the user is connected to. */
async function killedAfterFirstCommit() {
  let dies = false;
  const dying = (memory: MemoryStore) =>
    storeWith(memory, {
      beginErasure: async (...given) => {
        const begun = await memory.beginErasure(...given);
        return dies ? new Promise(() => {}) : begun;
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

it('an erasure that has ended looks once more for messages from before its end', async () => {
  const { engine, memory, clock } = harness();
  const chat = channelName('race/3/chat');
  const by = { user: 'oona', name: 'Oona Quill' };
  await engine.messages.publish({ channel: chat, data: 'early', by });
  const { id } = await engine.eraser.begin(erase, operator);
  await clock.run(10_000);
  const ended = await engine.eraser.byId(id);
  expect(ended).toMatchObject({ endedAtMs: expect.any(Number) });
  expect(ended).not.toHaveProperty('user');
  const draft = { type: 'message', dataText: '"late"', by };
  await memory.append(chat, { ...draft, id: 'l1', atMs: (ended?.endedAtMs ?? 0) - 1 });
  // The same id is another user by now.
  await memory.append(chat, { ...draft, id: 'l2', atMs: clock.now() });
  await clock.run(100_000);
  const { messages } = await memory.messagesOf('oona', undefined, 10);
  expect(messages.map((each) => each.id)).toEqual(['l2']);
  expect(await memory.takeErasures(clock.now() + 1e9, clock.now() + 2e9)).toEqual([]);
});
