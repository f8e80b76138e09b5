import { execFileSync, spawnSync } from 'node:child_process';
import { cpSync, existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Command, root } from '../support/command.js';
import { until } from '../support/until.js';

const names = ['wire', 'yaml', 'core', 'client', 'writer', 'service', 'drills', 'testing', 'cli'];
/** The SDK for a page, minified and compressed, may have so many bytes. */
const maxClientBytes = 20_480;

let folder: string;
const { version } = JSON.parse(readFileSync(join(root, 'package.json'), 'utf8')) as { version: string };
const tarball = (name: string) => join(folder, `nine-bells-${name}-${version}.tgz`);
const run = (command: string, args: readonly string[], cwd: string) =>
  execFileSync(command, args, { cwd, encoding: 'utf8', stdio: ['ignore', 'pipe', 'pipe'], timeout: 120_000 });

beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'bells-packages-'));
  for (const name of names) run('npm', ['pack', '--pack-destination', folder], join(root, 'packages', name));
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

describe('the packages', () => {
  it.each(names)('%s has no fault that publint or are-the-types-wrong finds, and says how it is used', (name) => {
    for (const [tool, args] of [
      ['publint', ['--strict']],
      ['attw', ['--profile', 'esm-only']],
    ] as const) {
      const { status, stdout, stderr } = spawnSync(join(root, 'node_modules/.bin', tool), [tarball(name), ...args], {
        encoding: 'utf8',
      });
      expect([tool, status, status === 0 ? '' : stdout + stderr]).toEqual([tool, 0, '']);
    }
    expect(run('tar', ['-tzf', tarball(name)], folder)).toContain('package/README.md');
  });

  it.each(names)('%s has the map, with its source, of each file that names one', (name) => {
    const unpacked = join(folder, `unpacked-${name}`);
    mkdirSync(unpacked);
    run('tar', ['-xzf', tarball(name), '-C', unpacked], folder);
    const files = readdirSync(unpacked, { recursive: true, encoding: 'utf8' }).filter((each) => each.endsWith('.js'));
    const without = files.filter((file) => {
      const [, map] = /^\/\/# sourceMappingURL=(.+)$/m.exec(readFileSync(join(unpacked, file), 'utf8')) ?? [];
      if (map === undefined) return false;
      const path = join(unpacked, dirname(file), map);
      return !existsSync(path) || JSON.parse(readFileSync(path, 'utf8')).sourcesContent?.[0] === undefined;
    });
    expect([files.length > 0, without]).toEqual([true, []]);
  });

  it.each(names)('%s has the version of the project, and needs the others in that version', (name) => {
    const own = JSON.parse(readFileSync(join(root, 'packages', name, 'package.json'), 'utf8'));
    const needed = Object.entries({ ...own.dependencies, ...own.optionalDependencies });
    const ours = needed.filter(([each]) => each.startsWith('@nine-bells/'));
    expect([own.version, ours]).toEqual([version, ours.map(([each]) => [each, version])]);
  });

  it('get another version all at once', () => {
    const copy = join(folder, 'another-version');
    const files = ['package.json', 'package-lock.json', ...names.map((name) => `packages/${name}/package.json`)];
    for (const file of files) cpSync(join(root, file), join(copy, file));
    run('node', [join(root, 'scripts/setVersion.mjs'), '9.8.7', copy], root);
    const ours = files.flatMap((file) =>
      [...readFileSync(join(copy, file), 'utf8').matchAll(/"@nine-bells\/\w+": "(?!file:)([^"]+)"/g)].map(
        ([, each]) => each,
      ),
    );
    const own = files.map((file) => JSON.parse(readFileSync(join(copy, file), 'utf8')).version);
    expect(new Set([...ours, ...own])).toEqual(new Set(['9.8.7']));
  });

  it('give an empty project the SDK, the command with its console, and an engine to embed', async () => {
    const project = join(folder, 'project');
    cpSync(join(root, 'tests/embedding'), project, { recursive: true });
    // Without scripts: compiling sqlite3 takes minutes, and the checkout has it compiled.
    run(
      'npm',
      ['install', '--ignore-scripts', '--prefer-offline', '--no-audit', '--no-fund', ...names.map(tarball)],
      project,
    );
    run('npm', ['rebuild', '@nine-bells/writer'], project);
    cpSync(join(root, 'node_modules/sqlite3/build'), join(project, 'node_modules/sqlite3/build'), { recursive: true });
    expect(run('node', ['engine.mjs'], project)).toBe('pia: General recall\n');
    // The types that a project meets are those that it was written for.
    run(join(root, 'node_modules/.bin/tsc'), ['-p', '.'], project);

    writeFileSync(
      join(project, 'bells.yaml'),
      'service: { guests: true }\nchannels:\n  - { pattern: quay, allow: { enter: anyone, publish: anyone } }\n',
    );
    const bin = join(project, 'node_modules/.bin/ninebells');
    writeFileSync(
      join(project, 'quay.drill.yaml'),
      'drill: 1\nclients: { a: guest, b: guest }\nsteps:\n  - a: { enter: quay }\n  - b: { publish: quay, data: Open }\n  - a: { gets: message, data: Open }\n',
    );
    const { out: drilled } = await new Command(['drill', '.', '--config', 'bells.yaml'], {}, bin, project).ended;
    expect(drilled).toContain('1 drill passed, 3 steps');
    const args = ['serve', '--config', 'bells.yaml', '--port', '0', '--data', 'data'];
    const command = new Command(args, {}, bin, project);
    try {
      const url = await until(() => /listening at (\S+)/.exec(command.out)?.[1]);
      expect(run('node', ['page.mjs', url], project)).toBe('Quay is open\n');
      expect(await (await fetch(`${url}/console/`)).text()).toContain('<div id="root">');
      const env = { NINEBELLS_URL: url, NINEBELLS_KEY: readFileSync(join(project, 'data/api-key'), 'utf8').trim() };
      const { out } = await new Command(['instances'], env, bin, project).ended;
      expect(out).toMatch(/WRITER[\s\S]*native/);
    } finally {
      command.process.kill('SIGTERM');
      await command.ended;
    }
  });

  it('client is small enough for a page', () => {
    const browser = join(root, 'packages/client/dist/browser');
    const [file = ''] = readdirSync(browser).filter((each) => each.endsWith('.js'));
    expect(gzipSync(readFileSync(join(browser, file))).length).toBeLessThan(maxClientBytes);
  });
});
