// Events between systems: what an intake acknowledges beside one written by hand, how fast a hook's queue is sent, what a
// dead hook costs a living one, and calls beside asking the application directly. All in one run on one machine.
import { readFileSync } from 'node:fs';
import { cpus } from 'node:os';
import { Backend } from '@nine-bells/client/backend';
import { Webhook } from 'standardwebhooks';
import { Pool } from 'undici';
import { WebSocket } from 'ws';
import { Child, median } from './child.mjs';

const secret = 'whsec_QmVuY2hSZWdhdHRhQmVuY2hSZWdhdHRhQmVuY2hSZWc=';
const seconds = Number(process.env.BENCH_SECONDS ?? 5);
const backlog = Number(process.env.BENCH_BACKLOG ?? 100_000);
const webhook = new Webhook(secret);
const children = [];
/** As the image starts the service. */
const heap = ['--initial-heap-size=256', '--no-memory-reducer', '--min-semi-space-size=16', '--max-semi-space-size=32'];

async function start(act, more = {}) {
  const child = new Child('webhookServer.mjs', heap);
  children.push(child);
  return { child, ...(await child.ask({ act, ...more })) };
}

const base = `
service: { name: Bench, port: 0, guests: true, limits: { keyRequests: 1000000/s, requests: 1000000/s } }
tokens: { secret: the-secret-of-the-bench-regatta-of-32-bytes }
channels:
  - { pattern: "weather/:station", logbook: kept, allow: { enter: anyone, publish: anyone } }
  - { pattern: "race/:race/signals", logbook: kept, allow: { enter: anyone, publish: anyone } }
`;
const intake = `intakes: { buoy: { verify: { standard: ${secret} }, rate: 1000000/s, routes: [{ message: { channel: "weather/:station", data: /speed } }] } }\n`;
const hook = (name, url, more = '') =>
  `  ${name}: { url: "${url}", secrets: ${secret}, atOnce: 32, channels: ["race/:race/signals"]${more} }\n`;
const body = JSON.stringify({ kind: 'wind', station: 'north-mark', speed: 12.5, direction: 'south-west' });

let count = 0;
/** A request to an intake, signed. */
function request() {
  const at = new Date();
  const id = `bench-${process.pid}-${++count}`;
  return {
    method: 'POST',
    path: '/in/buoy',
    body,
    headers: {
      'content-type': 'application/json',
      'webhook-id': id,
      'webhook-timestamp': String(Math.floor(at.getTime() / 1000)),
      'webhook-signature': webhook.sign(id, at, body),
    },
  };
}

async function post(pool) {
  const { statusCode, body: answer } = await pool.request(request());
  await answer.dump();
  if (statusCode !== 202) throw new Error(`status ${statusCode}`);
}

/** Requests acknowledged per second, as many as go. */
async function perSecond(url, atOnce = 64) {
  const pool = new Pool(url, { connections: atOnce });
  const endMs = performance.now() + seconds * 1000;
  let done = 0;
  await Promise.all(
    Array.from({ length: atOnce }, async () => {
      while (performance.now() < endMs) {
        await post(pool);
        done += 1;
      }
    }),
  );
  await pool.close();
  return done / seconds;
}

/** How long answers take at a rate, whether or not those before have come, in milliseconds. */
async function latencies(url, rate) {
  const pool = new Pool(url, { connections: 64 });
  const times = [];
  const all = [];
  const fromMs = performance.now();
  for (let n = 0; n < rate * seconds; ) {
    const due = ((performance.now() - fromMs) / 1000) * rate;
    for (; n < due && n < rate * seconds; n++) {
      const sinceMs = performance.now();
      all.push(post(pool).then(() => times.push(performance.now() - sinceMs)));
    }
    await new Promise((resolve) => setTimeout(resolve, 1));
  }
  await Promise.all(all);
  await pool.close();
  return times.sort((a, b) => a - b);
}

const at = (sorted, share) => sorted[Math.min(sorted.length - 1, Math.floor(sorted.length * share))];
const show = (name, value, wanted = '') => console.log(`  ${name.padEnd(52)}${value.padStart(18)}   ${wanted}`);
const whole = (number) => Math.round(number).toLocaleString('en');

console.log(`${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}, ${seconds} s each\n`);

// ----------------------------------------------------------------------------------------------------- intakes
{
  const byHand = await start('byHand');
  const service = await start('service', { text: base + intake });
  const ratios = [];
  let ours = 0;
  for (let round = 0; round < 3; round++) {
    const hand = await perSecond(byHand.url);
    ours = await perSecond(service.url);
    ratios.push(ours / hand);
    if (round === 2) show('an intake by hand, one commit each', `${whole(hand)}/s`);
  }
  show('the intake', `${whole(ours)}/s`);
  show('of that by hand (median of three)', `${median(ratios).toFixed(1)}x`, 'wanted: 5x');
  const times = await latencies(service.url, ours / 2);
  show(
    'p50 and p99 of the answer at half of that',
    `${at(times, 0.5).toFixed(1)}, ${at(times, 0.99).toFixed(1)} ms`,
    'wanted: 20 ms',
  );
  for (const { child } of [byHand, service]) child.end();
}

// ------------------------------------------------------------------------------------------------------- hooks
/** Publishes so many messages through lists. */
async function publish(backend, total) {
  for (let n = 0; n < total; n += 1000)
    await backend.publishAll(
      Array.from({ length: Math.min(1000, total - n) }, (_, index) => ({
        channel: `race/${index % 50}/signals`,
        type: 'finish',
        data: { boat: 'petrel', n: n + index, text: 'Petrel has finished, Turnstone two lengths behind.' },
      })),
    );
}

