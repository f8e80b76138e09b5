import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { TestService, type TestServiceOptions } from '@nine-bells/testing';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { ninebells } from './support/command.js';
import { until } from './support/until.js';

/** Paths that have reached the application which the configuration names. */
const reached: string[] = [];
const application = createServer((request, response) => {
  reached.push(request.url ?? '');
  response.end(JSON.stringify(request.url === '/turn' ? { data: 'from the real one' } : { allow: true }));
});
let folder: string;
let text: string;

beforeAll(async () => {
  await new Promise<void>((done) => application.listen(0, '127.0.0.1', done));
  const url = `http://127.0.0.1:${(application.address() as AddressInfo).port}`;
  folder = mkdtempSync(join(tmpdir(), 'bells-stand-in-'));
  text = `
service: { name: Test Regatta, port: 0 }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
ask: { secret: whsec_R2FubmV0U291bmRSZWdhdHRhRGVtb1NlY3JldCE=, within: 500ms }
calls:
  turn: { url: "${url}/turn", allow: signed-in }
hooks:
  bureau: { url: "${url}/bureau", secrets: whsec_UmVzdWx0c0J1cmVhdURlbW9TZWNyZXROb3RSZWFs, channels: [talk] }
channels:
  - pattern: talk
    logbook: kept
    review: { ask: "${url}/review", within: 500ms, otherwise: refuse }
    allow: { enter: { ask: "${url}/enter" }, publish: signed-in }
`;
  writeFileSync(join(folder, 'bells.yaml'), text);
});
afterAll(() => {
  application.close();
  rmSync(folder, { recursive: true, force: true });
});
beforeEach(() => {
  reached.length = 0;
});

/** Does everything that asks, calls or tells the application. */
async function doEverything(service: TestService, data: string): Promise<unknown> {
  const tomas = await service.client({ user: 'tomas' });
  await tomas.enter('talk');
  await tomas.publish('talk', { text: data });
  return (await tomas.say('call', { name: 'turn', data })).data;
}

