import type { EveryStore, MemoryStore } from '@nine-bells/core/testing';
import { type Verb, verbs } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { type CallRule, defaultBoard, defaultCall, sessionVerbs } from '../src/index.js';
import { harness } from './harness.js';

const channel = 'closed';
const rules = [
  { pattern: channel, logbook: { type: 'kept' }, board: defaultBoard, searched: ['/text'], allow: {} },
] as const;

/** What nobody may call. */
const closed: CallRule = { ...defaultCall, name: 'closed', allow: 'nobody', answerer: () => ({ data: 'called' }) };

/** One request of every verb, aimed at a channel, or a user, that nobody may do anything to. */
const samples: Readonly<Record<Verb, object>> = {
  hello: { token: 'pia', enter: [{ channel, last: 10 }] },
  enter: { channel, last: 10 },
  leave: { channel },
  publish: { channel, data: 1 },
  revise: { channel, cursor: 'v1:1', data: 1 },
  withdraw: { channel, cursor: 'v1:1' },
  revisions: { channel, cursor: 'v1:1' },
  react: { channel, cursor: 'v1:1', word: 'wow' },
  reactors: { channel, cursor: 'v1:1' },
  hail: { channel, type: 'typing', to: ['ines'] },
  set: { channel, entry: 'petrel', value: 1 },
  call: { name: 'closed' },
  read: { channel },
  status: { channel, status: 'away' },
  mark: { channel, cursor: 'v1:1' },
  unread: {},
  threads: {},
  search: { words: 'petrel', in: [channel] },
  level: { channel, level: 'nothing' },
  levels: {},
  pending: {},
  'take-back': { pending: 'p1' },
  block: { user: 'ines' },
  unblock: { user: 'ines' },
  blocks: {},
  watch: { user: 'ines' },
  unwatch: { user: 'ines' },
  inbox: {},
  remove: { channel, user: 'ines', banMs: 1000 },
  silence: { channel, user: 'ines', forMs: 1000 },
  report: { channel, cursor: 'v1:1', reason: 'an insult' },
  invite: { channel, user: 'ines' },
  accept: { code: 'abc' },
  invitations: { channel },
  uninvite: { channel, invitation: 'n1' },
  refresh: { token: 'pia' },
  pulse: { got: { [channel]: 'v1:1' } },
};

/** What is read and written of the store for any user, whatever it may do. */
const own = new Set([
  'inForce',
  'changes',
  'inbox',
  'meet',
  'unread',
  'block',
  'blocks',
  'hasBlocks',
  'setLevel',
  'levels',
  'pending',
  'takeBackPending',
  'accept',
  'threads',
]);

describe('no verb reaches a channel without a decision', () => {
  it('and every verb says which decision that is', () => {
    expect(['hello', ...Object.keys(sessionVerbs)].sort()).toEqual([...verbs].sort());
    expect(Object.keys(samples).sort()).toEqual([...verbs].sort());
  });

  it.each(verbs)('%s', async (verb) => {
    const touched: string[] = [];
    const watched = (memory: MemoryStore): EveryStore =>
      new Proxy(memory, {
        get: (target, name) => {
          const member = target[name as keyof MemoryStore] as unknown;
          if (typeof member !== 'function') return member;
          // What is the user's own is nobody else's to decide.
          if (!own.has(String(name))) touched.push(String(name));
          return member.bind(target);
        },
      });
    const { connect, settle, engine } = harness({ calls: [closed] }, watched, { rules });
    const pia = connect();
    if (verb !== 'hello') pia.send({ do: 'hello', token: 'pia' });
    await settle();
    const id = pia.send({ do: verb, ...samples[verb] });
    await settle();
    const reply = pia.reply(id) as { problem?: { code: string }; entered?: { problem?: { code: string } }[] };
    const code = reply?.problem?.code ?? reply?.entered?.[0]?.problem?.code;
    if (verb === 'status') expect(code).toBe('bad-value');
    else if (verb === 'accept') expect(code).toBe('no-such-invitation');
    else if (verb === 'take-back') expect(code).toBe('no-such-id');
    else if (verb === 'search') expect(code).toBe('not-allowed');
    else if (verb !== 'hello' && verb !== 'call' && sessionVerbs[verb].act === 'own') expect(code).toBeUndefined();
    else expect(code).toBe('not-allowed');
    expect(touched).toEqual([]);
    expect(engine.stats.enteredChannels).toBe(0);
    expect(engine.counters.messagesIn).toBe(0);
  });
});