/** Resident memory of a process, in bytes (Linux). */
function rssOf(pid) {
  const [, pages] = readFileSync(`/proc/${pid}/statm`, 'utf8').split(' ');
  return Number(pages) * 4_096;
}

async function drained(receiver, total) {
  for (;;) {
    const { count: got, lastMs } = await receiver.child.ask({ act: 'look' });
    if (got >= total) return lastMs;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
}

{
  const receiver = await start('receiver');
  const service = await start('service', { text: `${base}hooks:\n${hook('bureau', receiver.url)}` });
  const backend = new Backend(service.url, { key: service.key, timeoutMs: 60_000 });
  await backend.pauseHook('bureau');
  await publish(backend, backlog);
  const before = await service.child.ask({ act: 'look' });
  let most = before.rss;
  const fromMs = Date.now();
  await backend.resumeHook('bureau');
  const looking = setInterval(() => {
    most = Math.max(most, rssOf(service.child.pid));
  }, 500);
  const lastMs = await drained(receiver, backlog);
  clearInterval(looking);
  const after = await service.child.ask({ act: 'look' });
  const perS = (backlog * 1000) / (lastMs - fromMs);
  show(`a backlog of ${whole(backlog)} deliveries, sent`, `${whole(perS)}/s`, 'wanted: 1,000/s');
  show(
    'memory of the service grew by',
    `${((Math.max(most, after.rss) - before.rss) / 1_048_576).toFixed(0)} MiB`,
    'wanted: 50 MB',
  );
  show('CPU of the service', `${Math.round(((after.cpuMs - before.cpuMs) / (lastMs - fromMs)) * 100)}% of a core`);
  for (const { child } of [receiver, service]) child.end();
}

{
  const figures = {};
  for (const isDead of [false, true]) {
    const [living, dead] = [await start('receiver'), await start('receiver', { hang: true })];
    const service = await start('service', {
      text: `${base}hooks:\n${hook('living', living.url)}${isDead ? hook('dead', dead.url, ', within: 2s') : ''}`,
    });
    const backend = new Backend(service.url, { key: service.key, timeoutMs: 60_000 });
    const names = isDead ? ['living', 'dead'] : ['living'];
    for (const name of names) await backend.pauseHook(name);
    await publish(backend, 10_000);
    const fromMs = Date.now();
    for (const name of names.reverse()) await backend.resumeHook(name);
    figures[isDead] = (10_000 * 1000) / ((await drained(living, 10_000)) - fromMs);
    for (const { child } of [living, dead, service]) child.end();
  }
  show('a living hook', `${whole(figures[false])}/s`);
  show('the same beside a dead one', `${whole(figures[true])}/s`, `${(figures[true] / figures[false]).toFixed(2)}x`);
}

// ------------------------------------------------------------------------------------------------------- calls
{
  const application = await start('application');
  const service = await start('service', {
    text: `${base}ask: { secret: ${secret} }
calls:
  turn: { url: "${application.url}/turn", allow: anyone, rate: 1000000/s }
  slow: { url: "${application.url}/slow", allow: anyone, rate: 1000000/s }
`,
  });
  const clients = await Promise.all(Array.from({ length: 16 }, () => caller(service)));
  const endMs = performance.now() + seconds * 1000;
  const before = await service.child.ask({ act: 'look' });
  let done = 0;
  await Promise.all(
    clients.flatMap((client) =>
      Array.from({ length: 8 }, async () => {
        while (performance.now() < endMs) {
          await client.call('turn');
          done += 1;
        }
      }),
    ),
  );
  const after = await service.child.ask({ act: 'look' });
  show('calls through the service', `${whole(done / seconds)}/s`, 'wanted: 5,000/s');
  show('CPU of the service', `${Math.round((after.cpuMs - before.cpuMs) / (seconds * 10))}% of a core`);
  const pool = new Pool(application.url, { connections: 1 });
  const directly = async () => {
    const { body: answer } = await pool.request({ method: 'POST', path: '/turn', body });
    await answer.text();
  };
  const direct = await oneByOne(directly);
  const through = await oneByOne(() => clients[0].call('turn'));
  show('p50 asking the application directly', `${direct.toFixed(2)} ms`);
  show('p50 through the service', `${through.toFixed(2)} ms`);
  show('added', `${(through - direct).toFixed(2)} ms`, 'wanted: below 1 ms');
  const slow = clients[1].call('slow');
  const beside = await oneByOne(() => clients[1].call('turn'), 100);
  show('p50 beside a slow call of the same session', `${beside.toFixed(2)} ms`);
  await slow;
  await pool.close();
}

/** The median of calls one after another, in milliseconds. */
async function oneByOne(call, times = 1_000) {
  const took = [];
  for (let n = 0; n < times; n++) {
    const sinceMs = performance.now();
    await call();
    took.push(performance.now() - sinceMs);
  }
  return median(took);
}

/** A client that calls. */
async function caller({ url }) {
  const socket = new WebSocket(`${url.replace('http', 'ws')}/line`, ['nine-bells.v1'], { perMessageDeflate: false });
  await new Promise((resolve) => socket.once('open', resolve));
  const waiting = new Map();
  socket.on('message', (text) => {
    const frame = JSON.parse(text);
    waiting.get(frame.re)?.(frame);
    waiting.delete(frame.re);
  });
  let id = 0;
  const ask = (frame) =>
    new Promise((resolve) => {
      id += 1;
      waiting.set(id, resolve);
      socket.send(JSON.stringify({ ...frame, id }));
    });
  await ask({ do: 'hello' });
  return {
    async call(name) {
      const { problem } = await ask({ do: 'call', name });
      if (problem !== undefined) throw new Error(JSON.stringify(problem));
    },
  };
}

for (const child of children) child.end();
process.exit();
