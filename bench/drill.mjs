// How long a drill of 20 steps takes, from the command to its exit code: with a service in memory that is started for it.
import { spawnSync } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { cpus, tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { median } from './child.mjs';

const rounds = 7;
const root = fileURLToPath(new URL('..', import.meta.url));
const folder = mkdtempSync(join(tmpdir(), 'bells-bench-drill-'));
const file = join(folder, 'twenty.drill.yaml');
const steps = [
  '- pia: { enter: race/3/chat }',
  '- jory: { enter: race/3/chat }',
  ...Array.from({ length: 9 }, (_, n) => [
    `- pia: { publish: race/3/chat, data: { leg: ${n} } }`,
    `- jory: { gets: message, data: { leg: ${n} } }`,
  ]).flat(),
];
writeFileSync(
  file,
  `drill: 1\nusers: { pia: , jory: }\nclients: { pia: pia, jory: jory }\nsteps:\n  ${steps.join('\n  ')}\n`,
);

const time = (args) => {
  const startMs = performance.now();
  const { status, stdout } = spawnSync(process.execPath, [join(root, 'bin/ninebells.mjs'), ...args], {
    encoding: 'utf8',
  });
  if (status !== 0) throw new Error(stdout);
  return performance.now() - startMs;
};
const times = { nothing: [], drill: [] };
for (let round = 0; round <= rounds; round++) {
  const nothing = time(['--version']);
  const drill = time(['drill', file, '--config', join(root, 'demo/bells.yaml')]);
  if (round === 0) continue;
  times.nothing.push(nothing);
  times.drill.push(drill);
}
console.log(`${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; medians of ${rounds} rounds\n`);
console.log(`the command, doing nothing        ${(median(times.nothing) / 1000).toFixed(2)} s`);
console.log(`a drill of ${steps.length} steps, start included ${(median(times.drill) / 1000).toFixed(2)} s`);
rmSync(folder, { recursive: true, force: true });
