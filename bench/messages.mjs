// How long a publish to a kept channel takes while a million old messages of another one are pruned, against the same service
// while nothing is pruned: in turn, at a steady rate, counted from when each was due.
import { cpus } from 'node:os';
import { connect } from '@nine-bells/client';
import { Child, median } from './child.mjs';
import { openRaw } from './rawClient.mjs';

const messages = Number(process.env.BENCH_MESSAGES ?? 1_000_000);
const rounds = Number(process.env.BENCH_ROUNDS ?? 8);
const roundMs = 5_000;
const perSecond = 200;

console.log(`Kept publishes, ${perSecond} a second, while ${messages.toLocaleString('en')} old messages are pruned`);
console.log(
  `${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; ${rounds} rounds of 2 x ${roundMs / 1000} s; medians of the rounds\n`,
);

const service = new Child('./messagesServer.mjs');
const { port } = await service.ask({ act: 'start', messages });
await readPages();
await reactTogether();
await search();
const lines = Array.from({ length: 4 }, () => connect(`http://127.0.0.1:${port}`));
const took = { resting: [], pruning: [] };
let pruned = 0;
let pruningMs = 0;
for (let round = 0; round <= rounds; round++)
  for (const phase of round % 2 === 0 ? ['resting', 'pruning'] : ['pruning', 'resting']) {
    const before = pruned;
    if (phase === 'pruning') await service.ask({ act: 'prune' });
    const found = await publishFor(roundMs);
    if (phase === 'pruning') ({ pruned } = await service.ask({ act: 'rest' }));
    // The first round warms up.
    if (round === 0) continue;
    if (phase === 'pruning' && pruned === before) throw new Error('nothing was pruned');
    if (phase === 'pruning') pruningMs += roundMs;
    const sorted = found.sort((a, b) => a - b);
    took[phase].push([0.5, 0.99].map((part) => sorted[Math.floor(sorted.length * part)]));
  }
console.log(row('', 'p50', 'p99'));
const { resting, pruning } = took;
const shown = (all) => [0, 1].map((part) => `${median(all.map((each) => each[part])).toFixed(2)} ms`);
console.log(row('nothing is pruned', ...shown(resting)));
console.log(row('while it is pruned', ...shown(pruning)));
const ratios = [0, 1].map((part) => median(pruning.map((each, round) => each[part] / resting[round][part])));
console.log(row('ratio', ...ratios.map((ratio) => `${ratio.toFixed(2)}x`)));
console.log(
  `\n${Math.round((pruned / (pruningMs + roundMs)) * 1000).toLocaleString('en')} messages are pruned in a second`,
);
for (const line of lines) line.close();
service.end();

/** Pages of 100 messages from all over a channel of a million, as published, and where a tenth was revised, a tenth has
 * reactions and a tenth answers another message, in turn. */
async function readPages() {
  // In turn over several lines, since one alone would meet the bound on what a session is given in a second.
  const lines = Array.from({ length: 8 }, () => connect(`http://127.0.0.1:${port}`));
  await Promise.all(lines.map((line) => line.opened()));
  let turn = 0;
  const taken = { plain: [], revised: [], changed: [] };
  const read = async (name, channel, options) => {
    const sinceMs = performance.now();
    const { messages: found, changes = [] } = await lines[turn++ % lines.length].read(channel, {
      limit: 100,
      ...options,
    });
    taken[name].push(performance.now() - sinceMs);
    if (found.length + changes.length !== 100)
      throw new Error(`${found.length} messages and ${changes.length} changes`);
  };
  const [{ cursor }] = (await lines[0].read('talk/plain', { limit: 1 })).messages;
  const [volume] = cursor.split(':');
  for (let n = 0; n < 1_500; n++) {
    const number = 200 + Math.floor(Math.random() * (messages - 400));
    await read('plain', 'talk/plain', { before: `${volume}:${number}` });
    await read('revised', 'talk/revised', { before: `${volume}:${number}` });
    // Nothing but changes, of messages from before.
    await read('changed', 'talk/revised', { after: `${volume}:${messages + 1 + Math.floor(number / 10.1)}` });
  }
  for (const line of lines) line.close();
  console.log(row('a page of 100', 'p50', 'p99'));
  for (const [name, all] of Object.entries(taken)) {
    const sorted = all.slice(300).sort((a, b) => a - b);
    const at = (part) => `${sorted[Math.floor(sorted.length * part)].toFixed(2)} ms`;
    console.log(
      row(
        { plain: 'as published', revised: 'a tenth revised, reacted to, answering', changed: '100 changes' }[name],
        at(0.5),
        at(0.99),
      ),
    );
  }
  console.log();
}

