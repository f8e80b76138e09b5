// What a contract costs a publish, side by side in one service: channels with one, and without. What filters cost: 1,000
// clients of one channel with 100 distinct filters, beside 100 channels with ten clients each. And how long the first page of
// an enter with a filter takes over a record of 100,000 messages.
import { cpus } from 'node:os';
import { Child, median } from './child.mjs';

const rounds = Number(process.env.BENCH_ROUNDS ?? 11);
const roundMs = 1_500;
const connections = 100;
const underWay = 20;
const recordSize = Number(process.env.BENCH_RECORD ?? 100_000);
/** As the image starts the service. */
const heap = ['--initial-heap-size=256', '--no-memory-reducer', '--min-semi-space-size=16', '--max-semi-space-size=32'];

const show = (name, value, wanted = '') => console.log(`  ${name.padEnd(58)}${value.padStart(16)}   ${wanted}`);
const whole = (number) => `${Math.round(number).toLocaleString('en')}/s`;
const ms = (number) => `${number.toFixed(1)} ms`;

console.log(`${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; medians of ${rounds} rounds\n`);
const server = new Child('contractServer.mjs', heap);
const { port } = await server.ask({ act: 'start' });
const clients = new Child('contractClients.mjs');

// --------------------------------------------------------------------------------------------------- publishing
await clients.ask({ act: 'open', port, connections });
for (const logbook of ['recent', 'kept']) {
  const rates = { plain: [], typed: [] };
  for (let round = 0; round <= rounds; round++)
    for (const kind of Object.keys(rates)) {
      const { acknowledged, ms: took } = await clients.ask({
        act: 'publish',
        prefix: `${logbook}-${kind}`,
        underWay,
        roundMs,
      });
      if (round > 0) rates[kind].push((acknowledged / took) * 1000);
    }
  const cost = median(rates.plain.map((rate, index) => rate / rates.typed[index]));
  show(`${logbook}: publishes without a contract`, whole(median(rates.plain)));
  show(`${logbook}: of ten members that are checked`, whole(median(rates.typed)));
  show(`${logbook}: what a publish costs, of one that is not checked`, `${cost.toFixed(2)}x`, 'wanted: at most 1.15x');
}
await clients.ask({ act: 'close' });

// ------------------------------------------------------------------------------------------------------- filters
const deliveries = { channels: [], filters: [] };
for (const kind of Object.keys(deliveries))
  await clients.ask({ act: 'listen', kind, port, clients: 1_000, groups: 100 });
for (let round = 0; round <= rounds; round++)
  for (const kind of Object.keys(deliveries)) {
    const { delivered, ms: took } = await server.ask({ act: 'fanOut', kind, groups: 100, roundMs });
    if (round > 0) deliveries[kind].push((delivered / took) * 1000);
  }
const received = await clients.ask({ act: 'received' });
if (received.wrong > 0)
  throw new Error(`${received.wrong} messages went to clients whose filter does not let them through`);
show('deliveries to 100 channels with 10 clients each', whole(median(deliveries.channels)));
show('to 1,000 clients of one channel, with 100 filters', whole(median(deliveries.filters)));
const share = median(deliveries.filters.map((rate, index) => rate / deliveries.channels[index]));
show('of those to channels', `${share.toFixed(2)}x`, 'wanted: at least 0.8x');

// ------------------------------------------------------------------------------------------------------- entering
await server.ask({ act: 'fill', messages: recordSize });
for (const [name, filter] of [
  ['one of 100 types', { types: ['type7'] }],
  ['one value of 100', { where: { '/boat': 'b7' } }],
  ['nothing that there is', { types: ['none'] }],
]) {
  const { first, pages, all, found } = await clients.ask({ act: 'enter', port, filter, record: recordSize });
  const sorted = first.sort((a, b) => a - b);
  show(
    `first page of ${name}, p50 and p99`,
    `${ms(median(sorted))}, ${ms(sorted[Math.floor(sorted.length * 0.99)])}`,
    'wanted: below 20 ms',
  );
  show(`  all ${found} of them, in ${pages} pages`, ms(all));
}
server.end();
clients.end();
process.exit();
