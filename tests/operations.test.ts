import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ninebells, root } from './support/command.js';
import { RawLine } from './support/rawLine.js';
import { type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

let started: StartedService;
let env: Record<string, string>;
beforeAll(async () => {
  started = await startService();
  env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
});
afterAll(() => started.remove());

const ask = (headers: Record<string, string>): Promise<Response> => fetch(`${started.url}/metrics`, { headers });

/** The figures that `/metrics` gives, by name and labels. */
async function metrics(): Promise<Map<string, number>> {
  const text = await (await ask({ authorization: `Bearer ${started.key}` })).text();
  const lines = text.split('\n').filter((line) => line !== '' && !line.startsWith('#'));
  return new Map(
    lines.map((line) => [line.slice(0, line.lastIndexOf(' ')), Number(line.slice(line.lastIndexOf(' ')))]),
  );
}

describe('metrics', () => {
  it('are for whoever has a key, in the format of OpenMetrics', async () => {
    expect((await ask({})).status).toBe(401);
    const answer = await ask({ authorization: `Bearer ${started.key}` });
    expect(answer.headers.get('content-type')).toMatch(/^application\/openmetrics-text; *version=1\.0\.0/);
    expect(await answer.text()).toMatch(/# EOF\n$/);
  });

  it('count what goes on', async () => {
    const before = await metrics();
    const line = await (await RawLine.open(started.url)).hello({ token: await started.token('pia') });
    line.send({ do: 'enter', id: 2, channel: 'weather/wind' });
    await line.reply(2);
    line.send({ do: 'enter', id: 3, channel: 'crew/petrel' });
    expect(await line.reply(3)).toMatchObject({ problem: { code: 'not-allowed' } });
    for (let n = 0; n < 5; n++) await started.backend.publish({ channel: 'weather/wind', data: n });
    await started.backend.publish({ channel: 'race/1/chat', data: 1 });
    await until(() => line.frames.filter(({ on }) => on === 'message').length === 5);
    const after = await metrics();
    const grown = (name: string): number => (after.get(name) ?? 0) - (before.get(name) ?? 0);
    expect(after.get('bells_connections{transport="websocket"}')).toBe(1);
    expect(after.get('bells_channels_entered')).toBe(1);
    expect(after.get('bells_open')).toBe(1);
    expect(grown('bells_messages_total')).toBe(6);
    expect(grown('bells_deliveries_total')).toBe(5);
    expect(grown('bells_refusals_total{code="not-allowed"}')).toBe(1);
    expect(grown('bells_access_decisions_total{act="enter",outcome="allowed"}')).toBe(1);
    expect(grown('bells_access_decisions_total{act="enter",outcome="refused"}')).toBe(1);
    expect(grown('bells_relay_seconds_count')).toBe(5);
    expect(grown('bells_commit_seconds_count')).toBe(1);
    expect(grown('bells_written_bytes_total')).toBeGreaterThan(500);
    line.socket.close();
  });

  it('are those that the guide names', async () => {
    const guide = readFileSync(join(root, 'docs/metrics.md'), 'utf8');
    const named = [...guide.matchAll(/^\| `(bells_\w+)` \|/gm)].map(([, name]) => name as string);
    const text = await (await ask({ authorization: `Bearer ${started.key}` })).text();
    const told = [...text.matchAll(/^# TYPE (\w+) (\w+)$/gm)].map(([, name, kind]) =>
      kind === 'counter' ? `${name}_total` : name,
    );
    expect(named.sort()).toEqual(told.sort());
  });
});

describe('ninebells trace', () => {
  it('tells what became of a message, and of it for a user', async () => {
    const line = await (await RawLine.open(started.url)).hello({
      token: await started.token('jory'),
      enter: [{ channel: 'race/2/chat' }],
    });
    const { id } = await started.backend.publish({ channel: 'race/2/chat', data: 1, by: { user: 'mira' } });
    await line.push('message');
    const told = await ninebells(['trace', id, '--user', 'jory'], env);
    expect(told.out).toMatch(/^race\/2\/chat {2}\w+:1\nTaken in from mira by i1 at /);
    expect(told.out).toMatch(/jory of the test was handed it at .* on the connection that is still open/);
    const { out } = await ninebells(['trace', id, '--json'], env);
    expect(JSON.parse(out)).toMatchObject({ id, accepted: { instance: 'i1' }, instances: [{ connections: 1 }] });
    const unknown = await ninebells(['trace', 'nothing'], env);
    expect(unknown).toMatchObject({ code: 3, out: '' });
    expect(unknown.err).toContain('no-trace');
    line.socket.close();
  });
});

describe('ninebells plan', () => {
  const plan = async (...args: string[]) => JSON.parse((await ninebells(['plan', ...args, '--json'])).out);

  it('multiplies messages by members, and divides by what an instance bears', async () => {
    const small = await plan('--connections', '5000', '--messages', '20', '--members', '100');
    expect(small).toMatchObject({
      instances: 1,
      because: 'one is enough',
      deliveriesPerS: 2_000,
      relay: { textsOutPerS: 0 },
    });
    const many = await plan('--connections', '1000000', '--messages', '1', '--members', '10');
    expect(many).toMatchObject({ instances: 21, because: 'connections' });
    // One of them may be missing.
    expect(many.perInstance.connections * 21).toBeCloseTo(20 * 50_000);
    const loud = await plan('--connections', '1000', '--messages', '100', '--members', '1000', '--deliveries', '50000');
    expect(loud).toMatchObject({ instances: 4, because: 'deliveries', deliveriesPerS: 100_000 });
    // A large room is on every instance, a pair on at most two.
    expect(loud.relay.instancesPerMessage).toBeCloseTo(4);
    const pairs = await plan('--connections', '500000', '--messages', '1000', '--members', '2');
    expect(pairs.relay.instancesPerMessage).toBeLessThan(2);
  });

  it('asks for more instances where the relay brings more than one can take in', async () => {
    const relayed = await plan('--connections', '100000', '--messages', '30000', '--members', '3');
    expect(relayed).toMatchObject({ instances: 4, because: 'relayed messages', relay: { processes: 2 } });
    expect(relayed.perInstance.ofTexts).toBeLessThanOrEqual(1);
  });

  it('says where a wish is not enough, and what is missing', async () => {
    const wished = await ninebells([
      'plan',
      '--connections',
      '200000',
      '--messages',
      '10',
      '--members',
      '10',
      '--instances',
      '2',
    ]);
    expect(wished.out).toContain('2 instances (as wished)');
    expect(wished.err).toContain('more than what is planned with');
    expect((await ninebells(['plan', '--connections', '10'])).code).toBe(2);
    expect((await ninebells(['plan', '--connections', 'many', '--messages', '1', '--members', '1'])).code).toBe(2);
  });
});
