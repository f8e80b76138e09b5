import { readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { defaultBoard, defaultRecordRetention } from '@nine-bells/core';
import { describe, expect, it } from 'vitest';
import { configurationWarnings } from '../src/check/check.js';
import { ConfigurationError, faultLine, parseConfiguration } from '../src/index.js';
import { filesWarning } from '../src/line/socketLimiter.js';

const secret = 'a secret that is long enough for HS256, surely';
const hookSecret = `whsec_${Buffer.alloc(32, 7).toString('base64')}`;

function faultsOf(yaml: string, file = 'bells.yaml'): string[] {
  try {
    parseConfiguration(yaml, file);
  } catch (error) {
    if (error instanceof ConfigurationError) return error.faults.map(faultLine);
    throw error;
  }
  return [];
}

/** Each line stands for ten times the one before. */
const bomb = [
  'a0: &a0 [x]',
  ...Array.from({ length: 9 }, (_, n) => `a${n + 1}: &a${n + 1} [${Array(10).fill(`*a${n}`)}]`),
].join('\n');

describe('the configuration', () => {
  it('is read with its defaults', () => {
    const read = parseConfiguration('channels: [{ pattern: a }]', '/etc/bells/bells.yaml');
    expect(read).toMatchObject({ host: '127.0.0.1', port: 9119, data: '/etc/bells/data', sqliteSynchronous: 'full' });
    expect(read.channels).toEqual([
      { pattern: 'a', logbook: { type: 'recent', bounds: { messages: 1000, forMs: 600_000 } }, allow: {} },
    ]);
  });

  it('of the demo, and the examples in the docs, have no mistake', () => {
    const demo = fileURLToPath(new URL('../../../demo/bells.yaml', import.meta.url));
    expect(faultsOf(readFileSync(demo, 'utf8'), demo)).toEqual([]);
    const docs = ['configuration', 'access', 'boards', 'presence', 'notices', 'unread']
      .map((name) => readFileSync(new URL(`../../../docs/${name}.md`, import.meta.url), 'utf8'))
      .join('\n');
    const examples = [...docs.matchAll(/```yaml\n([\s\S]*?)```/g)].map((match) => match[1] as string);
    expect(examples.length).toBeGreaterThan(0);
    for (const example of examples) expect(faultsOf(example)).toEqual([]);
  });

  it('takes times and sizes with their units', () => {
    const yaml = `
service: { pulse: 5s, limits: { frame: 128KiB } }
channels:
  - { pattern: a, logbook: { recent: { messages: 5, for: 2h } }, data: 512B }`;
    const read = parseConfiguration(yaml, 'bells.yaml');
    expect(read.engine).toMatchObject({ pulseMs: 5000, frameBytes: 131_072 });
    expect(read.channels[0]).toMatchObject({ dataBytes: 512, logbook: { bounds: { messages: 5, forMs: 7_200_000 } } });
  });

  it('takes access rules, with the parameters of the pattern', () => {
    const read = parseConfiguration(
      `channels:
  - pattern: crew/:boat
    allow:
      enter: { any: [{ claim: boats, holds: ":boat" }, { role: coach }] }
      publish: { all: [signed-in, { not: { user: jory } }, { claim: sail, is: "7" }] }`,
      'bells.yaml',
    );
    expect(read.channels[0]?.allow).toEqual({
      enter: { any: [{ claim: 'boats', holds: ':boat' }, { role: 'coach' }] },
      publish: { all: ['signed-in', { not: { user: 'jory' } }, { claim: 'sail', is: '7' }] },
    });
  });

  it('takes boards, with `:entry` as a parameter of `set`', () => {
    const read = parseConfiguration(
      `channels:
  - pattern: race/:race/positions
    allow: { enter: anyone, set: { claim: boats, holds: ":entry" } }
    board: { every: 0, size: 1MiB, for: 1h, kept: true, types: { position: { entry: /boat } } }
  - { pattern: a, board: true }
  - { pattern: b, board: false }`,
      'bells.yaml',
    );
    expect(read.channels.map(({ board }) => board)).toEqual([
      {
        ...defaultBoard,
        everyMs: 0,
        boardBytes: 1_048_576,
        forMs: 3_600_000,
        kept: true,
        types: { position: { entry: '/boat' } },
      },
      defaultBoard,
      undefined,
    ]);
  });

  it.each([
    ['board: { every: 2m }', '`every` is at most 60s'],
    ['board: { pace: 100ms }', 'there is no "pace" here'],
    ['board: { types: { position: { entry: boat } } }', 'expected a JSON Pointer such as /boat, found "boat"'],
    ['board: { types: { "a b": { entry: /boat } } }', 'expected the type of a message, such as position'],
    ['board: { entries: 0 }', 'expected a whole number from 1 to 10000'],
    ['allow: { publish: { user: ":entry" } }', 'found ":entry"'],
  ])('refuses `%s`', (member, fault) => {
    expect(faultsOf(`channels: [{ pattern: "crew/:boat", ${member} }]`).join()).toContain(fault);
  });

  it.each([
    ['{ rol: coach }', 'there is no "rol" here; did you mean "role"?'],
    ['{ role: [coach] }', 'allow.enter.role: expected text, found a list'],
    ['{ role: coach, user: mira }', 'there is no "user" here'],
    ['{ claim: boats }', '`holds` is missing'],
    ['{ claim: boats, holds: ":baot" }', 'expected :boat, found ":baot"; did you mean ":boat"?'],
    ['{ all: [] }', 'expected a list of at least 1'],
    ['{ any: [anyon] }', 'allow.enter.any[0]: expected anyone'],
    ['{ not: { not: nobdy } }', 'did you mean "nobody"?'],
  ])('refuses the access rule %s', (access, fault) => {
    expect(faultsOf(`channels: [{ pattern: "crew/:boat", allow: { enter: ${access} } }]`).join()).toContain(fault);
  });

  it('shows read marks only where there are any', () => {
    const rule = (logbook: string) => `channels: [{ pattern: a, logbook: ${logbook}, marks: shown }]`;
    expect(parseConfiguration(rule('kept'), 'bells.yaml').channels[0]).toMatchObject({ showsMarks: true });
    expect(faultsOf(rule('recent')).join()).toContain('only channels with a kept logbook have read marks to show');
    expect(faultsOf('channels: [{ pattern: a, marks: all }]').join()).toContain('expected own or shown');
  });

  it('takes anchors and aliases', () => {
    const read = parseConfiguration(
      'channels:\n  - { pattern: a, allow: &all { enter: anyone } }\n  - { pattern: b, allow: *all }',
      'bells.yaml',
    );
    expect(read.channels[1]?.allow).toEqual({ enter: 'anyone' });
  });

  it('lets the command line stand above the file', () => {
    const read = parseConfiguration('service: { port: 1 }\nchannels: []', 'bells.yaml', { port: 2, data: '/tmp/d' });
    expect(read).toMatchObject({ port: 2, data: '/tmp/d' });
  });

  it('takes how long what is kept', () => {
    const text = `keep: { audit: 30d }
channels: [{ pattern: a, logbook: kept, keep: { for: 90d, messages: 1000000, bytes: 2GiB } }, { pattern: b, slow: 10s, logbook: kept }]`;
    const { engine, channels } = parseConfiguration(text, 'bells.yaml');
    expect(engine.records).toEqual({ ...defaultRecordRetention, audit: 30 * 86_400_000 });
    const retention = { forMs: 90 * 86_400_000, messages: 1_000_000, bytes: 2 * 1_073_741_824 };
    expect(channels.map(({ logbook }) => logbook)).toEqual([{ type: 'kept', retention }, { type: 'kept' }]);
    expect(channels[1]?.slowMs).toBe(10_000);
  });

  it.each<[string, string, string]>([
    ['what is not YAML', 'channels: [', 'bells.yaml:1:12: this is not YAML'],
    ['nothing at all', '', 'expected a map'],
    ['no channels', 'service: {}', '`channels` is missing'],
    [
      'a mistyped member',
      'chanels: []\nchannels: []',
      'bells.yaml:1:1: chanels: there is no "chanels" here; did you mean "channels"?',
    ],
    [
      'a mistyped word',
      'channels:\n  - { pattern: a, allow: { publish: anyon } }',
      'bells.yaml:2:37: channels[0].allow.publish: expected anyone, signed-in, nobody, token-allows or invited, found "anyon"; did you mean "anyone"?',
    ],
    [
      'a word far from any',
      'channels: [{ pattern: a, logbook: sqlite }]',
      'expected recent or kept, found "sqlite"; there are recent and kept',
    ],
    [
      'a port that is a word',
      'service: { port: high }\nchannels: []',
      'service.port: expected a whole number from 0 to 65535, found "high"',
    ],
    [
      'a time without a unit',
      'service: { pulse: 20 }\nchannels: []',
      'service.pulse: expected a time such as 500ms, 20s',
    ],
    ['a short secret', 'tokens: { secret: short }\nchannels: []', 'expected at least 32 bytes for HS256, found 5'],
    [
      'two secrets',
      `tokens: { secret: "${secret}", secretFile: f }\nchannels: []`,
      'expected `secret` or `secretFile`, found both',
    ],
    [
      'a secret file that is not there',
      'tokens: { secretFile: nowhere }\nchannels: []',
      'tokens.secretFile: cannot be read',
    ],
    [
      'bounds of what is not kept',
      'channels:\n  - pattern: a\n    keep: { for: 1d }',
      'bells.yaml:3:11: channels[0].keep: only a kept logbook is pruned',
    ],
    [
      'no bound at all',
      'channels: [{ pattern: a, logbook: kept, keep: {} }]',
      'expected at least one of `for`, `messages` and `bytes`',
    ],
    ['records of an unknown kind', 'keep: { marks: 1d }\nchannels: []', 'there is no "marks" here'],
    ['a malformed pattern', 'channels: [{ pattern: "a//b" }]', 'no empty segment'],
    ['a rule without a pattern', 'channels: [{ about: x }]', '`pattern` is missing'],
    [
      'two patterns for the same names',
      'channels:\n  - pattern: a/:x\n  - pattern: a/:y',
      'bells.yaml:3:5: channels[1]: the patterns a/:x and a/:y match the same names',
    ],
    [
      'an origin with a path',
      'service: { origins: ["https://a.example/x"] }\nchannels: []',
      'expected an origin such as',
    ],
    [
      'an unknown condition',
      'channels: [{ pattern: a, allow: { enter: { asks: "http://x.example" } } }]',
      'there is no "asks" here; did you mean "ask"?',
    ],
    [
      'what cannot be asked',
      'channels: [{ pattern: a, allow: { enter: { ask: "ftp://x" } } }]',
      'expected an http or https URL',
    ],
    [
      'a question that cannot be signed',
      'channels: [{ pattern: a, allow: { enter: { any: [{ ask: "http://x.example" }] } } }]',
      'bells.yaml:1:57: channels[0].allow.enter.any[0].ask: the application is asked, but `ask` is missing',
    ],
    [
      'a review that cannot be signed',
      'channels:\n  - { pattern: a, logbook: kept,\n      review: { ask: "http://x.example" } }',
      'bells.yaml:3:22: channels[0].review.ask: the application is asked, but `ask` is missing',
    ],
    [
      'a call that cannot be signed',
      'calls:\n  turn: { url: "http://x.example", allow: anyone }\nchannels: []',
      'bells.yaml:2:16: calls.turn.url: the application is asked, but `ask` is missing',
    ],
    [
      'a secret that is none',
      'ask: { secret: whsec_abc }\nchannels: []',
      'bells.yaml:1:16: ask.secret: expected `whsec_`',
    ],
    ['no secret to sign with', 'ask: { within: 1s }\nchannels: []', 'expected one of `secret` and `secretFile`'],
    ['an act that there is not', 'channels: [{ pattern: a, allow: { hale: anyone } }]', 'did you mean "hail"?'],
    ["another user's parameter", 'users: { watch: { user: ":boat" } }\nchannels: []', 'expected :user'],
    [
      'a rate that is none',
      'service: { limits: { requests: 100 } }\nchannels: []',
      'expected how often, such as 100/s',
    ],
    ['a proxy that is none', 'service: { trustedProxies: [here] }\nchannels: []', 'expected an address, a range'],
    ['an alias to nothing', 'channels: *none', 'bells.yaml:1:11: there is no anchor &none'],
    [
      'aliases that stand for a thousand million values',
      bomb,
      'more than 100000 values, counting what aliases stand for',
    ],
    ['an alias to what it is in', 'channels: &a [*a]', 'more than 100 levels, counting what aliases stand for'],
    [
      'a name that is given twice',
      'service: { port: 1, port: 2 }\nchannels: []',
      'bells.yaml:1:21: port is given twice',
    ],
  ])('with %s is refused, with the place', (_, yaml, fault) => {
    expect(faultsOf(yaml).join('\n')).toContain(fault);
  });

  it('reports every mistake, not only the first', () => {
    const faults = faultsOf('service: { port: x, gests: true }\nchannels: [{ pattern: "a b", logbok: kept }]');
    expect(faults).toHaveLength(4);
  });

  it('says who may be asked, who may what to whom, how often, and what tokens call things', () => {
    const secret = `whsec_${Buffer.alloc(32, 7).toString('base64')}`;
    const { engine, askSecrets, tokens, keyRequests, trustedProxies, channels } = parseConfiguration(
      `
service: { trustedProxies: [10.0.0.0/8, loopback], limits: { requests: 50/s, failedHellos: 5/10m, keyRequests: 9/s, connectionsPerUser: 3 } }
tokens: { claims: { user: uid, roles: [realm, roles] } }
ask: { secret: ${secret}, within: 800ms }
users: { notify: { role: committee }, watch: { any: [{ user: ":user" }, signed-in] } }
channels:
  - { pattern: "desk/:race", allow: { enter: { ask: "http://127.0.0.1:9/may" }, moderate: token-allows, hail: anyone, set: nobody } }
`,
      'bells.yaml',
    );
    expect(engine).toMatchObject({
      requests: { count: 50, perMs: 1_000 },
      failedHellos: { count: 5, perMs: 600_000 },
      connectionsPerUser: 3,
      askWithinMs: 800,
      users: { notify: { role: 'committee' }, watch: { any: [{ user: ':user' }, 'signed-in'] } },
    });
    expect([askSecrets, keyRequests, trustedProxies]).toEqual([
      [secret],
      { count: 9, perMs: 1_000 },
      ['10.0.0.0/8', 'loopback'],
    ]);
    expect(tokens.claims).toEqual({ user: 'uid', name: 'name', roles: ['realm', 'roles'], access: 'access' });
    expect(channels[0]?.allow).toEqual({
      enter: { ask: 'http://127.0.0.1:9/may' },
      moderate: 'token-allows',
      hail: 'anyone',
      set: 'nobody',
    });
  });
});

describe('the number of files that a process may open', () => {
  it.each([
    [1_000_000, 50_000, undefined],
    [
      1_024,
      50_000,
      expect.stringContaining('may open 1024 files, and 52200 are needed for limits.connections (50000)'),
    ],
    [4_096, 1_000, undefined],
    [1_024, undefined, undefined],
  ])('of %d for %d connections', (files, connections, warning) => {
    expect(filesWarning(connections, files)).toEqual(warning);
  });
});

describe('what is allowed and cannot work', () => {
  const tokens = `tokens: { secret: "${secret}" }`;
  const open = 'channels: [{ pattern: a, allow: { enter: signed-in } }]';
  it.each([
    [
      'an origin with a wildcard',
      `service: { origins: ["https://*.regatta.example"] }\n${tokens}\n${open}`,
      'has no wildcards',
    ],
    [
      'anyone without guests',
      `${tokens}\nchannels: [{ pattern: a, allow: { enter: { any: [anyone] } } }]`,
      'guests are not let in',
    ],
    [
      'roles without tokens',
      'service: { guests: true }\nchannels: [{ pattern: a, allow: { enter: { role: jury } } }]',
      'no key for tokens',
    ],
    ['no way in', open, 'no client can come in'],
    ['drain alone', `service: { drain: 5s }\n${tokens}\n${open}`, 'no elsewhere'],
    [
      'a limit that cannot be reached',
      `service: { limits: { connections: 10 } }\n${tokens}\n${open}`,
      'which holds first',
    ],
    [
      'instances that share an SQLite file',
      `relay: redis://redis.example\n${tokens}\nchannels: [{ pattern: a, logbook: kept }]`,
      'one that is stopped in the middle of a commit stops kept publishes of all',
    ],
    [
      'a route into a channel without a rule',
      `${tokens}\nintakes: { buoy: { verify: none, routes: [{ message: { channel: "wether/:station", with: { station: /s } } }] } }\nchannels: [{ pattern: "weather/:station" }, { pattern: "race/:race/chat" }]`,
      'bells.yaml:2:65: intakes.buoy.routes[0].message.channel: no channel rule matches wether/:station; the nearest rule is weather/:station',
    ],
    [
      'a hook on a pattern without a rule',
      `${tokens}\nhooks: { bureau: { url: "https://bureau.example", secrets: "${hookSecret}", channels: [race/:race] } }\nchannels: [{ pattern: "race/:race/chat" }]`,
      'hooks.bureau.channels[0]: no channel rule matches race/:race; the nearest rule is race/:race/chat',
    ],
    [
      'a colon within a segment',
      `${tokens}\nchannels: [{ pattern: "race:id/chat" }]`,
      'bells.yaml:2:23: channels[0].pattern: race:id is fixed text: "." and ":" within a segment do not divide it. Segments are divided by "/", and a parameter is a whole segment such as race/:id',
    ],
    ['a dot within a segment', `${tokens}\nchannels: [{ pattern: race.chat }]`, 'race.chat is fixed text'],
  ])('is warned of: %s', async (_, text, warning) => {
    const found = await configurationWarnings(parseConfiguration(text, '/tmp/none/bells.yaml'));
    expect(found.join('\n')).toContain(warning);
  });

  it('is nothing in a configuration that is sound', async () => {
    const read = parseConfiguration(`service: { guests: true }\n${tokens}\n${open}`, '/tmp/none/bells.yaml');
    expect(await configurationWarnings(read)).toEqual([]);
  });
});

describe('limits that contradict each other', () => {
  it.each([
    ['limits: { data: 64KiB }', 'service.limits.data: 65536 bytes are too many: `limits.frame` (65536 bytes)'],
    ['limits: { frame: 1KiB }', 'service.limits.frame: expected at least 4096 bytes'],
    ['limits: { status: 64KiB }', 'service.limits.status: 65536 bytes are too many'],
    ['limits: { waiting: 1MiB }', 'service.limits.waiting: expected at least twice `limits.sendQueue`'],
  ])('are refused: %s', (text, fault) => {
    expect(faultsOf(`service: { ${text} }\nchannels: []`).join()).toContain(fault);
  });

  it('are refused in a channel rule, too', () => {
    expect(faultsOf('channels: [{ pattern: a, data: 1MiB }]').join()).toContain('channels[0].data: a: 1048576 bytes');
  });
});
