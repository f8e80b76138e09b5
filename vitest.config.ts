import { availableParallelism } from 'node:os';
import { fileURLToPath } from 'node:url';
import { defineConfig, type TestProjectInlineConfiguration } from 'vitest/config';
import { BaseSequencer, type TestSpecification } from 'vitest/node';

const path = (name: string) => fileURLToPath(new URL(name, import.meta.url));

/** Bounds on what would never end, on however slow a machine, in milliseconds. */
const [testMs, pollMs] = [300_000, 60_000];
/** Files that take long start first, so that none of them runs alone at the end. */
const long = /pages\/|ostgres\.test|simulation|[fF]aults|recovery|workers|instances|descriptions/;

class LongFirst extends BaseSequencer {
  override async sort(files: TestSpecification[]): Promise<TestSpecification[]> {
    const sorted = await super.sort(files);
    return [...sorted].sort((a, b) => Number(long.test(b.moduleId)) - Number(long.test(a.moduleId)));
  }
}

/** Has packages tested as built, but for pages: Node.js imports that itself, in a sixth of the time. */
const asBuilt = {
  name: 'as-built',
  enforce: 'pre' as const,
  resolveId(source: string, importer = '') {
    const [, folder, rest] = /^\.\.\/(src|simulator)\/(.*)$/.exec(source) ?? [];
    const [, inPackage] = /^(.*\/packages\/[^/]+)\/test\//.exec(importer) ?? [];
    if (folder === undefined || inPackage === undefined || inPackage.endsWith('/console')) return undefined;
    return `${inPackage}/${folder === 'src' ? 'dist' : 'dist-simulator'}/${rest}`;
  },
};

function project(name: string, test: TestProjectInlineConfiguration['test']): TestProjectInlineConfiguration {
  return { extends: true, test: { name, ...test } };
}

/** Options shared by all tests of the service. */
const started = {
  setupFiles: [path('tests/support/setUp.ts')],
  globalSetup: path('tests/support/perRun.ts'),
};

export default defineConfig({
  plugins: [asBuilt],
  test: {
    server: { deps: { external: [/\/(packages\/[^/]+|demo)\/dist(-simulator)?\//] } },
    // Files that run in one process share what they import.
    isolate: false,
    // Most tests that start something wait for it most of the time.
    maxWorkers: 2 * availableParallelism(),
    sequence: { sequencer: LongFirst },
    testTimeout: testMs,
    hookTimeout: testMs,
    expect: { poll: { timeout: pollMs } },
    env: { NO_COLOR: '1' },
    projects: [
      project('packages', { include: ['packages/{wire,core,client,drills,console}/test/**/*.test.{ts,tsx}'] }),
      project('service', {
        include: ['packages/service/test/**/*.test.ts', 'tests/*.test.ts', 'tests/pages/*.test.ts'],
        ...started,
      }),
      project('release', { include: ['tests/release/*.test.ts'], ...started }),
    ],
  },
});
