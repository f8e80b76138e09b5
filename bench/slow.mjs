// No client slows another: the time from publishing to receiving, for those who read, with and without some who do not read at
// all and are sent more than they could take; and what that costs in memory.
import { cpus } from 'node:os';
import { Child, median } from './child.mjs';
import { channel, theService } from './subjects.mjs';

const connections = 1000;
const deaf = 10;
const rounds = 7;
const roundMs = 4_000;
const rate = 20;
/** What goes to the few besides, in bytes and messages a second, whether they read or not. */
const flood = { channel: 'race/9/bench', bytes: 16_000, rate: 200 };

console.log(
  `${connections} connections, ${rate} messages a second to all, and ${(flood.bytes * flood.rate) / 1e6} MB/s more to ${deaf} of them`,
);
console.log(`${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; medians of ${rounds} rounds\n`);

const subject = await theService();
const { port, path, protocol } = subject;
const hello = JSON.stringify({ do: 'hello', id: 1, enter: [{ channel }] });
const both = JSON.stringify({ do: 'hello', id: 1, enter: [{ channel }, { channel: flood.channel }] });
const readers = new Child('./receiver.mjs');
await readers.ask({ act: 'connect', port, path, protocol, count: connections - deaf, first: hello });
await readers.ask({ act: 'time', every: 10 });
const sleepers = new Child('./receiver.mjs');

const seen = { without: [], with: [], memory: [] };
for (let round = 0; round <= rounds; round++) {
  await sleepers.ask({ act: 'connect', port, path, protocol, count: deaf, first: both });
  const without = await measure();
  await sleepers.ask({ act: 'close' });
  await until(() => subject.connections() === connections - deaf);

  await sleepers.ask({ act: 'connect', port, path, protocol, count: deaf, first: both, deaf: true });
  const before = process.memoryUsage.rss();
  const withThem = await measure();
  const cutOff = connections - subject.connections();
  if (cutOff !== deaf) throw new Error(`${cutOff} connections were cut off, not the ${deaf} that do not read`);
  await sleepers.ask({ act: 'close' });
  if (round === 0) continue;
  seen.without.push(without);
  seen.with.push(withThem);
  seen.memory.push((process.memoryUsage.rss() - before) / 1_048_576);
}
console.log(row('', 'p50', 'p99', 'p99 ratio'));
console.log(row('all read', ms(seen.without, 'p50'), ms(seen.without, 'p99'), '1.00x'));
const ratio = median(seen.with.map(({ p99 }, round) => p99 / seen.without[round].p99));
console.log(row(`${deaf} do not read`, ms(seen.with, 'p50'), ms(seen.with, 'p99'), `${ratio.toFixed(2)}x`));
console.log(
  `\nAll ${deaf} were cut off in each round. Resident memory grew by ${median(seen.memory).toFixed(1)} MiB meanwhile (median); their queues are bounded to 1 MiB each.`,
);
readers.end();
sleepers.end();
await subject.stop();
process.exit();

async function measure() {
  await readers.ask({ act: 'time', every: 10 });
  const started = performance.now();
  let [sent, flooded] = [0, 0];
  while (performance.now() - started < roundMs) {
    const seconds = (performance.now() - started) / 1000;
    for (; sent < seconds * rate; sent++) subject.timed(process.hrtime.bigint());
    for (; flooded < seconds * flood.rate; flooded++) await subject.publishBytes(flood.channel, flood.bytes);
    await new Promise((resolve) => setTimeout(resolve, 1));
  }
  await new Promise((resolve) => setTimeout(resolve, 300));
  return readers.ask({ act: 'times' });
}

async function until(look) {
  while (!look()) await new Promise((resolve) => setTimeout(resolve, 10));
}

function ms(rounds, part) {
  return `${(median(rounds.map((each) => each[part])) / 1000).toFixed(2)} ms`;
}

function row(name, ...cells) {
  return name.padEnd(24) + cells.map((cell) => cell.padStart(14)).join('');
}
