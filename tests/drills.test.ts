import { once } from 'node:events';
import { mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { type AddressInfo, createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { TestService } from '@nine-bells/testing';
import { XMLParser } from 'fast-xml-parser';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Command, type Ended, ninebells } from './support/command.js';
import { configurationText, type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

let folder: string;
beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'bells-drills-'));
  writeFileSync(join(folder, 'bells.yaml'), configurationText);
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

/** Returns the head of a drill, in which each step waits so long for what it expects. */
const people = (within = '60s'): string => `drill: 1
users: { pia: { name: Pia Lund }, tomas: { claims: { boats: [petrel] } } }
clients: { pia: pia, tomas: tomas, guest: guest, late: { user: pia, connects: later }, fan: { guest: true, times: 3 } }
within: ${within}
steps:
`;
let files = 0;
/** Runs one drill against a service in memory. */
function run(head: string, steps: string, args: readonly string[] = []): Promise<Ended> {
  const file = join(folder, `n${++files}.drill.yaml`);
  writeFileSync(file, head + steps.replace(/^(?=[^\n])/gm, '  '));
  return ninebells(['drill', file, '--config', join(folder, 'bells.yaml'), ...args]);
}
const drill = (steps: string, ...args: string[]): Promise<Ended> => run(people(), steps, args);
/** Runs a drill with a step that waits in vain. */
const failingDrill = (steps: string): Promise<Ended> => run(people('1s'), steps);

