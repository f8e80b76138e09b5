import { execFileSync } from 'node:child_process';
import { copyFileSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { parseDrill } from '@nine-bells/drills';
import { parseConfiguration } from '@nine-bells/service';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ninebells, root } from './support/command.js';
import { type Block, blocksIn, shown } from './support/docsBlocks.js';

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
