// What one hostile client costs the others: the time from publishing to receiving of two that behave, without it and with it,
// in turn; and how much memory the service takes meanwhile.
import { cpus } from 'node:os';
import { WebSocket } from 'ws';
import { Child, median } from './child.mjs';

const kinds = [
  'hello names 200 channels, again and again',
  'asks and does not read',
  'asks for all it may, and reads',
  'large messages under ever new keys',
  'enters and reads channels without clients',
  'sets large entries of a full board, and enters again',
  'large messages of which nothing fits the contract',
  'messages just small enough to be searched for all faults',
  'filters that nothing fits, and reads',
  'a hundred sessions with filters of their own in the busy channel',
  'revises its message in the busy channel',
  'large revisions that are kept',
  'reactions to ever other messages of the busy channel',
  'searches for what is in every message, in fifty sessions',
  'searches 10 MB of large messages, in twelve sessions',
  'mentions two users, in twenty sessions',
  'marks and counts',
  'comes and goes where that is noted',
  'pulses of 40 kB',
  'connects, says hello and too much, again and again',
  '3,000 half requests',
  'notices to 10,000 users',
  'tries to sign in with nonsense',
  'forms of as many fields as fit',
  'routes of aliases that stand for millions of values',
  'calls that the application never answers, in a hundred sessions',
];
const only = process.argv[3];
const rounds = 4;
const roundMs = 2_500;
/** Each of the senders publishes at its permitted rate. */
const senders = 4;
const rate = 50 * senders;

console.log(
  `Clients that behave, ${rate} kept messages a second to one of them; one hostile client at its permitted rates`,
);
console.log(
  `${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; ${rounds} rounds of ${roundMs / 1000} s each, pooled`,
);
console.log('loop: for how long the service does nothing else at a time; memory: by how much it grew\n');

// With the options of docs/deploying.md.
const server = new Child('./attackServer.mjs', [
  '--max-semi-space-size=32',
  '--min-semi-space-size=16',
  '--initial-heap-size=256',
  '--no-memory-reducer',
]);
const { port, key, tokens } = await server.ask({ act: 'about' });
const attacker = new Child('./attacker.mjs');
await attacker.ask({ act: 'about', port, key, token: tokens[2] });

const channel = 'race/finish/chat';
const receiver = await open(tokens[1]);
const sending = await Promise.all(Array.from({ length: senders }, () => open(tokens[0])));
let times = [];
receiver.on('message', (text) => {
  const frame = JSON.parse(text);
  if (frame.on === 'message' && frame.data.sent !== undefined)
    times.push(Number(process.hrtime.bigint() - BigInt(frame.data.sent)) / 1e6);
});
// A record worth attacking.
for (let n = 0; n < 200; n++)
  await fetch(`http://127.0.0.1:${port}/v1/messages`, {
    method: 'POST',
    headers: { authorization: `Bearer ${key}`, 'content-type': 'application/json' },
    body: JSON.stringify(Array.from({ length: 20 }, () => ({ channel: `race/${n}/chat`, data: 'x'.repeat(500) }))),
  });
await measure();

console.log(row('', 'p50', 'p99', 'with it p50', 'p99', 'p95 ratio', 'p99 ratio', 'loop p99', 'with it', 'memory'));
for (const kind of kinds.filter((each) => only === undefined || each.includes(only))) {
  const [without, withIt, delays] = [[], [], []];
  let grown = 0;
  const before = await memory();
  for (let round = 0; round < rounds; round++) {
    without.push(...(await measure()));
    const { p99: delayWithout } = await server.ask({ act: 'delay' });
    await attacker.ask({ act: 'begin', kind });
    await new Promise((resolve) => setTimeout(resolve, 500));
    withIt.push(...(await measure()));
    delays.push([delayWithout, (await server.ask({ act: 'delay' })).p99]);
    grown = Math.max(grown, (await memory()) - before);
    await attacker.ask({ act: 'end' });
    await new Promise((resolve) => setTimeout(resolve, 500));
  }
  const ms = (value) => `${value.toFixed(2)} ms`;
  const cells = [without, withIt].flatMap((all) => [part(all, 0.5), part(all, 0.99)]).map(ms);
  const loop = [0, 1].map((column) => ms(median(delays.map((each) => each[column]))));
  const ratios = [0.95, 0.99].map((share) => `${(part(withIt, share) / part(without, share)).toFixed(2)}x`);
  console.log(row(kind, ...cells, ...ratios, ...loop, `${(grown / 1_048_576).toFixed(0)} MiB`));
}
attacker.end();
await server.ask({ act: 'stop' });
server.end();
process.exit();

async function open(token) {
  const socket = new WebSocket(`ws://127.0.0.1:${port}/line`, ['nine-bells.v1']);
  await new Promise((resolve) => socket.once('open', resolve));
  socket.send(JSON.stringify({ do: 'hello', id: 1, token, enter: [{ channel }] }));
  await new Promise((resolve) => socket.once('message', resolve));
  return socket;
}

async function measure() {
  times = [];
  await server.ask({ act: 'delay' });
  const started = performance.now();
  for (let sent = 0; performance.now() - started < roundMs; ) {
    for (; sent < ((performance.now() - started) / 1000) * rate; sent++)
      sending[sent % senders].send(
        JSON.stringify({ do: 'publish', channel, data: { sent: String(process.hrtime.bigint()) } }),
      );
    await new Promise((resolve) => setTimeout(resolve, 2));
  }
  await new Promise((resolve) => setTimeout(resolve, 300));
  return times;
}

/** The value below which this part of them lies. */
function part(values, share) {
  return [...values].sort((a, b) => a - b)[Math.floor(values.length * share)];
}

async function memory() {
  return (await server.ask({ act: 'memory' })).bytes;
}

function row(name, ...cells) {
  return name.padEnd(44) + cells.map((cell) => cell.padStart(12)).join('');
}
