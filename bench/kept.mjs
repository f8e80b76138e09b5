// Acknowledged publishes a second to a kept channel: through the whole service, by clients over WebSockets, against a commit
// for each message: in the service's own tables, and in a table as small as a first version has; and against the service's
// store alone, called in this process with as many under way. With SQLite's `synchronous` FULL and NORMAL. Then over 10, 1,000
// and 10,000 channels, against a copy of the store that does not change.
import { mkdtempSync, rmSync } from 'node:fs';
import { cpus, tmpdir } from 'node:os';
import { join } from 'node:path';
import sqlite3 from 'sqlite3';
import { Database } from '../packages/service/dist/store/database.js';
import { SqlStore } from '../packages/service/dist/store/sqlStore.js';
import { Child, median } from './child.mjs';
import { FrozenStore } from './frozenStore.mjs';
import { text, theService } from './subjects.mjs';

const connections = 200;
const underWay = 50;
const rounds = 5;
const roundMs = 2_000;
const channelCounts = [10, 1000, 10_000];
const nameOf = (channel) => `race/${channel}/bench`;
let keptSoFar = 0;

console.log(
  `Acknowledged publishes to a kept channel: ${connections} connections, ${underWay} messages under way on each`,
);
console.log(`${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; medians of ${rounds} rounds\n`);
console.log(row('', 'a commit each:', '', 'grouped:', '', 'service, of'));
console.log(row('', 'own tables', 'small table', 'store alone', 'service', 'own', 'small', 'store'));
for (const synchronous of ['full', 'normal']) {
  const subject = await theService({ kept: true, synchronous, limits: ', publishes: 1000000/s, requests: 1000000/s' });
  const clients = new Child('./keptClients.mjs');
  const { port, path, protocol } = subject;
  await clients.ask({ act: 'open', port, path, protocol, connections, underWay, channels: 10 });
  const rates = { own: [], small: [], store: [], service: [] };
  for (let round = 0; round <= rounds; round++) {
    const own = await theStore(synchronous, 1);
    const small = await smallTable(synchronous);
    const store = await theStore(synchronous, connections * underWay);
    const { acknowledged, ms } = await clients.ask({ act: 'publish', roundMs, text });
    if (round === 0) continue;
    rates.own.push(own);
    rates.small.push(small);
    rates.store.push(store);
    rates.service.push((acknowledged / ms) * 1000);
  }
  const kept = await subject.kept();
  if (kept === 0) throw new Error('nothing was kept');
  clients.end();
  await subject.stop();
  const ratioTo = (others) => median(rates.service.map((rate, round) => rate / others[round]));
  const shown = (values) => `${Math.round(median(values)).toLocaleString('en')}/s`;
  console.log(
    row(
      synchronous.toUpperCase(),
      ...['own', 'small', 'store', 'service'].map((name) => shown(rates[name])),
      ...['own', 'small', 'store'].map((name) => `${ratioTo(rates[name]).toFixed(name === 'store' ? 2 : 1)}x`),
    ),
  );
}

console.log('\nOver many channels, FULL\n');
console.log(row('channels', 'frozen store', 'service', 'of frozen', 'of 10 channels'));
const frozen = channelCounts.map(() => []);
const whole = channelCounts.map(() => []);
for (let round = 0; round <= rounds; round++) {
  for (const [index, channels] of channelCounts.entries()) {
    const alone = await theFrozenStore(channels);
    const subject = await theService({ kept: true, limits: ', publishes: 1000000/s, requests: 1000000/s' });
    const clients = new Child('./keptClients.mjs');
    const { port, path, protocol } = subject;
    await clients.ask({ act: 'open', port, path, protocol, connections, underWay, channels });
    // Each channel is made by its first message: that is not what is measured.
    await clients.ask({ act: 'publish', roundMs: 1_000, text });
    const { acknowledged, ms } = await clients.ask({ act: 'publish', roundMs, text });
    clients.end();
    await subject.stop();
    if (round === 0) continue;
    frozen[index].push(alone);
    whole[index].push((acknowledged / ms) * 1000);
  }
}
for (const [index, channels] of channelCounts.entries()) {
  const ratioTo = (others) => `${median(whole[index].map((rate, round) => rate / others[round])).toFixed(2)}x`;
  const shown = (rates) => `${Math.round(median(rates)).toLocaleString('en')}/s`;
  console.log(
    row(
      channels.toLocaleString('en'),
      shown(frozen[index]),
      shown(whole[index]),
      ratioTo(frozen[index]),
      ratioTo(whole[0]),
    ),
  );
}
process.exit();

/** The rate of a loop that commits each message before the next, into a table as a first version has it. */
async function smallTable(synchronous) {
  const folder = mkdtempSync(join(tmpdir(), 'bells-bench-'));
  const database = new sqlite3.Database(join(folder, 'each.sqlite'));
  const run = (sql, values = []) =>
    new Promise((resolve, reject) => database.run(sql, values, (error) => (error ? reject(error) : resolve())));
  await run('PRAGMA journal_mode = WAL');
  await run(`PRAGMA synchronous = ${synchronous}`);
  await run(
    'CREATE TABLE messages (channel INTEGER, number INTEGER, id TEXT, author TEXT, key TEXT, at INTEGER, data TEXT, PRIMARY KEY (channel, number))',
  );
  await run('CREATE UNIQUE INDEX by_key ON messages (channel, author, key)');
  const started = performance.now();
  let count = 0;
  while (performance.now() - started < roundMs) {
    count += 1;
    await run('INSERT INTO messages VALUES (1, ?, ?, ?, ?, ?, ?)', [
      count,
      `m${count}`,
      'pia',
      `k${count}`,
      Date.now(),
      JSON.stringify({ text }),
    ]);
  }
  const rate = (count / (performance.now() - started)) * 1000;
  await new Promise((resolve) => database.close(resolve));
  rmSync(folder, { recursive: true });
  return rate;
}

/** The rate at which the store takes the same messages, so many at a time, without the service around it. */
async function theStore(synchronous, most) {
  const folder = mkdtempSync(join(tmpdir(), 'bells-bench-'));
  const database = await Database.open({ data: folder, sqliteSynchronous: synchronous });
  const store = await SqlStore.open(database);
  const rate = await rateOf(store, most, 10);
  await database.close();
  rmSync(folder, { recursive: true });
  return rate;
}

/** The same of the store that does not change. */
async function theFrozenStore(channels) {
  const store = await FrozenStore.open(
    'full',
    Array.from({ length: channels }, (_, channel) => nameOf(channel)),
  );
  const rate = await rateOf(store, connections * underWay, channels);
  await store.close();
  return rate;
}

async function rateOf(store, most, channels) {
  const dataText = JSON.stringify({ text });
  const started = performance.now();
  let count = 0;
  let open = 0;
  await new Promise((resolve) => {
    const append = () => {
      if (performance.now() - started >= roundMs) {
        if (open === 0) resolve();
        return;
      }
      open += 1;
      const number = ++keptSoFar;
      const client = number % connections;
      const by = { user: `guest:${client}`, name: `Guest ${client}`, guest: true };
      const draft = { id: `m${number}`, type: 'message', key: `k${number}`, by, atMs: Date.now(), dataText };
      void store.messages.append(nameOf(number % channels), draft).then(() => {
        open -= 1;
        count += 1;
        append();
      });
    };
    for (let n = 0; n < most; n++) append();
  });
  return (count / (performance.now() - started)) * 1000;
}

function row(name, ...cells) {
  return name.padEnd(8) + cells.map((cell) => cell.padStart(15)).join('');
}
