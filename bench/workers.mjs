// What workers give: one message in, 1,000 deliveries out, of a service that is one process, one worker, and two. The
// service runs in processes of its own; who publishes and who receives are two more, on the same cores.
import { spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { cpus, tmpdir } from 'node:os';
import { join } from 'node:path';
import { setTimeout as wait } from 'node:timers/promises';
import { fileURLToPath } from 'node:url';
import { Backend } from '@nine-bells/client/backend';
import { Child, median } from './child.mjs';
import { text } from './subjects.mjs';

const connections = 1000;
const rounds = 7;
const roundMs = 500;
const channel = 'race/3/bench';
const say = (line = '') => console.log(line);

say(`Fan-out to ${connections} connections on loopback, published over HTTP; ${text.length} characters of text`);
say(`${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; medians of ${rounds} rounds\n`);
say(`${''.padEnd(24)}${'one at a time'.padStart(18)}${'bursts of ten'.padStart(18)}`);

const hello = JSON.stringify({ do: 'hello', id: 1, enter: [{ channel }] });
const found = [];
for (const workers of [0, 1, 2]) {
  const folder = mkdtempSync(join(tmpdir(), 'bells-bench-'));
  const file = join(folder, 'bells.yaml');
  writeFileSync(
    file,
    `service: { port: 0, data: data, guests: true, pulse: 1h, workers: ${workers}, limits: { connectionsPerAddress: 100000, keyRequests: 1000000/s } }
tokens: { secret: the-secret-of-the-benchmarks-of-32-bytes }
channels: [{ pattern: "race/:race/bench", logbook: { recent: { messages: 100 } }, allow: { enter: anyone } }]
`,
  );
  const command = fileURLToPath(new URL('../bin/ninebells.mjs', import.meta.url));
  const service = spawn(process.execPath, [command, 'serve', '--config', file], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const url = await new Promise((resolve) => {
    let out = '';
    service.stdout.on('data', (data) => {
      out += data;
      const match = /listening at (\S+)/.exec(out);
      if (match) resolve(match[1]);
    });
  });
  const backend = new Backend(url, { key: readFileSync(join(folder, 'data', 'api-key'), 'utf8').trim() });
  const receiver = new Child('./receiver.mjs');
  const { port } = new URL(url);
  await receiver.ask({
    act: 'connect',
    port: Number(port),
    path: '/line',
    protocol: 'nine-bells.v1',
    count: connections,
    first: hello,
  });
  const row = [];
  for (const burst of [1, 10]) {
    const rates = [];
    for (let round = 0; round <= rounds; round++) {
      const rate = await measure(backend, receiver, burst);
      if (round > 0) rates.push(rate);
    }
    row.push(median(rates));
  }
  found.push(row);
  const name = workers === 0 ? 'one process' : `${workers} worker${workers > 1 ? 's' : ''}`;
  const told = row.map((rate, at) =>
    `${Math.round(rate).toLocaleString('en')} ${(rate / found[0][at]).toFixed(2)}x`.padStart(18),
  );
  say(name.padEnd(24) + told.join(''));
  receiver.end();
  const ended = new Promise((resolve) => service.once('exit', resolve));
  service.kill('SIGKILL');
  await ended;
  await wait(300);
  rmSync(folder, { recursive: true, force: true });
}

/** Deliveries a second: from the first publish until the last byte of the last one has come. */
async function measure(backend, receiver, burst) {
  await receiver.ask({ act: 'reset' });
  const drafts = Array.from({ length: burst }, () => ({ channel, data: { text } }));
  const startMs = performance.now();
  let published = 0;
  // Several requests are under way, as of an application with several processes.
  const publishing = async () => {
    while (performance.now() - startMs < roundMs) {
      await backend.publishAll(drafts);
      published += burst;
    }
  };
  await Promise.all(Array.from({ length: 4 }, publishing));
  let before = -1;
  let endMs = performance.now();
  for (;;) {
    const { least, most } = await receiver.ask({ act: 'count' });
    if (most !== before) endMs = performance.now();
    else if (least === most && performance.now() - endMs > 30) break;
    before = most;
    await wait(5);
  }
  return (published * connections) / ((endMs - startMs) / 1000);
}
process.exit();
