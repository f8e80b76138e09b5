// One message in, many deliveries out: the service's path against the loop that people write by hand, with the same
// WebSocket library, against ceilings (the bare socket, the native writer alone) and a C program that only writes; then how
// long a delivery takes at half of the peak rate, and what an idle connection costs in memory. Each case has a process of
// its own; they take turns, and ratios are made within a round.

import { connect } from 'node:net';
import { cpus } from 'node:os';
import { Child, median } from './child.mjs';
import { cProgram } from './cProgram.mjs';
import { channel, text } from './subjects.mjs';

const rounds = Number(process.env.BENCH_ROUNDS ?? 21);
const roundMs = 400;
const latencyMs = 5_000;
const idleConnections = 10_000;
const hello = JSON.stringify({ do: 'hello', id: 1, enter: [{ channel }] });
const say = (line = '') => console.log(line);

const byHand = { name: 'loop by hand', subject: 'byHand' };
const service = { name: 'service', subject: 'theService', first: hello };
const streams = { ...service, name: '  through streams', options: { nativeWriter: false } };
const c = { name: 'C, a write each', c: true };

say(`Fan-out on loopback, received in other processes; ${text.length} characters of text`);
say(`${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; medians of ${rounds} rounds`);
const latencies = [];
for (const [burst, connections] of [
  [1, 1000],
  [10, 1000],
  [1, 10_000],
]) {
  say(
    `\n${burst === 1 ? 'One message at a time' : `Bursts of ${burst}`}, ${connections.toLocaleString('en')} connections`,
  );
  const cases = [
    byHand,
    ...(connections === 1000 ? [{ name: '  encoded once', subject: 'byHandOnce' }] : []),
    service,
    streams,
    ...(burst === 1 && connections === 1000 ? [{ ...service, name: '  a stream beside', beside: true }] : []),
    ...(connections === 1000 ? [{ ...service, name: '  without traces', options: { traces: false } }] : []),
    { name: 'the bare socket, a write each', subject: 'bareStreams' },
    { name: 'the native writer alone', subject: 'bareNative' },
    c,
  ];
  const all = await compare(cases, burst, connections);
  show(all);
  if (burst === 1 && connections === 1000)
    latencies.push(...all.filter(({ first, subject }) => first || subject === 'byHand'));
  for (const each of all) if (!latencies.includes(each)) end(each);
}

say(
  '\nFrom publishing to receiving, at half of the peak rate of one at a time (every twentieth connection is looked at)',
);
say(row('', 'messages/s', 'p50', 'p99', 'p99.9'));
for (const each of latencies.filter(({ name }) => name === 'loop by hand' || !name.startsWith('  without'))) {
  const perSecond = median(each.rates) / 1000 / 2;
  await each.receiver.ask({ act: 'time', every: 20 });
  await each.sender.ask({ act: 'pace', perSecond, ms: latencyMs });
  await new Promise((resolve) => setTimeout(resolve, 500));
  const { p50, p99, p999 } = await each.receiver.ask({ act: 'times' });
  say(row(each.name, perSecond.toFixed(0), ...[p50, p99, p999].map((us) => `${(us / 1000).toFixed(2)} ms`)));
}
for (const each of latencies) end(each);

say(`\nMemory of ${idleConnections.toLocaleString('en')} idle connections (the service: after hello)`);
say(row('', 'resident', 'ratio', 'heap', 'ratio'));
let base;
for (const [name, subject, first] of [
  ['the library, bare', 'byHand'],
  ['service', 'theService', JSON.stringify({ do: 'hello', id: 1 })],
]) {
  const { rss, heap } = await idleMemory(subject, first);
  base ??= { rss, heap };
  const kib = (bytes) => `${(bytes / 1024).toFixed(1)} KiB`;
  const times = (a, b) => `${(a / b).toFixed(2)}x`;
  say(row(name, kib(rss), times(rss, base.rss), kib(heap), times(heap, base.heap)));
}
process.exit();

/** Starts the cases and measures them in turn: what else the machine does hits all alike. The first round warms up. */
export async function compare(cases, burst, connections) {
  const all = [];
  for (const each of cases) all.push(await start(each, connections));
  const there = all.filter((each) => each !== undefined);
  for (let round = 0; round <= rounds; round++)
    for (const each of there) {
      const { rate, cpuUs } = await measure(each, burst, connections, there);
      if (round === 0) continue;
      each.rates.push(rate);
      each.cpuUs.push(cpuUs);
    }
  return there;
}

