import { DrillClient, nodeNetwork, seededRandom } from '@nine-bells/drills';
import { type Json, type Verb, verbs } from '@nine-bells/wire';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { RealRedis, redisIsThere } from './support/realRedis.js';
import { type StartedService, startInstances } from './support/service.js';

const text = `
service: { port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
users: { watch: signed-in }
channels:
  - pattern: race/:race/chat
    logbook: kept
    revisions: kept
    replies: true
    mentions: true
    reactions: true
    marks: shown
    presence: true
    board: true
    search: [/text]
    allow:
      enter: anyone
      publish: signed-in
      hail: signed-in
      set: signed-in
      react: signed-in
      revise: { role: jury }
      withdraw: { role: jury }
      revisions: { role: jury }
      moderate: { role: jury }
      invite: { role: jury }
`;

const roles = ['guest', 'member', 'moderator'] as const;
const transports = ['websocket', 'stream', 'poll'] as const;
type Role = (typeof roles)[number];

/** Request and outcomes of a verb: `done` or a problem code, for a guest, a member and a moderator. */
type Case = readonly [request: (at: Place) => Record<string, Json>, guest: string, member: string, moderator: string];

/** A channel, and the place of a message in it. */
interface Place {
  readonly channel: string;
  readonly cursor: string;
}

const here = ({ channel }: Place) => ({ channel });
/** Requests, in sending order. */
const cases: Readonly<Record<Exclude<Verb, 'hello'>, Case>> = {
  enter: [here, 'done', 'done', 'done'],
  publish: [(at) => ({ ...here(at), data: { text: 'Ahoy' } }), 'not-allowed', 'done', 'done'],
  read: [here, 'done', 'done', 'done'],
  hail: [(at) => ({ ...here(at), type: 'typing' }), 'not-allowed', 'done', 'done'],
  set: [(at) => ({ ...here(at), entry: 'petrel', value: 1 }), 'not-allowed', 'done', 'done'],
  status: [(at) => ({ ...here(at), status: 'away' }), 'done', 'done', 'done'],
  mark: [(at) => ({ ...at }), 'not-allowed', 'done', 'done'],
  unread: [() => ({}), 'not-allowed', 'done', 'done'],
  threads: [() => ({}), 'not-allowed', 'done', 'done'],
  search: [(at) => ({ words: 'start', in: [at.channel] }), 'done', 'done', 'done'],
  react: [(at) => ({ ...at, word: 'wow' }), 'not-allowed', 'done', 'done'],
  reactors: [(at) => ({ ...at }), 'done', 'done', 'done'],
  revise: [(at) => ({ ...at, data: { text: 'Start at four' } }), 'not-allowed', 'not-allowed', 'done'],
  revisions: [(at) => ({ ...at }), 'not-allowed', 'not-allowed', 'done'],
  report: [(at) => ({ ...at, reason: 'rude' }), 'done', 'done', 'done'],
  withdraw: [(at) => ({ ...at }), 'not-allowed', 'not-allowed', 'done'],
  level: [(at) => ({ ...here(at), level: 'mentions' }), 'not-allowed', 'done', 'done'],
  levels: [() => ({}), 'not-allowed', 'done', 'done'],
  block: [() => ({ user: 'ines' }), 'not-allowed', 'done', 'done'],
  blocks: [() => ({}), 'not-allowed', 'done', 'done'],
  unblock: [() => ({ user: 'ines' }), 'not-allowed', 'done', 'done'],
  watch: [() => ({ user: 'ines' }), 'not-allowed', 'done', 'done'],
  unwatch: [() => ({ user: 'ines' }), 'done', 'done', 'done'],
  inbox: [() => ({}), 'not-allowed', 'done', 'done'],
  invite: [(at) => ({ ...here(at), user: 'ines' }), 'not-allowed', 'not-allowed', 'done'],
  invitations: [here, 'not-allowed', 'not-allowed', 'done'],
  uninvite: [(at) => ({ ...here(at), invitation: 'none' }), 'not-allowed', 'not-allowed', 'no-such-invitation'],
  accept: [() => ({ code: 'none' }), 'no-such-invitation', 'no-such-invitation', 'no-such-invitation'],
  silence: [(at) => ({ ...here(at), user: 'ines', forMs: 60_000 }), 'not-allowed', 'not-allowed', 'done'],
  remove: [(at) => ({ ...here(at), user: 'ines', banMs: 60_000 }), 'not-allowed', 'not-allowed', 'done'],
  pending: [() => ({}), 'done', 'done', 'done'],
  'take-back': [() => ({ pending: 'none' }), 'no-such-id', 'no-such-id', 'no-such-id'],
  call: [() => ({ name: 'none' }), 'no-such-call', 'no-such-call', 'no-such-call'],
  refresh: [() => ({ token: 'forged' }), 'token-invalid', 'token-invalid', 'token-invalid'],
  pulse: [() => ({}), 'done', 'done', 'done'],
  leave: [here, 'done', 'done', 'done'],
};

describe.skipIf(!redisIsThere)('on every transport and instance, with the same outcome,', () => {
  const clean: (() => unknown)[] = [];
  let instances: readonly StartedService[];
  let channels = 0;

  beforeAll(async () => {
    const redis = await RealRedis.start();
    clean.push(() => redis.remove());
    instances = await startInstances(text, clean, { count: 2, relay: redis.url });
  });
  afterAll(async () => {
    for (const each of clean.splice(0).reverse()) await each();
  });

  /** Publishes a message at the first instance, and sends each request from a client of an instance. */
  async function outcomes(role: Role, transport: (typeof transports)[number], at: number): Promise<object> {
    const [first] = instances as [StartedService];
    const { url, token } = instances[at] as StartedService;
    const channel = `race/${++channels}/chat`;
    const draft = { channel, data: { text: 'Start at three' }, by: { user: 'ines' } };
    const { cursor } = await first.backend.publish(draft);
    const client = new DrillClient({
      name: role,
      url,
      transport,
      token:
        role === 'guest'
          ? undefined
          : () => token(`${role}-${channels}`, 60_000, role === 'member' ? {} : { roles: ['jury'] }),
      network: nodeNetwork(seededRandom(1)),
      now: () => performance.now(),
    });
    const seen: Record<string, string> = { hello: (await client.connect(60_000)).problem?.code ?? 'done' };
    for (const [verb, [request]] of Object.entries(cases))
      seen[verb] = (await client.request(verb, request({ channel, cursor }), 60_000)).problem?.code ?? 'done';
    client.close();
    return seen;
  }

  const combinations = transports.flatMap((transport) =>
    ['first', 'other'].map((instance, at) => ({ transport, instance, at })),
  );
  describe.each(roles)('a %s may do what the rule says', (role) => {
    const wanted = {
      hello: 'done',
      ...Object.fromEntries(Object.entries(cases).map(([verb, row]) => [verb, row[1 + roles.indexOf(role)]])),
    };

    it.each(combinations)('by $transport at the $instance instance', async ({ transport, at }) => {
      expect(await outcomes(role, transport, at)).toEqual(wanted);
    });
  });

  it('has a row for every verb', () => {
    expect(['hello', ...Object.keys(cases)].sort()).toEqual([...verbs].sort());
  });
});