/** A thousand users a second react to one message, before a thousand clients. */
async function reactTogether() {
  const [clients, perSecond, seconds] = [1_000, 1_000, 5];
  const told = new Array(clients).fill(0);
  const bytes = new Array(clients).fill(0);
  const last = new Array(clients).fill('');
  const open = async (_, index) => {
    const onFrame = (frame) => {
      if (!frame.startsWith('{"on":"reactions"')) return;
      told[index] += 1;
      bytes[index] += frame.length;
      last[index] = frame;
    };
    const raw = await openRaw({ port, protocol: 'nine-bells.v1', onFrame });
    raw.send('{"do":"hello","id":1,"enter":[{"channel":"talk/cheers"}]}');
    return raw;
  };
  const all = [];
  for (let n = 0; n < clients; n += 50)
    all.push(...(await Promise.all(Array.from({ length: 50 }, (_, index) => open(_, n + index)))));
  const { took } = await service.ask({ act: 'react', perSecond, seconds });
  await new Promise((resolve) => setTimeout(resolve, 1_000));
  const bravos = Math.ceil((perSecond * seconds) / 3);
  const missing = last.filter((frame) => !frame.includes(`"bravo":${bravos}`) || !frame.includes('"aye":')).length;
  if (missing > 0) throw new Error(`${missing} clients do not have the last counts`);
  const most = Math.max(...told);
  console.log(`${perSecond} reactions a second to one message, before ${clients} clients`);
  console.log(row('frames a second', `${(most / seconds).toFixed(1)} each`));
  console.log(row('bytes a second', `${Math.round(Math.max(...bytes) / seconds)} each`));
  console.log(row('a reaction, p50', `${took[took.length >> 1].toFixed(1)} ms`));
  console.log(row('a reaction, p99', `${took[Math.floor(took.length * 0.99)].toFixed(1)} ms`));
  console.log();
  for (const each of all) each.destroy();
}

/** Searches in a million messages; and publishing where messages are searched, against where they are not, in turn. */
async function search() {
  console.log(row('searches in them', 'p50', 'p99'));
  const number = () => 1 + Math.floor(Math.random() * messages);
  for (const [name, make] of [
    ['a word of one message', () => `buoy${number()}`],
    ['a word of every second one', () => 'wind'],
    ['three words', () => `wind t${number() % 7} h${number() % 83}`],
    ['words together', () => `"over the mark" k${number() % 1009}`],
    ['beginnings', () => `wi* h${number() % 83}`],
  ]) {
    const { took } = await service.ask({ act: 'search', searches: Array.from({ length: 330 }, make) });
    const sorted = took.slice(30).sort((a, b) => a - b);
    const at = (part) => `${sorted[Math.floor(sorted.length * part)].toFixed(2)} ms`;
    console.log(row(name, at(0.5), at(0.99)));
  }
  const rates = { 'live/5': [], 'found/live': [] };
  for (let round = 0; round <= rounds; round++)
    for (const channel of Object.keys(rates)) {
      const { rate } = await service.ask({ act: 'flood', channel, ms: 2_000 });
      if (round > 0) rates[channel].push(rate);
    }
  const ratio = median(rates['found/live'].map((rate, round) => rate / rates['live/5'][round]));
  const shown = (channel) => Math.round(median(rates[channel])).toLocaleString('en');
  console.log(
    row('\npublishes a second, searched and not', shown('found/live'), shown('live/5'), `${ratio.toFixed(2)}x`),
  );
  console.log();
}

async function publishFor(ms) {
  const all = [];
  const under = [];
  const begunMs = performance.now();
  for (let n = 0; n < (ms / 1000) * perSecond; n++) {
    const dueMs = begunMs + (n * 1000) / perSecond;
    for (let left = dueMs - performance.now(); left > 0; left = dueMs - performance.now())
      await new Promise((resolve) => (left > 2 ? setTimeout(resolve, 1) : setImmediate(resolve)));
    under.push(
      lines[n % lines.length]
        .publish(`live/${n % 4}`, { text: 'Turnstone is lifting on the left.' })
        .then(() => all.push(performance.now() - dueMs)),
    );
  }
  await Promise.all(under);
  return all;
}

function row(...cells) {
  return cells.map((cell, index) => (index === 0 ? cell.padEnd(42) : cell.padStart(12))).join('');
}