describe('a test service', () => {
  it('receives what would go to the application and to receivers of hooks, and lets nothing out', async () => {
    await using service = await TestService.start({ text, calls: { turn: ({ data }) => ({ data: `${data}!` }) } });
    expect(await doEverything(service, 'Ahoy')).toBe('Ahoy!');
    expect(await service.application.gets('ask')).toMatchObject({ act: 'enter', channel: 'talk', user: 'tomas' });
    expect(await service.application.gets('review')).toMatchObject({ message: { data: { text: 'Ahoy' } } });
    expect(await service.application.gets('call')).toMatchObject({ call: 'turn', user: 'tomas', data: 'Ahoy' });
    const delivery = await service.application.gets('delivery', { hook: 'bureau' }, { withinMs: 20_000 });
    expect(delivery).toMatchObject({ type: 'ninebells.message', subject: 'talk', data: { data: { text: 'Ahoy' } } });
    await service.application.getsNo('delivery');
    expect(reached).toEqual([]);
  });

  it('reaches the configured URLs with `outbound`', async () => {
    await using service = await TestService.start({ text, outbound: true });
    expect(await doEverything(service, 'Ahoy')).toBe('from the real one');
    await until(() => reached.length === 4);
    expect([...reached].sort()).toEqual(['/bureau', '/enter', '/review', '/turn']);
  });

  type Case = [what: string, options: TestServiceOptions, verb: string, members: object, answer: object];
  it.each<Case>([
    ['no to a question', { ask: () => false }, 'enter', { channel: 'talk' }, { code: 'not-allowed' }],
    [
      'a reason with a no',
      { ask: ({ user }) => ({ allow: user !== 'tomas', reason: 'Not on duty' }) },
      'enter',
      { channel: 'talk' },
      { code: 'not-allowed', detail: 'Not on duty' },
    ],
    ['what is no answer', { ask: () => ({ alow: true }) }, 'enter', { channel: 'talk' }, { code: 'ask-failed' }],
    [
      'an error in the function',
      { ask: () => Promise.reject(new Error('a mistake')) },
      'enter',
      { channel: 'talk' },
      { code: 'ask-failed' },
    ],
    ['never', { ask: () => new Promise(() => {}) }, 'enter', { channel: 'talk' }, { code: 'ask-failed' }],
    ['no to a message', { review: () => false }, 'publish', { channel: 'talk', data: 1 }, { code: 'review-refused' }],
    [
      'a refusal of a call',
      { calls: { turn: () => ({ refuse: { code: 'too-late', text: 'The race is over.' } }) } },
      'call',
      { name: 'turn' },
      { code: 'call-refused', detail: 'The race is over.' },
    ],
    [
      'a call that no function answers',
      {},
      'call',
      { name: 'turn' },
      { detail: expect.stringContaining('This test does not answer the call turn: pass it to TestService.start') },
    ],
  ])('answers %s as the application would', async (_, options, verb, members, answer) => {
    await using service = await TestService.start({ text, ...options });
    const tomas = await service.client({ user: 'tomas' });
    expect(await tomas.refused(verb, members as never)).toMatchObject(answer);
  });

  it('delivers again what a function of a hook has failed to take', async () => {
    let failures = 1;
    const hooks = {
      bureau: () => {
        if (failures-- > 0) throw new Error('the bureau is closed');
      },
    };
    await using service = await TestService.start({ text, hooks });
    const tomas = await service.client({ user: 'tomas' });
    await tomas.publish('talk', 1);
    const first = await service.application.gets('delivery', {}, { withinMs: 20_000 });
    await until(() => failures < 1);
    service.clock.move(60_000);
    expect(await service.application.gets('delivery', { id: first.id }, { withinMs: 20_000 })).toEqual(first);
  });

  it.each<[TestServiceOptions, string]>([
    [{ calls: { trun: () => ({}) } }, '`calls` has a function for trun, which is not configured; configured are turn'],
    [{ hooks: { office: () => {} } }, '`hooks` has a function for office, which is not configured'],
    [{ outbound: true, ask: () => true }, 'with `outbound`, the application answers: leave out ask'],
  ])('refuses functions that nothing would call: %o', async (options, problem) => {
    await expect(TestService.start({ text, ...options })).rejects.toThrow(problem);
  });
});

describe('a drill', () => {
  const head = `drill: 1
users: { tomas: {} }
clients: { tomas: tomas }
within: 20s
steps:
`;
  const drill = (steps: string, ...args: string[]): ReturnType<typeof ninebells> => {
    const file = join(folder, 'one.drill.yaml');
    writeFileSync(file, head + steps);
    return ninebells(['drill', file, '--config', join(folder, 'bells.yaml'), ...args]);
  };
  const steps = `  - application: { answers: call, to: { call: turn }, with: { data: 4 } }
  - application: { answers: call, to: { data: $(own) }, status: 503, after: 10ms }
  - tomas: { enter: talk }
  - tomas: { call: turn, data: 1, reply: { data: 4 } }
  - tomas: { call: turn, data: $(own), refused: call-failed }
  - application: { gets: call, data: 1, as: turn }
  - tomas: { publish: talk, data: "$(turn.user)" }
  - application: { gets in order: [{ delivery: { data: { data: tomas } } }, { delivery: {} }], within: 300ms }
`;

  it('states what the application answers, and expects what it gets', async () => {
    const { code, out } = await drill(steps);
    expect(out).toContain('expected delivery (2 of 2) at the application within 300 ms');
    expect(out).toContain('FAIL application: { gets in order');
    expect(code).toBe(1);
    expect(reached).toEqual([]);
  });

  it('reaches the configured URLs with --outbound, where nothing can be expected of them', async () => {
    const { code, out } = await drill('  - tomas: { enter: talk }\n  - application: { gets: ask }\n', '--outbound');
    expect(out).toContain('they go out (--outbound)');
    expect(code).toBe(1);
    expect(reached).toEqual(['/enter']);
  });

  it('refuses --outbound beside a service that runs', async () => {
    const { code, err } = await drill(steps, '--outbound', '--url', 'http://127.0.0.1:9');
    expect(err).toContain('--outbound goes with a service that the drill starts');
    expect(code).toBe(2);
  });
});
