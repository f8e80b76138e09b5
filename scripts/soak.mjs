// `npm run soak`: lets clients come, talk, react and go for a long time, and says whether the service's memory levels off: a line is
// fitted through the second half of the measurements. Heap snapshots are written at both ends (docs/testing.md).
import { fork } from 'node:child_process';
import { mkdirSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { parseArgs } from 'node:util';
import { root, setUp } from './setUp.mjs';

const usage =
  'npm run soak -- [--short] [--for 2h|20m|90s] [--clients 20] [--snapshots FOLDER] [--at-most MB_PER_HOUR]';
const { values } = parseArgs({
  options: {
    short: { type: 'boolean', default: false },
    for: { type: 'string' },
    clients: { type: 'string', default: '20' },
    snapshots: { type: 'string' },
    'at-most': { type: 'string' },
    help: { type: 'boolean', default: false },
  },
});
const [, count, unit] = /^(\d+)([hms])$/.exec(values.for ?? (values.short ? '3m' : '2h')) ?? [];
/** Engine options of a short run: with the usual ones, traces and ended sessions fill their bounds for most of an hour. */
const engine = values.short ? { traces: false, sessionMemoryMs: 5_000 } : {};
/** Bound on the growth of the heap in the second half, in MB an hour. */
const atMost = Number(values['at-most'] ?? 20);
/** The same of a short run, in bytes an act. About 100 are compiled code, keys of messages and users met. */
const atMostPerAct = 300;
/** Milliseconds between two acts of a client. */
const pauseMs = values.short ? [2, 20] : [20, 200];
const forMs = Number(count) * { h: 3_600_000, m: 60_000, s: 1_000 }[unit ?? 's'];
if (values.help || !Number.isFinite(forMs)) {
  console.log(usage);
  process.exit(values.help ? 0 : 2);
}
await setUp();
const { connect } = await import('@nine-bells/client');
const { Backend } = await import('@nine-bells/client/backend');
const { parseConfiguration, signToken } = await import('@nine-bells/service');

/** Logbooks are short, so that they reach their bound early. */
const text = `
service: { name: Gannet Sound, port: 0, guests: true, limits: { connectionsPerAddress: 10000 } }
tokens: { secret: the-secret-of-the-soaked-regatta-of-32-bytes }
feeds: { bureau: { events: [message, changed, joined, left], keep: 1m } }
channels:
  - pattern: "race/:race/chat"
    logbook: kept
    keep: { for: 10m }
    presence: { noted: true, grace: 2s }
    reactions: true
    replies: true
    marks: shown
    allow: { enter: anyone, publish: signed-in, react: signed-in, revise: { author: always }, withdraw: { author: always } }
  - { pattern: "weather/:what", logbook: { recent: { messages: 200, for: 1m } }, allow: { enter: anyone, publish: anyone, hail: anyone } }
  - { pattern: "harbour/:where", board: true, allow: { enter: anyone, publish: anyone, set: anyone } }
`;
const folder = mkdtempSync(join(tmpdir(), 'bells-soak-'));
const server = fork(join(root, 'bench/soakServer.mjs'), [text, folder, JSON.stringify(engine)], {
  cwd: join(root, 'bench'),
  execArgv: ['--expose-gc', '--max-semi-space-size=16'],
});
const answer = () => new Promise((resolve) => server.once('message', resolve));
const ask = (message) => {
  const answered = answer();
  server.send(message);
  return answered;
};
const { url } = await answer();
const { tokens } = parseConfiguration(text, join(folder, 'bells.yaml'));
const backend = new Backend(url, { key: readFileSync(join(folder, 'api-key'), 'utf8').trim() });
const startMs = Date.now();
const isOver = () => Date.now() - startMs > forMs;
const wait = (ms) => new Promise((resolve) => setTimeout(resolve, ms));
const between = (least, most) => least + Math.floor(Math.random() * (most - least + 1));
const pick = (all) => all[between(0, all.length - 1)];
let acts = 0;
const failures = new Map();

/** A client that comes under ever new names, enters ever new channels, does this and that there, and goes. */
async function client(n) {
  for (let life = 0; !isOver(); life++) {
    const user = `user-${n}-${life}`;
    const line = connect(url, { token: () => signToken(tokens, { user, forMs: 3_600_000 }) });
    try {
      await line.opened();
      const chat = line.enter(`race/${between(1, 5)}-${Math.floor((Date.now() - startMs) / 60_000)}/chat`);
      const weather = line.enter(`weather/${between(1, 3)}`);
      const harbour = line.enter('harbour/pontoon');
      await Promise.all([chat.ready, weather.ready, harbour.ready]);
      const own = [];
      for (let act = between(5, 40); act > 0 && !isOver(); act--) {
        await wait(between(...pauseMs));
        acts += 1;
        await pick([
          async () => own.push(await chat.publish({ text: `leg ${act}`, filler: 'x'.repeat(between(0, 500)) })),
          async () => weather.publish({ knots: between(1, 40) }),
          async () => weather.hail('typing', {}),
          async () => harbour.set(`boat-${between(1, 50)}`, { at: act }),
          async () => own.length > 0 && chat.revise(pick(own), { text: 'as it was' }),
          async () => own.length > 0 && chat.react(pick(own).cursor, 'wow'),
          async () => own.length > 3 && line.withdraw(chat.channel, own.shift().cursor),
          async () => own.length > 0 && line.mark(chat.channel, own.at(-1).cursor),
          async () => backend.publish({ channel: 'race/1/chat', data: { by: 'the office' } }),
          async () => line.read(chat.channel, { last: 20 }),
        ])();
      }
    } catch (error) {
      const code = error.code ?? error.problem?.code ?? error.message;
      failures.set(code, (failures.get(code) ?? 0) + 1);
    } finally {
      line.close();
    }
  }
}

/** The slope of the line that fits best, per millisecond (least squares). */
function slopeOf(points) {
  const meanOf = (at) => points.reduce((sum, point) => sum + point[at], 0) / points.length;
  const [meanX, meanY] = [meanOf(0), meanOf(1)];
  const over = points.reduce((sum, [x, y]) => sum + (x - meanX) * (y - meanY), 0);
  return over / points.reduce((sum, [x]) => sum + (x - meanX) ** 2, 0);
}

const mb = (bytes) => bytes / 1_048_576;
const snapshots = values.snapshots;
if (snapshots !== undefined) mkdirSync(snapshots, { recursive: true });
const snapshot = (name) => snapshots && ask({ act: 'snapshot', file: join(snapshots, `${name}.heapsnapshot`) });
const clients = Array.from({ length: Number(values.clients) }, (_, n) => client(n));
const measured = [];
const everyMs = Math.max(2_000, Math.min(60_000, forMs / 60));
await wait(everyMs);
await snapshot('begin');
while (!isOver()) {
  const { rss, heapTotal, heapUsed, external, channels } = await ask({ act: 'memory' });
  measured.push({ atMs: Date.now() - startMs, acts, rss, heapUsed });
  console.log(
    `${String(Math.round((Date.now() - startMs) / 1000)).padStart(6)} s  RSS ${mb(rss).toFixed(0)} MB  heap ${mb(heapUsed).toFixed(1)} of ${mb(heapTotal).toFixed(0)} MB  outside ${mb(external).toFixed(1)} MB  ${channels} channels  ${acts} acts`,
  );
  await wait(everyMs);
}
await Promise.all(clients);
await snapshot('end');
server.send({ act: 'stop' });
await new Promise((resolve) => server.once('exit', resolve));
rmSync(folder, { recursive: true, force: true });

const late = measured.filter(({ atMs }) => atMs > forMs / 2);
const perHour = (of) => mb(slopeOf(late.map((each) => [each.atMs, each[of]])) * 3_600_000);
const perAct = slopeOf(late.map((each) => [each.acts, each.heapUsed]));
const [rss, heap] = [perHour('rss'), perHour('heapUsed')];
if (failures.size > 0) console.log(`Failures: ${[...failures].map(([code, times]) => `${code} ${times}`).join(', ')}`);
console.log(
  `${acts} acts. In the second half: RSS ${rss.toFixed(1)} MB an hour, heap ${heap.toFixed(1)} MB an hour, ${perAct.toFixed(0)} bytes an act`,
);
const fault = values.short
  ? perAct > atMostPerAct && `${atMostPerAct} bytes an act`
  : heap > atMost && `${atMost} MB an hour`;
if (fault) {
  console.log(`FAILED: the heap grows by more than ${fault}`);
  process.exitCode = 1;
}
