// One message in, many deliveries out: the service's path against the loop that people write by hand, with the same
// WebSocket library, in one run on one machine; and what an idle connection costs in memory.
import { cpus } from 'node:os';
import { Child, median, turn } from './child.mjs';
import { byHand, channel, theService } from './subjects.mjs';

const connections = 1000;
const rounds = 21;
const roundMs = 400;
const idleConnections = 10_000;

const hello = JSON.stringify({ do: 'hello', id: 1, enter: [{ channel }] });

console.log(`Fan-out to ${connections} connections on loopback, received in a second process`);
console.log(
  `${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; medians of ${rounds} rounds, ratios within a round\n`,
);

const cases = [
  { name: 'loop by hand', make: byHand, burst: 1, first: undefined },
  { name: 'loop by hand, bursts of 10', make: byHand, burst: 10, first: undefined },
  { name: 'service, one at a time', make: theService, burst: 1, first: hello },
  { name: 'service, bursts of 10', make: theService, burst: 10, first: hello },
];
for (const each of cases) {
  each.subject = await each.make();
  each.receiver = new Child('./receiver.mjs');
  const { port, path, protocol } = each.subject;
  await each.receiver.ask({ act: 'connect', port, path, protocol, count: connections, first: each.first });
  each.rates = [];
  each.cpuUs = [];
}
// A round to warm up, then the cases in turn, so that what else the machine does hits all alike.
for (let round = 0; round <= rounds; round++)
  for (const each of cases) {
    const { rate, cpuUs } = await measure(each);
    if (round === 0) continue;
    each.rates.push(rate);
    each.cpuUs.push(cpuUs);
  }
console.log(row('', 'deliveries/s', 'ratio', 'sender CPU', 'ratio'));
for (const { name, rates, cpuUs } of cases)
  console.log(
    row(
      name,
      Math.round(median(rates)).toLocaleString('en'),
      ratioTo(rates, cases[0].rates),
      `${median(cpuUs).toFixed(2)} us`,
      ratioTo(cpuUs, cases[0].cpuUs),
    ),
  );
for (const { subject, receiver } of cases) {
  receiver.end();
  await subject.stop();
}

console.log(`\nResident memory of ${idleConnections.toLocaleString('en')} idle connections (the service: after hello)`);
const memory = {};
for (const name of ['byHand', 'theService']) {
  const server = new Child('./idleServer.mjs', ['--expose-gc']);
  const receiver = new Child('./receiver.mjs');
  const { port, path, protocol, rss: before } = await server.ask({ act: 'start', name });
  const first = name === 'theService' ? JSON.stringify({ do: 'hello', id: 1 }) : undefined;
  await receiver.ask({ act: 'connect', port, path, protocol, count: idleConnections, first });
  const { rss: after, connections: open } = await server.ask({ act: 'measure' });
  if (open !== idleConnections) throw new Error(`${name}: ${open} connections are open`);
  memory[name] = (after - before) / idleConnections;
  receiver.end();
  server.end();
}
console.log(row('', 'per connection', 'ratio'));
console.log(row('the library, bare', `${(memory.byHand / 1024).toFixed(1)} KiB`, '1.00x'));
console.log(
  row('service', `${(memory.theService / 1024).toFixed(1)} KiB`, `${(memory.theService / memory.byHand).toFixed(2)}x`),
);
process.exit();

/** Publishes for a while, burst by burst, each after the one before is out. */
async function measure({ name, subject, receiver, burst }) {
  await receiver.ask({ act: 'reset' });
  const cpuBefore = process.cpuUsage();
  const started = performance.now();
  let messages = 0;
  for (let i = 0; performance.now() - started < roundMs; i++) {
    subject.publish(burst);
    messages += burst;
    await subject.flushed();
    await turn();
    if (i % 10 === 9) while (subject.waiting() > 0) await turn();
  }
  while (subject.waiting() > 0) await turn();
  const elapsedMs = performance.now() - started;
  const cpu = process.cpuUsage(cpuBefore);
  const deliveries = messages * connections;

  // Everybody must have got the same, and as much as was sent.
  await new Promise((resolve) => setTimeout(resolve, 100));
  const { least, most } = await receiver.ask({ act: 'count' });
  if (least !== most || least < messages * 200)
    throw new Error(`${name}: ${messages} messages, but ${least} to ${most} bytes were received`);
  return { rate: (deliveries / elapsedMs) * 1000, cpuUs: (cpu.user + cpu.system) / deliveries };
}

/** The median of the ratios within each round: what disturbs the machine for a while disturbs both sides of a ratio. */
function ratioTo(values, base) {
  return `${median(values.map((value, round) => value / base[round])).toFixed(2)}x`;
}

function row(name, ...cells) {
  return name.padEnd(30) + cells.map((cell) => cell.padStart(16)).join('');
}