async function start(each, connections) {
  const begun = { ...each, rates: [], cpuUs: [] };
  let at;
  if (each.c) {
    begun.program = await cProgram(connections);
    if (begun.program === undefined) {
      say('(no C compiler: without the C program)');
      return undefined;
    }
    at = { port: begun.program.port, isRaw: true };
  } else {
    begun.sender = new Child('./sender.mjs', ['--expose-gc'], each.env);
    at = await begun.sender.ask({ act: 'start', name: each.subject, options: each.options });
  }
  const { port, path, protocol, isRaw } = at;
  begun.receiver = new Child('./receiver.mjs');
  const { first } = each;
  await begun.receiver.ask({ act: 'connect', port, path, protocol, count: connections, first, raw: isRaw });
  if (each.beside) begun.stream = streamAt(port);
  return begun;
}

function end({ sender, receiver, program, stream }) {
  stream?.destroy();
  receiver.end();
  sender?.end();
  program?.stop();
}

async function measure(each, burst, connections, all) {
  const { name, sender, receiver, program } = each;
  await receiver.ask({ act: 'reset' });
  const { messages, elapsedMs, cpuUs } =
    program === undefined ? await sender.ask({ act: 'publish', burst, ms: roundMs }) : await runC(program, burst, all);
  // All must have got the same, and as much as was sent.
  await new Promise((resolve) => setTimeout(resolve, 100));
  const { least, most } = await receiver.ask({ act: 'count' });
  if (least !== most || least < messages * 200)
    throw new Error(`${name}: ${messages} messages, but ${least} to ${most} bytes were received`);
  each.bytes = Math.round(least / messages);
  const deliveries = messages * connections;
  return { rate: (deliveries / elapsedMs) * 1000, cpuUs: cpuUs / deliveries };
}

/** The C program with frames as large as the service's. */
async function runC(program, burst, all) {
  const { bytes } = all.find(({ subject }) => subject === 'theService');
  const { messages, seconds, cpu } = await program.run(bytes, burst, roundMs);
  return { messages, elapsedMs: seconds * 1000, cpuUs: cpu * 1e6 };
}

/** A client that hears the same channel by an HTTP stream. */
function streamAt(port) {
  const socket = connect(port, '127.0.0.1');
  socket.write(`GET /line/listen?channel=${channel} HTTP/1.1\r\nHost: 127.0.0.1:${port}\r\n\r\n`);
  socket.on('data', () => {});
  return socket;
}

function show(all) {
  const [loop] = all;
  const plain = all.find((each) => each.c);
  say(row('', 'deliveries/s', 'of the loop', 'of C', 'sender CPU', 'of the loop'));
  for (const { name, rates, cpuUs } of all)
    say(
      row(
        name,
        Math.round(median(rates)).toLocaleString('en'),
        `${ratio(rates, loop.rates).toFixed(2)}x`,
        plain === undefined ? '' : `${(ratio(rates, plain.rates) * 100).toFixed(0)}%`,
        `${median(cpuUs).toFixed(2)} us`,
        `${ratio(cpuUs, loop.cpuUs).toFixed(2)}x`,
      ),
    );
}

async function idleMemory(name, first) {
  const sender = new Child('./sender.mjs', ['--expose-gc']);
  const receiver = new Child('./receiver.mjs');
  const { port, path, protocol } = await sender.ask({ act: 'start', name });
  const before = await sender.ask({ act: 'memory' });
  await receiver.ask({ act: 'connect', port, path, protocol, count: idleConnections, first });
  const after = await sender.ask({ act: 'memory' });
  if (after.connections !== idleConnections) throw new Error(`${name}: ${after.connections} connections are open`);
  receiver.end();
  sender.end();
  const each = (which) => (after[which] - before[which]) / idleConnections;
  return { rss: each('rss'), heap: each('heap') };
}

/** The median of the ratios within each round: what disturbs the machine for a while disturbs both sides of a ratio. */
function ratio(values, base) {
  return median(values.map((value, round) => value / base[round]));
}

function row(name, ...cells) {
  return name.padEnd(30) + cells.map((cell) => cell.padStart(14)).join('');
}