describe('ninebells drill', () => {
  it('runs the drills that the docs teach by', async () => {
    const { code, out, err } = await ninebells(['drill', 'demo/drills', '--seed', '7']);
    expect(`${out}${err}`).toMatch(/\d+ drills passed, \d+ steps/);
    expect(code).toBe(0);
  });

  it.each([
    [
      'a frame that does not come',
      '- pia: { enter: committee }\n- tomas: { publish: committee, data: { text: Hi } }\n- pia: { gets: message, data: { text: Ho } }',
      [
        'expected message {"data":{"text":"Ho"}} at pia within 1000 ms',
        '/data/text: expected "Ho", found "Hi"',
        'no such message is in the record of committee',
        '-> {"do":"hello","id":1,"token":"..."}',
      ],
    ],
    [
      'a frame for one who is not there',
      '- tomas: { publish: committee, data: 1 }\n- pia: { gets: message, channel: committee, data: 1 }',
      ['no such push arrived', 'why: pia is not in committee; it is in no channel', 'Pia Lund did not get it'],
    ],
    [
      'a frame that should not come',
      '- pia: { enter: committee }\n- tomas: { publish: committee, data: 1 }\n- pia: { gets no: message }',
      ['expected no message at pia for 300 ms'],
    ],
    [
      'an order',
      '- pia: { enter: committee }\n- tomas: { publish: committee, data: 1 }\n- tomas: { publish: committee, data: 2 }\n- pia: { gets in order: [{ message: { data: 2 } }, { message: { data: 1 } }] }',
      ['expected message {"data":1} (2 of 2) at pia', 'before the push that it should follow'],
    ],
    [
      'a refusal that was not expected',
      '- pia: { enter: crew/petrel }',
      ['refused: not-allowed', 'does not hold: claim boats holds petrel (:boat); found no such claim'],
    ],
    [
      'something done that should be refused',
      '- tomas: { enter: crew/petrel, refused: not-allowed }',
      ['expected a refusal with not-allowed', 'it succeeded'],
    ],
    [
      'another reply',
      '- pia: { enter: committee, reply: { messages: [1] } }',
      ['/messages: expected a list of 1: [1], found []'],
    ],
    [
      'a reply that is lost',
      '- pia: { lose: replies }\n- pia: { publish: committee, data: 1, within: 200ms }',
      ['no reply to publish arrived within 200 ms', '<x {"re":2,'],
    ],
    [
      'pushes that are lost',
      '- pia: { enter: committee }\n- pia: { lose: pushes }\n- tomas: { publish: committee, data: 1 }\n- pia: { gets: message, within: 300ms }',
      ['no such push arrived', '<x {"on":"message"'],
    ],
    [
      'a delay',
      '- pia: { delay: 200ms }\n- pia: { publish: committee, data: 1, within: 300ms }',
      ['no reply to publish arrived'],
    ],
    [
      'a client that does not read',
      '- pia: { pause: true }\n- pia: { publish: committee, data: 1, within: 300ms }',
      ['no reply to publish arrived'],
    ],
    [
      'a client that is offline',
      '- together:\n    - pia: { offline: 900ms }\n    - repeat: 1\n      steps: [{ wait: 200ms }, { pia: { publish: committee, data: 1 } }]',
      ['it is not connected (1006)', 'FAIL together'],
    ],
    [
      'an answer of the application',
      '- application: { get: "/v1/channels?channel=nowhere" , until: { channels: [] } , within: 1s }',
      ['GET /v1/channels?channel=nowhere to match'],
    ],
    [
      'a status',
      '- application: { get: /v1/channels, key: null, status: 200 }',
      ['to be answered with status 200', 'it is 401'],
    ],
    [
      'a service that is stopped in the middle',
      '- service: stop\n- pia: { publish: committee, data: 1 }',
      ['it is not connected (1012'],
    ],
    [
      'a client that is not let in',
      '- late: { connect: true }\n- late: { connect: true }',
      ['it is connected already'],
    ],
    ['one of many', '- fan: { enter: committee, refused: banned }', ['fan 1: refused: not-allowed']],
    [
      'what is within a repetition',
      '- repeat: 3\n  as: leg\n  steps:\n    - pia: { publish: committee, data: $(leg) }\n    - application: { publish: nowhere/at/all, data: 1 }',
      ['no-such-channel', '(leg 1)', 'ok   pia: { publish: committee'],
    ],
  ])('fails by %s, and says what came instead', async (_, steps, told) => {
    const { code, out } = await failingDrill(steps);
    for (const each of told) expect(out).toContain(each);
    expect(out).toMatch(/1 drill of 1 failed/);
    expect(code).toBe(1);
  });

  it('has clients on bad networks, on other transports, and with tokens that end', async () => {
    const { out, code } = await drill(`- pia: { enter: committee }
- pia: { delay: 30ms to 60ms }
- pia: { publish: committee, data: 1, as: one }
- pia: { gets: message, id: $(one.id) }
- pia: { cut: in a frame }
- tomas: { publish: committee, data: 2 }
- pia: { connect: true, reply: { continued: true } }
- pia: { gets: message, data: 2 }
- pia: { send: "{ no JSON" }
- pia: { gets: problem, code: bad-frame }
- pia: { close: true }
- pia: { ends: 1000 }
- service: restart
- tomas: { ends: 1012 }
- tomas: { connect: true, reply: { continued: true } }
- each: [websocket, stream, poll]
  as: transport
  steps:
    - include: transport.drill.yaml
      with: { text: $(transport) }
`);
    expect(code).toBe(2);
    expect(out).toBe('');
    writeFileSync(
      join(folder, 'transport.drill.yaml'),
      `drill: 1
with: { text: x }
users: { pia: }
clients: { stream: { user: pia, transport: stream, tokenFor: 1h }, poll: { user: pia, transport: poll } }
steps:
  - stream: { enter: committee }
  - poll: { publish: committee, data: $(text) }
  - stream: { gets: message, data: $(text) }
`,
    );
    const again = await ninebells([
      'drill',
      join(folder, `n${files}.drill.yaml`),
      '--config',
      join(folder, 'bells.yaml'),
    ]);
    expect(again.out).toContain('1 drill passed, 28 steps');
    // Passed rounds are counted, not listed.
    expect(again.out).not.toContain('stream:');
  });

  it('tells in other forms: TAP, JUnit XML and JSON', async () => {
    const steps =
      '- pia: { publish: committee, data: "a < b & c" }\n- pia: { enter: crew/petrel }\n- pia: { leave: committee }';
    const [tap, junit, json] = await Promise.all(
      ['tap', 'junit', 'json'].map((form) => drill(steps, '--report', form)),
    );
    expect(tap?.out).toMatch(/^TAP version 14\n# Subtest: /);
    expect(tap?.out).toContain('    ok 1 - pia: { publish: committee, data: "a < b & c" }');
    expect(tap?.out).toContain('    not ok 2 - pia: { enter: crew/petrel }\n      ---\n      message: |');
    expect(tap?.out).toMatch(/ok 3 - .* # SKIP[\s\S]*1\.\.3\nnot ok 1 - [\s\S]*1\.\.1\n$/);
    const { testsuites } = new XMLParser({ ignoreAttributes: false }).parse(junit?.out ?? '');
    expect(testsuites.testsuite).toMatchObject({ '@_tests': '3', '@_failures': '1', '@_skipped': '1' });
    expect(testsuites.testsuite.testcase[0]['@_name']).toBe('pia: { publish: committee, data: "a < b & c" }');
    expect(testsuites.testsuite.testcase[1].failure['@_message']).toContain('not-allowed');
    const [result] = (json?.out ?? '')
      .trim()
      .split('\n')
      .map((line) => JSON.parse(line));
    expect(result).toMatchObject({
      status: 'failed',
      steps: [{ status: 'passed' }, { status: 'failed', line: 7 }, { status: 'skipped' }],
    });
    expect([tap, junit, json].map((each) => each?.code)).toEqual([1, 1, 1]);
  });

  it.each([
    [['drill', 'no-such.drill.yaml'], 'no-such.drill.yaml:1:1: it cannot be read'],
    [['drill', 'demo/drills/crowd.drill.yaml', '--config', 'demo/nowhere.yaml'], 'cannot be read'],
    [['drill', 'demo/drills/crowd.drill.yaml', '--with', 'boot=petrel'], 'none of these drills has a parameter "boot"'],
    [['drill', 'docs'], 'there is no file *.drill.yaml in docs'],
  ])('%j is a mistake', async (args, told) => {
    const { code, err } = await ninebells(args);
    expect(err).toContain(told);
    expect(code).toBe(2);
  });

  it('leaves nothing behind when it is interrupted, and clears up after one that was killed', async () => {
    const file = join(folder, 'long.drill.yaml');
    writeFileSync(file, `${people()}  - wait: 60s\n`);
    const places = () =>
      ['/dev/shm', tmpdir()].flatMap((place) => readdirSync(place)).filter((name) => name.startsWith('bells-test-'));
    const run = async (): Promise<Command> => {
      const command = new Command(['drill', file, '--config', join(folder, 'bells.yaml')]);
      await until(() => places().some((name) => name.includes(`-${command.process.pid}-`)));
      return command;
    };
    const [killed, interrupted] = [await run(), await run()];
    killed.process.kill('SIGKILL');
    await killed.ended;
    interrupted.process.kill('SIGINT');
    expect((await interrupted.ended).code).toBe(1);
    expect(places().filter((name) => name.includes(`-${interrupted.process.pid}-`))).toEqual([]);
    await (await TestService.start({ text: configurationText })).stop();
    expect(places().filter((name) => name.includes(`-${killed.process.pid}-`))).toEqual([]);
  });

  it('gives up on a service that takes the connection and says nothing', async () => {
    const silent = createServer(() => {}).listen(0, '127.0.0.1');
    await once(silent, 'listening');
    writeFileSync(
      join(folder, 'silent.drill.yaml'),
      'drill: 1\nwithin: 300ms\nclients: { a: guest }\nsteps: [{ wait: 1ms }]\n',
    );
    const { port } = silent.address() as AddressInfo;
    const { out, code } = await ninebells([
      'drill',
      join(folder, 'silent.drill.yaml'),
      '--url',
      `http://127.0.0.1:${port}`,
    ]);
    expect(out).toContain('a cannot connect: there is no connection');
    expect(code).toBe(1);
    silent.close();
  });

  it('puts a service under load, compares with an earlier report, and fails where a limit is not kept', async () => {
    const file = join(folder, 'load.drill.yaml');
    const text = (limit: string): string => `drill: 1
name: A busy chat
users: { pia: { name: Pia Lund } }
clients: { fan: { guest: true, times: 40 }, pia: pia }
load:
  for: 2s
  first: [{ fan: { enter: "race/$(own)/chat" } }]
  acts:
    - { pia: { publish: "race/$(own)/chat", data: { text: Ahoy } }, rate: 20/s }
    - { application: { publish: "race/$(own)/chat", data: { text: General recall } }, rate: 5/s }
  must: { lost: 0, refused: 0, failed: 0, ${limit} }
`;
    writeFileSync(file, text('received: 500/s'));
    const config = ['--config', join(folder, 'bells.yaml')];
    const page = join(folder, 'load.html');
    const passed = await ninebells(['drill', file, ...config, '--processes', '2', '--report', 'html', '--out', page]);
    expect(passed.code, passed.out).toBe(0);
    expect(passed.out).toMatch(/41 of 41 clients connected.*50 requests, 2,000 messages received.*0 lost/s);
    expect(readFileSync(page, 'utf8')).toContain('A busy chat');
    writeFileSync(file, text('received: 900000/s'));
    const failed = await ninebells(['drill', file, ...config, '--compare', page]);
    expect(failed.code).toBe(1);
    expect(failed.out).toMatch(/before.*FAIL received: 900000.*it is/s);
    for (const [args, told] of [
      [['--report', 'html'], '--out'],
      [['--compare', file], 'not a report of a load'],
    ] as const) {
      const wrong = await ninebells(['drill', file, ...config, ...args]);
      expect(wrong.code).toBe(2);
      expect(wrong.out + wrong.err).toContain(told);
    }
  });

  it('runs again when a file has changed', async () => {
    const file = join(folder, 'watched.drill.yaml');
    writeFileSync(file, `${people()}  - pia: { enter: nowhere/at/all }\n`);
    const command = new Command(['drill', file, '--config', join(folder, 'bells.yaml'), '--watch']);
    await until(() => command.err.includes('Watching'));
    expect(command.out).toContain('1 drill of 1 failed');
    writeFileSync(file, `${people()}  - pia: { entr: committee }\n`);
    await until(() => command.out.includes('did you mean "enter"?'));
    writeFileSync(file, `${people()}  - pia: { enter: committee }\n`);
    await until(() => command.out.includes('1 drill passed'));
    command.process.kill('SIGINT');
    await command.ended;
  });

  describe('against a service that runs', () => {
    let service: StartedService;
    beforeAll(async () => {
      service = await startService();
    });
    afterAll(() => service.remove());

    it('uses its key and the secret of the configuration, and channels of its own', async () => {
      const at = ['--url', service.url, '--key', service.key];
      const steps =
        '- pia: { publish: race/$(own)/chat, data: 1 }\n- application: { get: /v1/messages?channel=race/$(own)/chat, reply: { messages: [{ data: 1 }] } }';
      const { code, out } = await drill(steps, ...at);
      expect(out).toContain('1 drill passed');
      expect(code).toBe(0);
      const stopped = await drill('- service: stop', ...at);
      expect(stopped.out).toContain('a service that it has not started');
    });

    it('cannot make tokens without a secret', async () => {
      writeFileSync(join(folder, 'bare.drill.yaml'), `${people()}  - pia: { enter: committee }\n`);
      const { out, code } = await ninebells(['drill', join(folder, 'bare.drill.yaml'), '--url', service.url]);
      expect(out).toContain('pia cannot connect: there is nothing to sign tokens with');
      expect(code).toBe(1);
    });

    it('that dies in the middle', async () => {
      const dying = await startService();
      const running = drill(
        '- wait: 4s\n- pia: { publish: committee, data: 1 }',
        '--url',
        dying.url,
        '--key',
        dying.key,
      );
      await until(() => dying.service.engine.stats.connections > 0);
      await new Promise((resolve) => setTimeout(resolve, 1_000));
      await dying.remove();
      const { out, code } = await running;
      expect(out).toMatch(/FAIL pia: \{ publish: committee, data: 1 \}[\s\S]*it is not connected \(1012/);
      expect(code).toBe(1);
    });
  });
});

describe('a service in a team’s own tests', () => {
  it('has made-up users, frames that are awaited, and a clock that can be moved', async () => {
    await using service = await TestService.start({ text: configurationText });
    const chair = await service.client({ user: 'sunniva', name: 'Sunniva Dahl' });
    const guest = await service.client();
    await chair.enter('committee');
    expect((await guest.refused('enter', { channel: 'committee' })).code).toBe('not-allowed');
    await service.backend.publish({ channel: 'committee', data: { text: 'The start is postponed.' } });
    expect(await chair.gets('message', { data: { text: 'The start is postponed.' } })).toMatchObject({
      channel: 'committee',
    });
    await chair.getsNo('message');
    await expect(chair.gets('message', { data: 2 }, { withinMs: 50 })).rejects.toThrow('no such push arrived');
    await expect(guest.say('enter', { channel: 'committee' })).rejects.toMatchObject({
      problem: { code: 'not-allowed' },
    });

    const soon = await service.client({ user: 'jory', forMs: 600_000 });
    service.clock.move(595_000);
    await soon.gets('expiring');
    service.clock.move(70_000);
    expect((await soon.ends()).code).toBe(4903);

    chair.cut();
    await service.backend.publish({ channel: 'committee', data: 3 });
    expect(await chair.connect()).toMatchObject({ continued: true });
    await chair.gets('message', { data: 3 });
    await service.restart();
    await chair.ends();
    await chair.connect();
  });

  it('says what is wrong in a configuration', async () => {
    await expect(TestService.start({ text: 'channels: [{ patern: x }]' })).rejects.toThrow('did you mean "pattern"?');
  });
});
