// How long a drill of 20 steps takes, from the command to its exit code, with a service in memory that is started for it;
// then what a client of a load takes in memory, and how many messages one process receives.
import { spawn, spawnSync } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { cpus, tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { median } from './child.mjs';
import { openRaw } from './rawClient.mjs';

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

// Enough is permitted, so that the generator is what is measured.
writeFileSync(
  join(folder, 'load.yaml'),
  `service:
  port: 0
  data: data
  guests: true
  limits: { connectionsPerAddress: 20000, newConnectionsPerAddress: 100000/10s, publishes: 5000/s }
tokens: { secret: the-secret-of-the-loaded-service-of-32-bytes }
channels:
  - { pattern: "race/:race/chat", logbook: kept, allow: { enter: anyone, read: anyone, publish: signed-in } }
`,
);
/** What a load of many fans and one who publishes has measured. */
async function load(fans, rate, seconds, more = []) {
  const drill = join(folder, 'load.drill.yaml');
  writeFileSync(
    drill,
    `drill: 1
config: load.yaml
users: { pia: }
clients: { ${fans > 0 ? `fan: { guest: true, times: ${fans} }, ` : ''}pia: pia }
load:
  for: ${seconds}s
  connect: 1500/s
  first: [{ ${fans > 0 ? 'fan' : 'pia'}: { enter: race/3/chat } }]
  acts: [{ pia: { publish: race/3/chat, data: { text: Petrel is ahead! } }, rate: ${rate}/s }]
`,
  );
  const child = spawn(process.execPath, [join(root, 'bin/ninebells.mjs'), 'drill', drill, '--report', 'json', ...more]);
  let text = '';
  for await (const part of child.stdout) text += part;
  return JSON.parse(text).load;
}
const memory = ({ seconds }) => Math.max(...seconds.map(({ generator }) => generator.memoryBytes));
const [few, many] = [await load(100, 1, 3), await load(10_000, 1, 3)];
console.log(`\n${many.connected.toLocaleString('en')} clients of a load in one process`);
console.log(`memory of each, resident          ${((memory(many) - memory(few)) / 9_900 / 1024).toFixed(1)} KiB`);
console.log('\n1,000 clients of a load in one process, one who publishes');
for (const rate of [10, 25, 50, 70]) {
  const { total, seconds } = await load(1_000, rate, 5);
  const cpu = Math.max(...seconds.map(({ generator }) => generator.cpu));
  const { p50, p99 } = total.delivery;
  console.log(
    `${String(total.receivedPerS).padStart(7)} received/s: p50 ${p50.toFixed(0)} ms, p99 ${p99.toFixed(0)} ms, the generator ${Math.round(cpu * 100)}% of a core, ${total.lost} lost`,
  );
}

// The same deliveries, timed by the load and by a receiver that does as little as possible and looks at every twentieth.
console.log('\nThe same service, 1,000 receivers, 25 messages a second: the load, and the bare receiver, in turn');
const serving = spawn(
  process.execPath,
  [join(root, 'bin/ninebells.mjs'), 'serve', '--config', join(folder, 'load.yaml'), '--port', '9391', '--json'],
  { stdio: 'ignore' },
);
const url = 'http://127.0.0.1:9391';
while (!(await fetch(`${url}/readyz`).catch(() => ({}))).ok) await new Promise((resolve) => setTimeout(resolve, 100));
const against = ['--url', url, '--config', join(folder, 'load.yaml')];
const at = (times, share) => times.sort((a, b) => a - b)[Math.floor(times.length * share)];
for (let round = 0; round < 3; round++) {
  const { total } = await load(1_000, 25, 8, against);
  let times = [];
  const bare = [];
  for (let n = 0; n < 1_000; n++) {
    const isTimed = n % 20 === 0;
    const onFrame = (frame) => {
      const sent = isTimed && /"sentAtMs":([0-9.]+)/.exec(frame)?.[1];
      if (sent) times.push(performance.timeOrigin + performance.now() - Number(sent));
    };
    bare.push(await openRaw({ port: 9391, protocol: 'nine-bells.v1', onFrame }));
    bare.at(-1).send(JSON.stringify({ do: 'hello', id: 1, enter: [{ channel: 'race/3/chat' }] }));
  }
  await new Promise((resolve) => setTimeout(resolve, 1_000));
  times = [];
  await load(0, 25, 8, against);
  for (const each of bare) each.destroy();
  const { p50, p99 } = total.delivery;
  const [bare50, bare99] = [at(times, 0.5), at(times, 0.99)];
  console.log(
    `p50 ${p50.toFixed(1)} ms, bare ${bare50.toFixed(1)} ms (${(p50 / bare50).toFixed(2)}x); p99 ${p99.toFixed(0)} ms, bare ${bare99.toFixed(0)} ms (${(p99 / bare99).toFixed(2)}x)`,
  );
}
serving.kill();
rmSync(folder, { recursive: true, force: true });
