import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { decodeJwt } from 'jose';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Command, ninebells, spawnNinebells, startNinebells } from './support/command.js';
import { configurationText, type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

let started: StartedService;
let env: Record<string, string>;
let folder: string;
let config: string;

beforeAll(async () => {
  started = await startService();
  env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
  folder = mkdtempSync(join(tmpdir(), 'bells-commands-'));
  config = join(folder, 'bells.yaml');
  writeFileSync(config, configurationText);
});
afterAll(async () => {
  await started.remove();
  rmSync(folder, { recursive: true, force: true });
});

// biome-ignore lint/suspicious/noExplicitAny: tests look into output freely
const lines = (text: string): any[] =>
  text
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line));

describe('ninebells', () => {
  it('shows what there is, and its version', async () => {
    const help = await ninebells(['--help']);
    expect(help.code).toBe(0);
    for (const name of ['serve', 'demo', 'token', 'publish', 'listen', 'read', 'channels', 'explain', 'console'])
      expect(help.out).toContain(`  ${name} `);
    expect((await ninebells(['--version'])).out.trim()).toMatch(/^\d+\.\d+\.\d+$/);
  });

  it('publishes, lists and reads, for people and for scripts', async () => {
    const people = await ninebells(['publish', 'race/1/chat', '--text', 'Ahoy', '--by', 'mira:Mira Holt'], env);
    expect(people).toMatchObject({ code: 0, err: '' });
    expect(people.out).toMatch(/^Published to race\/1\/chat as \w+:1\n$/);
    const script = await ninebells(['publish', 'race/1/chat', '{"n":1}', '--idempotency-key', 'k', '--json'], env);
    expect(lines(script.out)).toMatchObject([{ channel: 'race/1/chat', cursor: expect.stringMatching(/:2$/) }]);
    const repeated = await ninebells(['publish', 'race/1/chat', '{"n":1}', '--idempotency-key', 'k'], env);
    expect(repeated.out).toContain('Already published');
    const channels = await ninebells(['channels'], env);
    expect(channels.out).toMatch(/CHANNEL.*\nrace\/1\/chat +kept +0 +\w+:2/);
    expect(lines((await ninebells(['channels', '--json'], env)).out)[0]).toMatchObject({ channel: 'race/1/chat' });
    const read = await ninebells(['read', 'race/1/chat'], env);
    expect(read.out).toMatch(/Mira Holt Ahoy\n.*\(application\) \{"n":1\}\n/);
  });

  it('listens: as the key’s holder, as a user, as a guest; from the record on, and ends after a count', async () => {
    await started.backend.publishAll([1, 2, 3].map((data) => ({ channel: 'race/2/chat', data })));
    const listen = ['listen', 'race/2/chat', '--last', '2', '--count', '3', '--json'];
    const asKey = startNinebells(listen, env);
    const asUser = startNinebells([...listen, '--token', await started.token('pia')], { NINEBELLS_URL: started.url });
    const asGuest = startNinebells(listen, { NINEBELLS_URL: started.url });
    for (const command of [asKey, asUser, asGuest]) await until(() => command.out.split('\n').length > 2);
    await started.backend.publish({ channel: 'race/2/chat', data: 4 });
    for (const command of [asKey, asUser, asGuest]) {
      const ended = await command.ended;
      expect(ended.code).toBe(0);
      expect(lines(ended.out).map(({ data }) => data)).toEqual([2, 3, 4]);
    }
  });

  it('makes tokens that the service takes, and prints them alone', async () => {
    const args = ['token', '--config', config, '--user', 'pia', '--name', 'Pia Lund', '--role', 'committee'];
    const { code, out } = await ninebells([...args, '--claim', 'boats=petrel', '--claim', 'n=3', '--for', '1h']);
    expect(code).toBe(0);
    expect(out).toMatch(/^\S+\n$/);
    const claims = decodeJwt(out.trim());
    expect(claims).toMatchObject({ sub: 'pia', name: 'Pia Lund', roles: ['committee'], boats: 'petrel', n: 3 });
    expect((claims.exp as number) - (claims.iat as number)).toBe(3600);
    const listen = await ninebells(['listen', 'committee', '--count', '1', '--token', out.trim(), '--last', '0'], {
      NINEBELLS_URL: 'http://127.0.0.1:9',
    });
    expect(listen.code).toBe(4);
  });

  it('explains who may do what, and says by its exit code whether it is allowed', async () => {
    const allowed = await ninebells(
      ['explain', '--user', 'tomas', '--claim', 'boats=petrel', 'publish', 'crew/petrel'],
      env,
    );
    expect(allowed.code).toBe(0);
    expect(allowed.out).toContain('publish crew/petrel by tomas: allowed');
    expect(allowed.out).toContain('The rule is crew/:boat, with :boat = petrel');
    expect(allowed.out).toContain('yes  claim boats holds petrel (:boat)   found "petrel"');
    expect(allowed.out).toMatch(/committee: it has 1 segments, the name has 2/);
    const refused = await ninebells(['explain', '--guest', 'enter', 'crew/petrel', '--json'], env);
    expect(refused.code).toBe(3);
    expect(lines(refused.out)[0]).toMatchObject({ allowed: false, problem: { code: 'not-allowed' } });
  });

  it('prints a link that signs in to the console', async () => {
    expect((await ninebells(['console'], env)).out).toMatch(/^http:\S+\/console\/#sign-in=\S+\n$/);
  });

  it.each<[string, string[], Record<string, string>, number, string]>([
    ['no such command', ['lisen'], {}, 2, 'Did you mean listen?'],
    ['data that is not JSON', ['publish', 'a', 'ahoy'], {}, 2, '--text'],
    ['no data at all', ['publish', 'a'], {}, 2, '--text'],
    ['an odd port', ['serve', '--config', 'x', '--port', '99999'], {}, 2, '0 to 65535'],
    ['a configuration that is not there', ['serve', '--config', '/nowhere/bells.yaml'], {}, 2, 'cannot be read'],
    ['a key that is wrong', ['channels'], { NINEBELLS_KEY: 'x' }, 3, 'NINEBELLS_KEY'],
    ['a channel without a rule', ['publish', 'nowhere', '1'], {}, 3, 'no-such-channel'],
    ['a name that cannot be one', ['publish', 'a b', '1'], {}, 3, 'bad-name'],
    ['listening where one may not', ['listen', 'committee'], { NINEBELLS_KEY: '' }, 3, 'not-allowed'],
    ['listening with a forged token', ['listen', 'committee', '--token', 'x'], {}, 3, 'token-invalid'],
    ['no service', ['channels'], { NINEBELLS_URL: 'http://127.0.0.1:9' }, 4, 'ninebells serve'],
    ['a service that is something else', ['listen', 'a'], { NINEBELLS_URL: 'http://127.0.0.1:9' }, 4, ''],
    ['an explanation for nobody', ['explain', 'enter', 'a'], {}, 2, '--user'],
    ['an act that is none', ['explain', 'shout', 'a', '--guest'], {}, 2, 'publish'],
    ['an odd time', ['token', '--config', 'x', '--user', 'u', '--for', '1 year'], {}, 2, '30m'],
    ['a claim without a value', ['token', '--config', 'x', '--user', 'u', '--claim', 'boats'], {}, 2, ''],
  ])('tells of %s, with an exit code and what to do next', async (_, args, more, code, word) => {
    const ended = await ninebells(args, { ...env, ...more });
    expect(ended.err).toContain(word);
    expect(ended.code).toBe(code);
    expect(ended.out).toBe('');
  });

  it('tells every mistake of a configuration with its line', async () => {
    const file = join(folder, 'wrong.yaml');
    writeFileSync(file, 'channels:\n  - { pattern: a, logbok: kept }\n  - { pattern: b, allow: { enter: all } }\n');
    const { code, err } = await ninebells(['serve', '--config', file]);
    expect(code).toBe(2);
    expect(err).toContain(`${file}:2:19: channels[0].logbok`);
    expect(err).toContain('did you mean "logbook"?');
    expect(err).toContain(`${file}:3:`);
  });

  it('tells that the port is taken, and ends', async () => {
    const { port } = new URL(started.url);
    const data = join(folder, 'taken');
    const ended = await ninebells(['serve', '--config', config, '--port', port, '--data', data]);
    expect(ended).toMatchObject({ code: 1, out: '', err: expect.stringContaining('--port') });
  });

  it('writes neither tokens nor keys into the log', async () => {
    const command = new Command([
      'serve',
      '--config',
      config,
      '--port',
      '0',
      '--data',
      join(folder, 'log'),
      '--log',
      'debug',
      '--json',
    ]);
    const url = await until(() => /"event":"listening","url":"([^"]+)"/.exec(command.err)?.[1]);
    const key = (await import('node:fs')).readFileSync(join(folder, 'log/api-key'), 'utf8').trim();
    const token = (await ninebells(['token', '--config', config, '--user', 'pia'])).out.trim();
    await ninebells(['publish', 'race/1/chat', '1'], { NINEBELLS_URL: url, NINEBELLS_KEY: key });
    await ninebells(['listen', 'race/1/chat', '--last', '1', '--count', '1', '--token', token], { NINEBELLS_URL: url });
    command.process.kill('SIGTERM');
    const { err } = await command.ended;
    expect(err).toContain('"started"');
    expect(err).not.toContain(key);
    expect(err).not.toContain(token);
  });
});

describe('the program ninebells', () => {
  it.each<[number, string[]]>([
    [0, ['channels']],
    [2, ['lisen']],
    [3, ['explain', '--guest', 'enter', 'crew/petrel']],
    [4, ['channels', '--url', 'http://127.0.0.1:9']],
  ])('exits with %i after `%j`', async (code, args) => {
    expect((await spawnNinebells(args, env)).code).toBe(code);
  });

  it.each(['SIGINT', 'SIGTERM'] as const)('ends `listen` cleanly on %s', async (signal) => {
    const command = new Command(['listen', 'race/9/chat'], env);
    await until(() => command.err.includes('connected'));
    command.process.kill(signal);
    expect(await command.ended).toMatchObject({ code: 0, out: '' });
  });

  it('ends without a complaint when its reader closes the pipe', async () => {
    const command = new Command(['listen', 'race/9/chat'], env);
    await until(() => command.err.includes('connected'));
    command.process.stdout?.destroy();
    await started.backend.publishAll([1, 2].map((data) => ({ channel: 'race/9/chat', data })));
    expect((await command.ended).err).not.toContain('EPIPE');
  });
});
