// Acknowledged publishes a second to a kept channel: through the whole service, by clients over WebSockets, against a commit
// for each message: in the service's own tables, and in a table as small as a first version has; and against the service's
// store alone, called in this process with as many under way. With SQLite's `synchronous` FULL and NORMAL.
import { mkdtempSync, rmSync } from 'node:fs';
import { cpus, tmpdir } from 'node:os';
import { join } from 'node:path';
import sqlite3 from 'sqlite3';
import { Database } from '../packages/service/dist/store/database.js';
import { SqlStore } from '../packages/service/dist/store/sqlStore.js';
import { Child, median } from './child.mjs';
import { text, theService } from './subjects.mjs';

const connections = 200;
const underWay = 50;
const rounds = 5;
const roundMs = 2_000;
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
  await clients.ask({ act: 'open', port, path, protocol, connections, underWay });
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
      void store.append(`race/${client % 10}/bench`, draft).then(() => {
        open -= 1;
        count += 1;
        append();
      });
    };
    for (let n = 0; n < most; n++) append();
  });
  const rate = (count / (performance.now() - started)) * 1000;
  await database.close();
  rmSync(folder, { recursive: true });
  return rate;
}

function row(name, ...cells) {
  return name.padEnd(8) + cells.map((cell) => cell.padStart(15)).join('');
}
