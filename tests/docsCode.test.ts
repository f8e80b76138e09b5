import { execFile, execFileSync } from 'node:child_process';
import { copyFileSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { type AddressInfo, createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { parseDrill } from '@nine-bells/drills';
import { parseConfiguration } from '@nine-bells/service';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ninebells, root, type StartedService, serve, startService } from './startedService.js';

const read = (page: string): string => readFileSync(join(root, page), 'utf8');

interface Block {
  readonly page: string;
  readonly line: number;
  readonly language: string;
  readonly code: string;
}

const pages = [
  'README.md',
  ...['docs', ...readdirSync(join(root, 'packages')).map((name) => `packages/${name}`)].flatMap((folder) =>
    readdirSync(join(root, folder))
      .filter((name) => name.endsWith('.md'))
      .map((name) => `${folder}/${name}`),
  ),
];

const blocks: readonly Block[] = pages.flatMap((page) => {
  const text = readFileSync(join(root, page), 'utf8');
  return [...text.matchAll(/^```([a-z]+)\n([\s\S]*?)^```/gm)].map(({ 1: language = '', 2: code = '', index }) => ({
    page,
    line: text.slice(0, index).split('\n').length + 1,
    language,
    code,
  }));
});

function blocksIn(...languages: readonly string[]): readonly Block[] {
  return blocks.filter(({ language }) => languages.includes(language));
}

/** What the examples leave to the reader's own application. */
const readersOwn = `
import type { EarlierRevision, Entry, Line, LineState, Message } from '@nine-bells/client';
import type { Clock, EnginePorts, Link } from '@nine-bells/core';
declare global {
  const token: string, key: string, race: number;
  const line: Line;
  const chat: Entry;
  const desk: Entry;
  const mine: Message;
  const badge: { textContent: unknown }, bell: { textContent: unknown }, note: { textContent: unknown };
  const form: HTMLFormElement, textarea: HTMLTextAreaElement;
  const clock: Clock, link: Link;
  const ids: EnginePorts['ids'], hmac: EnginePorts['hmac'], tokens: EnginePorts['tokens'], report: EnginePorts['report'];
  function show(message: Message): void;
  function showAgain(message: Omit<Message, 'data'>): void;
  function showEarlier(revision: EarlierRevision): void;
  function showBlocked(users: readonly string[]): void;
  function showState(state: LineState): void;
  function showThatSomeAreMissing(): void;
  function showList(members: readonly object[]): void;
  function showMembers(members: readonly object[]): void;
  function fetchToken(): Promise<string>;
  function ring(title: string, data: unknown): void;
  function warn(text: string): void;
  function crewsOf(day: string | undefined): Promise<readonly (string | undefined)[]>;
}
`;

describe('the code in the docs', () => {
  const typed = blocksIn('js', 'ts');
  // In this folder, from which the packages are found.
  const folder = mkdtempSync(join(root, 'tests/dist-docs-'));
  let found = '';

  beforeAll(() => {
    writeFileSync(join(folder, 'readersOwn.d.ts'), readersOwn);
    writeFileSync(
      join(folder, 'served.d.ts'),
      "declare module 'http://127.0.0.1:9119/client.js' { export * from '@nine-bells/client'; }\n",
    );
    writeFileSync(
      join(folder, 'standardwebhooks.d.ts'),
      'export class Webhook { constructor(secret: string); verify(text: string, headers: object): any }\n',
    );
    writeFileSync(
      join(folder, 'tsconfig.json'),
      JSON.stringify({
        compilerOptions: {
          target: 'ES2023',
          lib: ['ES2023', 'DOM', 'DOM.Iterable', 'DOM.AsyncIterable'],
          module: 'NodeNext',
          strict: true,
          noEmit: true,
          skipLibCheck: true,
          experimentalDecorators: true,
          types: ['node'],
          // Its own types want headers that Node.js types otherwise.
          paths: { standardwebhooks: ['./standardwebhooks.d.ts'] },
        },
        include: ['.'],
      }),
    );
    // The types that the docs say how to make.
    copyFileSync(join(root, 'demo/src/regatta.ts'), join(folder, 'regatta.d.ts'));
    for (const [index, { code }] of typed.entries())
      writeFileSync(join(folder, `block${index}.mts`), `${code}\nexport {};\n`);
    try {
      execFileSync(join(root, 'node_modules/.bin/tsc'), ['-p', folder, '--pretty', 'false'], { cwd: root });
    } catch (error) {
      found = String((error as { stdout: Buffer }).stdout);
    }
  });

  afterAll(() => rmSync(folder, { recursive: true, force: true }));

  it('is there to be checked, and the checker finds nothing else', () => {
    expect(typed.length).toBeGreaterThan(20);
    expect(found.split('\n').filter((each) => /^\S/.test(each) && !/block\d+\.mts/.test(each))).toEqual([]);
  });

  it.each(typed.map((each, index) => [`${each.page}:${each.line}`, index] as const))(
    'has right types: %s',
    (_, index) => expect(found.split('\n').filter((each) => each.includes(`block${index}.mts`))).toEqual([]),
  );

  it.each(blocksIn('json').map((each) => [`${each.page}:${each.line}`, each] as const))(
    'is JSON: %s',
    (_, { code }) => {
      for (const each of code.split('\n').filter((text) => text !== '')) JSON.parse(each);
    },
  );

  it.each(blocksIn('python').map((each) => [`${each.page}:${each.line}`, each] as const))(
    'is Python: %s',
    (_, { code }) => {
      execFileSync('python3', ['-c', 'import ast, sys; ast.parse(sys.stdin.read())'], { input: code });
    },
  );

  const isDrill = ({ code }: Block): boolean => /^drill: /m.test(code);
  const configurations = blocksIn('yaml').filter(
    (block) => !block.code.startsWith('# of a Prometheus server') && !isDrill(block),
  );

  it.each(blocksIn('yaml').filter(isDrill))('$page:$line is a drill', ({ code, page }) => {
    const { steps, load } = parseDrill(code, page);
    expect([...steps, ...(load?.acts ?? [])]).not.toEqual([]);
  });

  it.each(configurations.map((each) => [`${each.page}:${each.line}`, each] as const))(
    'is a configuration: %s',
    (_, { code }) => {
      const whole = /^channels:/m.test(code) ? code : `${code}\nchannels: []\n`;
      const secretFile = join(folder, 'secret');
      writeFileSync(secretFile, 'a-secret-file-of-at-least-32-bytes-for-all-instances');
      const text = whole.replace(/secretFile: \S+/, `secretFile: ${secretFile}`);
      expect(() => parseConfiguration(text, join(folder, 'bells.yaml'), { data: folder })).not.toThrow();
    },
  );
});

interface Shown {
  readonly page: string;
  readonly line: number;
  readonly text: string;
}

/** The commands of a block, with what follows after a backslash. */
const shown: readonly Shown[] = blocksIn('sh').flatMap(({ page, line, code }) => {
  const lines = code.replace(/\\\n\s*/g, (joined) => `${' '.repeat(joined.length - 1)}`);
  return lines
    .split('\n')
    .map((text) => ({ page, line, text: text.replace(/\s+#.*$/, '').trim() }))
    .filter(({ text }) => /ninebells |^curl /.test(text) && !text.startsWith('export '));
});

describe('the commands in the docs', () => {
  const helps = new Map<string, Promise<string>>();
  const called = shown.flatMap(({ page, line, text }) => {
    const [, command, rest = ''] = /ninebells ((?:(?:intake|hook|feed) )?[a-z-]+)(.*?)\)?$/.exec(text) ?? [];
    return command === undefined ? [] : [{ where: `${page}:${line}`, command, rest, text }];
  });

  it.each(called)('$where: `$text` has a command and options that there are', async ({ command, rest }) => {
    const help =
      helps.get(command) ??
      ninebells([...command.split(' '), '--help']).then(({ code, out }) => (code === 0 ? out : ''));
    helps.set(command, help);
    for (const [option] of rest.replace(/"[^"]*"/g, '').matchAll(/--[a-z-]+/g)) expect(await help).toContain(option);
    expect(await help).toContain('Usage');
  });
});

describe('the first steps of docs/webhooks.md', () => {
  it('lead from a signed event to a delivery that is tried again', async () => {
    const [, text = ''] = /^```yaml\n(# bells.yaml[\s\S]*?)^```/m.exec(read('docs/webhooks.md')) ?? [];
    const [steps = ''] = read('docs/webhooks.md').split('## In: intakes');
    const script = [...steps.matchAll(/^```sh\n([\s\S]*?)^```/gm)].map(([, code]) => code).join('\n');
    const folder = mkdtempSync(join(tmpdir(), 'bells-docs-'));
    const port = String(await freePort());
    const { command, url, key } = await serve(folder, 0, { text: text.replace('9121', port) });
    try {
      const commands = script
        .replaceAll('npx ninebells', `'${process.execPath}' '${join(root, 'bin/ninebells.mjs')}'`)
        .replaceAll('9121', port)
        .replace(/^export .*$/m, '');
      const env = { ...process.env, NO_COLOR: '1', NINEBELLS_URL: url, NINEBELLS_KEY: key };
      const out = execFileSync('bash', ['-ec', `trap 'kill $(jobs -p)' EXIT\n${commands}`], {
        cwd: folder,
        env,
      }).toString();
      expect(out).toMatch(/^[0-9A-Z]{26}\n[0-9A-Z]{26} \(came before\)\n/);
      expect(out).toMatch(/buoy +[0-9A-Z]{26} +done +weather\/north-mark/);
      expect(out).toMatch(/reading \{"knots":14.2,"from":"variable"\}/);
      expect(out).not.toContain('0144');
      expect(out).toMatch(/waiting +[0-9]+ +connect ECONNREFUSED.*again/);
      expect(out).toMatch(/delivered +[0-9]+ +200/);
    } finally {
      command.process.kill();
      await command.ended;
      rmSync(folder, { recursive: true, force: true });
    }
  });
});

/** A port that nothing listens at. */
async function freePort(): Promise<number> {
  const server = createServer();
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const { port } = server.address() as AddressInfo;
  await new Promise((resolve) => server.close(resolve));
  return port;
}

describe('on the service of the demo, the commands', () => {
  const pagesToRun = [
    'README.md',
    'docs/contracts.md',
    'docs/http.md',
    'docs/notices.md',
    'docs/presence.md',
    'docs/unread.md',
  ];
  const run = shown.filter(
    ({ page, text }) => pagesToRun.includes(page) && !/ninebells (serve|check|token) |npx --no-install/.test(text),
  );
  let service: StartedService;

  beforeAll(async () => {
    const file = join(root, 'demo/bells.yaml');
    service = await startService({ text: readFileSync(file, 'utf8').replace('port: 9119', 'port: 0'), file });
  });

  afterAll(() => service.remove());

  it('are some', () => expect(run.length).toBeGreaterThan(8));

  it.each(run)('$page: $text', async ({ text }) => {
    const command = text
      .replaceAll('npx ninebells', `'${process.execPath}' '${join(root, 'bin/ninebells.mjs')}'`)
      .replace(/^curl /, 'curl --silent --show-error --fail-with-body ');
    const ended = await new Promise<{ code: number | string; out: string }>((resolve) => {
      const child = execFile(
        'bash',
        ['-c', `exec ${command}`],
        { cwd: root, env: { ...process.env, NO_COLOR: '1', NINEBELLS_URL: service.url, NINEBELLS_KEY: service.key } },
        (error, out, err) => resolve({ code: error?.code ?? 0, out: `${out}${err}` }),
      );
      // `listen` goes on until it is interrupted; it says that it is connected.
      if (text.startsWith('npx ninebells listen')) child.stderr?.once('data', () => child.kill('SIGINT'));
    });
    // `explain` tells by its code that the act would be refused.
    const code = ended.out.includes(': refused, not-allowed\n') ? 3 : 0;
    expect(ended).toEqual({ code, out: expect.any(String) });
  });
});
