// `npm run chaos`: lets clients talk through real processes, databases and relays while random faults befall these, and
// compares what was acknowledged with what clients saw and what the database has (docs/testing.md).
import { join } from 'node:path';
import { parseArgs } from 'node:util';
import { root, setUp } from './setUp.mjs';

const usage = `npm run chaos -- [--seed N] [--runs N] [--for 60s] [--database sqlite|postgres|all]
                [--relay redis|cluster|replica|workers|all] [--tell]`;

const { values } = parseArgs({
  options: {
    seed: { type: 'string', default: '1' },
    runs: { type: 'string', default: '1' },
    for: { type: 'string', default: '60s' },
    database: { type: 'string', default: 'all' },
    relay: { type: 'string', default: 'all' },
    tell: { type: 'boolean', default: false },
    help: { type: 'boolean', default: false },
  },
});
const forMs = /^\d+s$/.test(values.for) ? Number(values.for.slice(0, -1)) * 1000 : Number.NaN;
const [seed, runs] = [Number(values.seed), Number(values.runs)];
if (values.help || ![forMs, seed, runs].every((each) => Number.isInteger(each) && each > 0)) {
  console.log(usage);
  process.exit(values.help ? 0 : 2);
}

await setUp({ engines: true });
const { createServer } = await import('vite');
// Open until the end: what it runs imports more later.
const vite = await createServer({
  root,
  configFile: false,
  logLevel: 'error',
  appType: 'custom',
  server: { middlewareMode: true, ws: false, watch: null },
  optimizeDeps: { noDiscovery: true },
});
const module = await vite.ssrLoadModule(join(root, 'tests/support/chaos.ts'));
const chosen = (all, wanted) => (wanted === 'all' ? all : all.filter((each) => each === wanted));
const databases = chosen(module.databases, values.database);
const relays = chosen(module.relays, values.relay);
if (databases.length * relays.length === 0) {
  console.log(usage);
  process.exit(2);
}
const total = { runs: 0, failed: 0, acknowledged: 0, gaps: 0 };
for (let at = seed; at < seed + runs; at++)
  for (const database of databases)
    for (const relay of relays) {
      total.runs += 1;
      try {
        const tell = values.tell ? (line) => console.log(line) : undefined;
        const outcome = await module.chaos({ seed: at, forMs, database, relay, tell });
        const { acknowledged, gaps, bans, slowestMs, faults } = outcome;
        const count = Object.values(faults).reduce((sum, each) => sum + each, 0);
        total.acknowledged += acknowledged;
        total.gaps += gaps;
        console.log(
          `seed ${at}, ${database}, ${relay}: ${acknowledged} acknowledged, ${count} faults, ${gaps} gaps told, ${bans} bans, slowest ${slowestMs} ms`,
        );
      } catch (error) {
        total.failed += 1;
        console.log(`FAILED: ${error.message}`);
      }
    }
console.log(
  `${total.runs} runs, ${total.failed} failed: ${total.acknowledged} messages acknowledged, ${total.gaps} gaps told`,
);
process.exit(total.failed > 0 ? 1 : 0);
