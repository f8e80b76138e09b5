import { execFile, spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { join } from 'node:path';
import { promisify } from 'node:util';
import SwaggerParser from '@apidevtools/swagger-parser';
import { Parser } from '@asyncapi/parser';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { root } from '../support/command.js';
import { describedText } from '../support/described.js';
import { type StartedService, startService } from '../support/service.js';
import { until } from '../support/until.js';

let service: StartedService;

beforeAll(async () => {
  service = await startService({ text: describedText });
});
afterAll(() => service.remove());

/** Gets a description, with a key or a token. */
async function fetched(path: string, bearer?: string): Promise<object> {
  // A parser takes long, and the service would close a connection that is kept open.
  const headers = { connection: 'close', ...(bearer === undefined ? {} : { authorization: `Bearer ${bearer}` }) };
  return (await (await fetch(service.url + path, { headers })).json()) as object;
}

describe('the descriptions, read by other parsers,', () => {
  it('are OpenAPI 3.1', async () => {
    const body = await fetched('/openapi.json');
    expect(body).toMatchObject({ openapi: '3.1.0' });
    await SwaggerParser.validate(body as never);
  });

  it.each([
    ['a key, with everything', () => service.key],
    ['a guest, with the least', () => undefined],
  ])('are AsyncAPI 3.0, for %s', async (_, bearer) => {
    const body = await fetched('/asyncapi.json', bearer());
    const { document, diagnostics } = await new Parser().parse(JSON.stringify(body));
    expect(diagnostics.filter(({ severity }) => severity < 2)).toEqual([]);
    expect(document?.version()).toBe('3.0.0');
  });
});

describe('clients that have the descriptions and nothing of ours', () => {
  it('are generated for TypeScript, and know what fits', async () => {
    const folder = mkdtempSync(join(root, 'tests/dist-generated-'));
    try {
      const require = createRequire(import.meta.url);
      const bin = (name: string, path: string) => join(require.resolve(`${name}/package.json`), '..', path);
      // The service answers in this very process, which may not wait.
      const run = async (...args: string[]) =>
        (await promisify(execFile)(process.execPath, args, { cwd: folder, encoding: 'utf8' })).stdout;
      await run(bin('openapi-typescript', 'bin/cli.js'), `${service.url}/openapi.json`, '-o', 'ninebells.d.ts');
      writeFileSync(
        join(folder, 'client.ts'),
        `import type { paths } from './ninebells.js';
type Publish = paths['/v1/messages']['post'];
type Body = Publish['requestBody']['content']['application/json'];
const key = process.argv[3];
async function publish(body: Body): Promise<Publish['responses'][201]['content']['application/json']> {
  const headers = { authorization: 'Bearer ' + key, 'content-type': 'application/json' };
  const response = await fetch(process.argv[2] + '/v1/messages', { method: 'POST', headers, body: JSON.stringify(body) });
  return (await response.json()) as Publish['responses'][201]['content']['application/json'];
}
const done = await publish({ channel: 'race/5/chat', data: { text: 'Generated' } });
if ('cursor' in done) console.log(done.cursor);
// @ts-expect-error the channel is missing
await publish({ data: 1 });
// @ts-expect-error there is no such member
await publish({ channel: 'race/5/chat', data: 1, chanel: 2 });
type Problem = Publish['responses'][422]['content']['application/problem+json']['code'];
const code: Problem = 'bad-data';
// @ts-expect-error no request to publish is refused with this
const other: Problem = 'no-such-hook';
console.log(code, other);
`,
      );
      const options = ['--module', 'esnext', '--target', 'es2022', '--strict', '--skipLibCheck', '--types', 'node'];
      await run(bin('typescript', 'bin/tsc'), ...options, 'client.ts');
      expect(await run('client.js', service.url, service.key)).toMatch(/^\w+:1\nbad-data no-such-hook\n$/);
    } finally {
      rmSync(folder, { recursive: true, force: true });
    }
  });

  it('are written by hand in Python, as the docs have it', async () => {
    const page = readFileSync(join(root, 'docs/other-languages.md'), 'utf8');
    const [, code = ''] = /^```python\n([\s\S]*?)^```/m.exec(page) ?? [];
    const client = spawn('python3', ['-u', '-c', code, service.url, 'race/6/chat'], {
      env: { ...process.env, TOKEN: await service.token('python', 60_000) },
    });
    let out = '';
    let err = '';
    client.stdout.on('data', (data) => (out += data));
    client.stderr.on('data', (data) => (err += data));
    try {
      await service.backend.publish({ channel: 'race/6/chat', data: { text: 'First' }, by: { user: 'mira' } });
      await until(() => out.includes('First') || (err !== '' && Promise.reject(new Error(err))));
      await service.backend.publish({ channel: 'race/6/chat', data: { text: 'Who is there?' } });
      await until(() => out.includes('"Python"'));
      // Its connection is cut: it comes back where it was.
      const [session] = (await service.backend.sessions({ user: 'python' })).sessions;
      expect(session?.transport).toBe('websocket');
      for (const number of [1, 2, 3])
        await service.backend.publish({ channel: 'race/6/chat', data: { text: `More ${number}` } });
      await until(() => out.includes('More 3'));
      expect(out.match(/First|Python|More \d/g)).toEqual(['First', 'Python', 'More 1', 'More 2', 'More 3']);
    } finally {
      client.kill();
    }
  });
});
