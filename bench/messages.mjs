// How long a publish to a kept channel takes while a million old messages of another one are pruned, against the same service
// while nothing is pruned: in turn, at a steady rate, counted from when each was due.
import { cpus } from 'node:os';
import { connect } from '@nine-bells/client';
import { Child, median } from './child.mjs';

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
  return cells.map((cell, index) => (index === 0 ? cell.padEnd(20) : cell.padStart(12))).join('');
}
