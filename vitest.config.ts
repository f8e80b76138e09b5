import { availableParallelism } from 'node:os';
import { fileURLToPath } from 'node:url';
import { defineConfig, type TestProjectInlineConfiguration } from 'vitest/config';
import { BaseSequencer, type TestSpecification } from 'vitest/node';

const path = (name: string) => fileURLToPath(new URL(name, import.meta.url));

/** Starts what test files share. */
const perRun = path('tests/support/perRun.ts');
/** Bounds on what would never end, on however slow a machine, in milliseconds. */
const [testMs, pollMs] = [300_000, 60_000];
/** Files that take long start first, so that none of them runs alone at the end. */
const long = /pages\/|ostgres\.test|simulation|[fF]aults|recovery|workers|instances/;

class LongFirst extends BaseSequencer {
  override async sort(files: TestSpecification[]): Promise<TestSpecification[]> {
    const sorted = await super.sort(files);
    return [...sorted].sort((a, b) => Number(long.test(b.moduleId)) - Number(long.test(a.moduleId)));
  }
}

function project(
  name: string,
  { include = [`packages/${name}/test/**/*.test.{ts,tsx}`], ...more }: TestProjectInlineConfiguration['test'] = {},
): TestProjectInlineConfiguration {
  // Everything but pages is tested as built: Node.js imports that itself, in a sixth of the time.
  const alias = [
    { find: /^\.\.\/src\//, replacement: path(`packages/${name}/dist/`) },
    { find: /^\.\.\/simulator\//, replacement: path(`packages/${name}/dist-simulator/`) },
  ];
  const external = [/\/(packages\/[^/]+|demo)\/dist(-simulator)?\//];
  return {
    extends: true,
    resolve: { alias: name === 'console' ? [] : alias },
    test: { name, include, server: { deps: { external } }, ...more },
  };
}

const started = { setupFiles: [path('tests/support/setUp.ts')], globalSetup: perRun };

export default defineConfig({
  test: {
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
      project('wire'),
      project('core'),
      project('drills'),
      project('console'),
      project('client'),
      project('service', started),
      project('crossing', { include: ['tests/*.test.ts', 'tests/pages/*.test.ts'], ...started }),
      project('release', { include: ['tests/release/*.test.ts'], ...started }),
    ],
  },
});
