// One message in, many deliveries out: the service's path against the loop that people write by hand, with the same
// WebSocket library, and against a C program that only writes; then how long a delivery takes at half of the peak rate, and
// what an idle connection costs in memory. All in one run on one machine.
import { cpus } from 'node:os';
import { Child, median, turn } from './child.mjs';
import { cProgram } from './cProgram.mjs';
import { byHand, byHandOnce, channel, text, theService } from './subjects.mjs';

const connections = 1000;
const rounds = 21;
const roundMs = 400;
const latencyMs = 5_000;
const idleConnections = 10_000;

const hello = JSON.stringify({ do: 'hello', id: 1, enter: [{ channel }] });
const say = (line = '') => console.log(line);

say(
  `Fan-out to ${connections} connections on loopback, received in a second process; ${text.length} characters of text`,
);
say(
  `${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; medians of ${rounds} rounds, ratios within a round\n`,
);

const cases = [
  { name: 'loop by hand', make: byHand, burst: 1 },
  { name: '  encoded once', make: byHandOnce, burst: 1 },
  { name: 'service', make: theService, burst: 1, first: hello },
  { name: '  without traces', make: () => theService({ traces: false }), burst: 1, first: hello },
  { name: 'C, one write each', burst: 1 },
  { name: 'loop by hand, bursts of 10', make: byHand, burst: 10 },
  { name: '  encoded once', make: byHandOnce, burst: 10 },
  { name: 'service, bursts of 10', make: theService, burst: 10, first: hello },
  { name: '  without traces', make: () => theService({ traces: false }), burst: 10, first: hello },
  { name: 'C, ten joined in a write', burst: 10 },
];
const all = [];
for (const each of cases) {
  if (each.make === undefined) each.c = await cProgram(connections);
  else each.subject = await each.make();
  if (each.c === undefined && each.subject === undefined) {
    say('(no C compiler: without the C program)');
    continue;
  }
  each.receiver = new Child('./receiver.mjs');
  const { port, path, protocol } = each.subject ?? each.c;
  const { first } = each;
  await each.receiver.ask({
    act: 'connect',
    port,
    path,
    protocol,
    count: connections,
    first,
    raw: each.c !== undefined,
  });
  Object.assign(each, { rates: [], cpuUs: [], bytes: 0 });
  all.push(each);
}
// A round to warm up, then the cases in turn, so that what else the machine does hits all alike.
for (let round = 0; round <= rounds; round++)
  for (const each of all) {
    const { rate, cpuUs } = await (each.c === undefined ? measure(each) : measureC(each));
    if (round === 0) continue;
    each.rates.push(rate);
    each.cpuUs.push(cpuUs);
  }
say(row('', 'deliveries/s', 'of the loop', 'of C', 'sender CPU', 'of the loop'));
for (const { name, rates, cpuUs, burst } of all) {
  const [loop] = all.filter((each) => each.burst === burst);
  const c = all.find((each) => each.burst === burst && each.c !== undefined);
  const rate = Math.round(median(rates)).toLocaleString('en');
  const cpu = `${median(cpuUs).toFixed(2)} us`;
  say(
    row(
      name,
      rate,
      ratioTo(rates, loop.rates),
      c === undefined ? '' : percent(rates, c.rates),
      cpu,
      ratioTo(cpuUs, loop.cpuUs),
    ),
  );
}
say('');
for (const name of ['service', 'service, bursts of 10']) {
  const at = all.findIndex((each) => each.name === name);
  say(`With traces, ${name}: ${ratioTo(all[at].rates, all[at + 1].rates)} of the rate without`);
}
const bursts = all.find(({ name }) => name.startsWith('service, bursts'));
say(`\nThe service in bursts of ten against the loop one at a time: ${ratioTo(bursts.rates, all[0].rates)}`);

say(
  '\nFrom publishing to receiving, at half of the peak rate of one at a time (every twentieth connection is looked at)',
);
say(row('', 'messages/s', 'p50', 'p99', 'p99.9'));
for (const each of all.filter(({ burst, subject }) => burst === 1 && subject?.timed)) {
  const rate = median(each.rates) / connections / 2;
  const { p50, p99, p999 } = await latency(each, rate);
  say(row(each.name, rate.toFixed(0), ...[p50, p99, p999].map((us) => `${(us / 1000).toFixed(2)} ms`)));
}
for (const { subject, receiver, c } of all) {
  receiver.end();
  c?.stop();
  await subject?.stop();
}

say(`\nResident memory of ${idleConnections.toLocaleString('en')} idle connections (the service: after hello)`);
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
say(row('', 'per connection', 'ratio'));
say(row('the library, bare', `${(memory.byHand / 1024).toFixed(1)} KiB`, '1.00x'));
say(
  row('service', `${(memory.theService / 1024).toFixed(1)} KiB`, `${(memory.theService / memory.byHand).toFixed(2)}x`),
);
process.exit();

/** Publishes for a while, burst by burst, each after the one before is out. */
async function measure(each) {
  const { name, subject, receiver, burst } = each;
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

  // All must have got the same, and as much as was sent.
  await new Promise((resolve) => setTimeout(resolve, 100));
  const { least, most } = await receiver.ask({ act: 'count' });
  if (least !== most || least < messages * 200)
    throw new Error(`${name}: ${messages} messages, but ${least} to ${most} bytes were received`);
  each.bytes = Math.round(least / messages);
  return { rate: (deliveries / elapsedMs) * 1000, cpuUs: (cpu.user + cpu.system) / deliveries };
}

/** The C program with frames as large as the service's. */
async function measureC({ c, burst }) {
  const { bytes } = all.find(({ make }) => make === theService);
  const { messages, seconds, cpu } = await c.run(bytes, burst, roundMs);
  await new Promise((resolve) => setTimeout(resolve, 100));
  const deliveries = messages * connections;
  return { rate: deliveries / seconds, cpuUs: (cpu * 1e6) / deliveries };
}

/** Publishes at an even pace; how long deliveries took, in microseconds. */
async function latency({ subject, receiver }, rate) {
  await receiver.ask({ act: 'time', every: 20 });
  const started = performance.now();
  for (let published = 0; performance.now() - started < latencyMs; ) {
    const due = ((performance.now() - started) / 1000) * rate;
    for (; published < due; published++) subject.timed(process.hrtime.bigint());
    await turn();
  }
  await new Promise((resolve) => setTimeout(resolve, 500));
  return receiver.ask({ act: 'times' });
}

/** The median of the ratios within each round: what disturbs the machine for a while disturbs both sides of a ratio. */
function ratioTo(values, base) {
  return `${median(values.map((value, round) => value / base[round])).toFixed(2)}x`;
}

function percent(values, base) {
  return `${(median(values.map((value, round) => value / base[round])) * 100).toFixed(0)}%`;
}

function row(name, ...cells) {
  return name.padEnd(28) + cells.map((cell) => cell.padStart(15)).join('');
}
