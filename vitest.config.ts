import { fileURLToPath } from 'node:url';
import { defineConfig } from 'vitest/config';

const source = (name: string) => fileURLToPath(new URL(`packages/${name}/src/index.ts`, import.meta.url));

// wire and core are tested as written; what crosses packages is tested as built.
const inner = {
  '@nine-bells/wire': source('wire'),
  '@nine-bells/core/testing': fileURLToPath(new URL('packages/core/testing/memoryStore.ts', import.meta.url)),
  '@nine-bells/core': source('core'),
};

export default defineConfig({
  test: {
    projects: [
      { resolve: { alias: inner }, test: { name: 'wire', include: ['packages/wire/test/**/*.test.ts'] } },
      {
        resolve: { alias: inner },
        test: { name: 'core', include: ['packages/core/test/**/*.test.ts'], testTimeout: 120_000 },
      },
      { test: { name: 'drills', include: ['packages/drills/test/**/*.test.ts'] } },
      { test: { name: 'console', include: ['packages/console/test/**/*.test.tsx'] } },
      { test: { name: 'client', include: ['packages/client/test/**/*.test.ts'] } },
      {
        test: {
          name: 'service',
          include: ['packages/service/test/**/*.test.ts'],
          testTimeout: 20_000,
          hookTimeout: 30_000,
        },
      },
      {
        test: {
          name: 'crossing',
          include: ['tests/**/*.test.ts'],
          testTimeout: 60_000,
          hookTimeout: 60_000,
          fileParallelism: false,
          // Tests that are `concurrent`, such as random faults: two share the machine.
          maxConcurrency: 2,
        },
      },
    ],
  },
});
