// A board of 100 entries, each set 20 times a second by a client of its own, for 1,000 clients: frames and bytes out, how old
// a value is when it arrives, and CPU; against a loop by hand that merges on a timer, and against the same as messages, at a
// twentieth of the rate, since they would be 2,000,000 deliveries a second. Then how many sets one process takes.
import { spawn } from 'node:child_process';
import { existsSync, mkdtempSync } from 'node:fs';
import { cpus, tmpdir } from 'node:os';
import { join } from 'node:path';
import { Child, median } from './child.mjs';

const redisServer = '/usr/bin/redis-server';
const clients = 1000;
const setters = 100;
const perSetter = 20;
const rounds = 5;
const roundMs = 5_000;

console.log(`${clients} clients, ${setters} of them set an entry each ${perSetter} times a second; pace 100 ms`);
console.log(`${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; medians of ${rounds} rounds\n`);
console.log(row('', 'sets/s', 'frames/s', 'age p50', 'age p99', 'MB/s out', 'core', 'core/1000 sets'));
const shown = {};
for (const [name, subject, rate] of [
  ['board', 'board', perSetter],
  ['loop by hand, merged on a timer', 'byHand', perSetter],
  ['as messages, a twentieth', 'messages', perSetter / 20],
])
  shown[subject] = await measured(name, subject, rate);
console.log(
  `\nOf the loop by hand: ${(shown.board.core / shown.byHand.core).toFixed(2)}x of the CPU, ${(shown.board.p99 / shown.byHand.p99).toFixed(2)}x of the age at 99%. As messages the same sets would take ${((shown.messages.core * 20) / shown.board.core).toFixed(0)}x of the CPU.`,
);
await most();
await acrossInstances();
process.exit();

async function measured(name, subject, rate) {
  const server = new Child('./boardServer.mjs');
  const { port, path, protocol } = await server.ask({ act: 'start', subject });
  const receivers = new Child('./boardClients.mjs');
  await receivers.ask({ act: 'open', port, path, protocol, clients, subject });
  const seen = [];
  for (let round = 0; round <= rounds; round++) {
    await server.ask({ act: 'reset' });
    const got = await receivers.ask({ act: 'run', setters, rate, roundMs });
    const { cpuS, forS } = await server.ask({ act: 'used' });
    if (round > 0) seen.push({ ...got, core: cpuS / forS });
  }
  receivers.end();
  server.end();
  const of = (what) => median(seen.map((each) => each[what]));
  const figures = Object.fromEntries(
    ['sets', 'frames', 'mostFrames', 'p50', 'p99', 'bytes', 'core'].map((each) => [each, of(each)]),
  );
  console.log(
    row(
      name,
      figures.sets.toFixed(0),
      `${figures.frames.toFixed(1)} (${figures.mostFrames.toFixed(1)})`,
      `${figures.p50.toFixed(0)} ms`,
      `${figures.p99.toFixed(0)} ms`,
      (figures.bytes / 1e6).toFixed(1),
      `${(figures.core * 100).toFixed(0)}%`,
      `${((figures.core * 100_000) / figures.sets).toFixed(0)}%`,
    ),
  );
  return figures;
}

/** Sets a second that one process takes, with as many under way as may be, and ten clients that look. */
async function most() {
  const server = new Child('./boardServer.mjs');
  const { port, path, protocol } = await server.ask({ act: 'start', subject: 'board', unbounded: true });
  const senders = new Child('./boardClients.mjs');
  await senders.ask({ act: 'open', port, path, protocol, clients: 20, subject: 'board' });
  const rates = [];
  for (let round = 0; round <= rounds; round++) {
    const { acknowledged } = await senders.ask({ act: 'flood', roundMs: 2_000, underWay: 50 });
    if (round > 0) rates.push(acknowledged / 2);
  }
  senders.end();
  server.end();
  console.log(`One process takes ${Math.round(median(rates)).toLocaleString('en')} sets a second, each acknowledged.`);
}

/** How much later a value arrives at a client of another instance, through Redis, than at one of the same. */
async function acrossInstances() {
  if (!existsSync(redisServer)) return console.log('There is no Redis here: apt-get install redis-server');
  const folder = mkdtempSync(join(tmpdir(), 'bells-bench-'));
  const redisPort = 20_000 + (process.pid % 20_000);
  const redis = spawn(redisServer, ['--port', String(redisPort), '--save', '', '--dir', folder], { stdio: 'ignore' });
  await new Promise((resolve) => setTimeout(resolve, 500));
  const relay = `redis://127.0.0.1:${redisPort}`;
  const [one, two] = [new Child('./boardServer.mjs'), new Child('./boardServer.mjs')];
  const here = await one.ask({ act: 'start', subject: 'board', every: 0, relay, folder });
  const there = await two.ask({ act: 'start', subject: 'board', every: 0, relay, folder });
  await new Promise((resolve) => setTimeout(resolve, 2_000));
  const clients = new Child('./boardClients.mjs');
  const { same, other } = await clients.ask({ act: 'latency', here, there, count: 1_000 });
  clients.end();
  one.end();
  two.end();
  redis.kill();
  const at = (times, part) => `${times[Math.floor(times.length * part)].toFixed(2)} ms`;
  console.log(
    `\nTwo instances that meet in Redis, a set every 11 ms, pushed at once: p50 ${at(same, 0.5)} and p99 ${at(same, 0.99)} to a client of the same instance, ${at(other, 0.5)} and ${at(other, 0.99)} to one of the other.`,
  );
}

function row(name, ...cells) {
  return name.padEnd(33) + cells.map((cell) => cell.padStart(15)).join('');
}
