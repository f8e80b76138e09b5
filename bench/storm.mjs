// Ten thousand sessions, each in three channels, lose their connections in the same moment and all come back: how long until
// each has its session, its channels and what it missed, against ten thousand bare connects of the WebSocket library.
import { cpus } from 'node:os';
import { Child, median } from './child.mjs';

const count = Number(process.env.BENCH_COUNT ?? 10_000);
const rounds = 9;
const missedEach = 5;

console.log(
  `${count.toLocaleString('en')} sessions in three channels each, cut at once, with ${missedEach} messages missed in each channel`,
);
console.log(`${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; medians of ${rounds} rounds\n`);

const bare = await subject('byHand');
const service = await subject('theServiceForUsers', 3);
const times = { bare: [], service: [], ratios: [] };
for (let round = 0; round < rounds; round++) {
  const { ms: bareMs } = await cutAndRecover(bare);
  const { ms, missed } = await cutAndRecover(service);
  if (missed !== count * 3 * missedEach) throw new Error(`${missed} missed messages were given`);
  times.bare.push(bareMs);
  times.service.push(ms);
  times.ratios.push(ms / bareMs);
}
console.log(row('', 'time', 'ratio'));
console.log(row('the library, bare connects', `${(median(times.bare) / 1000).toFixed(2)} s`, '1.00x'));
console.log(
  row(
    'service, all recovered',
    `${(median(times.service) / 1000).toFixed(2)} s`,
    `${median(times.ratios).toFixed(2)}x`,
  ),
);
for (const { server, clients } of [bare, service]) for (const child of [server, clients]) child.end();
process.exit();

async function subject(name, channels) {
  const server = new Child('./sender.mjs', ['--expose-gc']);
  const started = await server.ask({ act: 'start', name, options: count });
  const clients = new Child('./stormClients.mjs');
  const { port, path, protocol, tokens } = started;
  const names = channels && Array.from({ length: channels }, (_, index) => `race/${index + 1}/bench`);
  await clients.ask({ act: 'open', port, path, protocol, tokens, channels: names, count });
  return { server, clients, names };
}

async function cutAndRecover({ server, clients, names }) {
  await clients.ask({ act: 'cut' });
  await new Promise((resolve) => setTimeout(resolve, 2_000));
  if (names !== undefined) await server.ask({ act: 'fill', channels: names, count: missedEach });
  return clients.ask({ act: 'recover' });
}

function row(name, ...cells) {
  return name.padEnd(32) + cells.map((cell) => cell.padStart(14)).join('');
}
