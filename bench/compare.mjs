// `npm run bench compare REV [WORD]`: the service of this checkout against that of another commit, in turn, each in a process
// of its own: fan-out one at a time and in bursts, kept publishes, and sessions that all come back at once; with WORD only
// those whose name has it. Ratios are made within a round; above 1.00x this checkout does more.
import { execFileSync } from 'node:child_process';
import { existsSync, mkdirSync, mkdtempSync, readdirSync, rmSync, symlinkSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { Child, median } from './child.mjs';

const rounds = Number(process.env.BENCH_ROUNDS ?? 9);
const connections = 1000;
const sessions = 1000;
const channel = 'race/3/bench';
const hello = JSON.stringify({ do: 'hello', id: 1, enter: [{ channel }] });
const text = 'Petrel has rounded the windward mark, Turnstone two lengths behind, Dunlin third and closing.';
const here = fileURLToPath(new URL('..', import.meta.url));

const [, , , revision, only = ''] = process.argv;
if (revision === undefined) {
  console.error('Say which commit: npm run bench compare HEAD~1');
  process.exit(2);
}
const there = checkOut(revision);
try {
  console.log(`This checkout against ${revision}; medians of ${rounds} rounds\n`);
  console.log(row('', 'here', revision.slice(0, 12), 'ratio'));
  for (const [name, unit, make] of [
    ['fan-out, one at a time', 'deliveries/s', () => fanout(1)],
    ['fan-out, bursts of ten', 'deliveries/s', () => fanout(10)],
    ['kept publishes', 'acknowledged/s', kept],
    ['all come back at once', 'sessions/s', storm],
  ]) {
    if (!name.includes(only)) continue;
    const pair = [];
    for (const root of [here, there]) pair.push(await make()(root));
    const rates = [[], []];
    for (let round = 0; round <= rounds; round++)
      for (const [at, { run }] of pair.entries()) {
        const rate = await run();
        if (round > 0) rates[at].push(rate);
      }
    for (const { end } of pair) end();
    const ratio = median(rates[0].map((rate, round) => rate / rates[1][round]));
    const shown = rates.map((each) => Math.round(median(each)).toLocaleString('en'));
    console.log(row(`${name} (${unit})`, ...shown, `${ratio.toFixed(2)}x`));
  }
} finally {
  execFileSync('git', ['worktree', 'remove', '--force', there], { cwd: here });
  rmSync(there, { recursive: true, force: true });
}
process.exit();

/** Another commit, built, in a folder of its own. It shares this checkout's npm packages, but not those of the project. */
function checkOut(which) {
  const folder = mkdtempSync(join(tmpdir(), 'bells-compare-'));
  execFileSync('git', ['worktree', 'add', '--force', '--detach', folder, which], { cwd: here, stdio: 'ignore' });
  const link = (from, to) => symlinkSync(join(here, from), join(folder, to), 'dir');
  mkdirSync(join(folder, 'node_modules/@nine-bells'), { recursive: true });
  for (const name of readdirSync(join(here, 'node_modules')))
    if (name !== '@nine-bells') link(`node_modules/${name}`, `node_modules/${name}`);
  for (const name of readdirSync(join(folder, 'packages'))) {
    symlinkSync(join(folder, 'packages', name), join(folder, 'node_modules/@nine-bells', name), 'dir');
    if (readdirSync(join(here, 'packages', name)).includes('node_modules'))
      link(`packages/${name}/node_modules`, `packages/${name}/node_modules`);
  }
  if (readdirSync(join(folder, 'packages')).includes('writer')) link('packages/writer/build', 'packages/writer/build');
  const run = (...command) => execFileSync(command[0], command.slice(1), { cwd: folder, stdio: 'inherit' });
  const tsc = join(here, 'node_modules/.bin/tsc');
  run(tsc, '-b', 'packages/wire');
  // What a build makes beside what is compiled.
  if (existsSync(join(folder, 'scripts/makeSchemas.mjs'))) run('node', 'scripts/makeSchemas.mjs');
  run(tsc, '-b', 'packages/service');
  return folder;
}

async function start(root, name, options) {
  const env = root === here ? {} : { BENCH_ROOT: root };
  const sender = new Child('./sender.mjs', ['--expose-gc'], env);
  return { sender, at: await sender.ask({ act: 'start', name, options }) };
}

function fanout(burst) {
  return async (root) => {
    const { sender, at } = await start(root, 'theService');
    const receiver = new Child('./receiver.mjs');
    await receiver.ask({ act: 'connect', ...at, count: connections, first: hello });
    const run = async () => {
      const { messages, elapsedMs } = await sender.ask({ act: 'publish', burst, ms: 400 });
      await new Promise((resolve) => setTimeout(resolve, 100));
      return ((messages * connections) / elapsedMs) * 1000;
    };
    return { run, end: () => [sender, receiver].forEach((each) => void each.end()) };
  };
}

function kept() {
  return async (root) => {
    const { sender, at } = await start(root, 'theService', {
      kept: true,
      limits: ', publishes: 1000000/s, requests: 1000000/s',
    });
    const clients = new Child('./keptClients.mjs');
    await clients.ask({ act: 'open', ...at, connections: 200, underWay: 50 });
    const run = async () => {
      const { acknowledged, ms } = await clients.ask({ act: 'publish', roundMs: 1_000, text });
      return (acknowledged / ms) * 1000;
    };
    return { run, end: () => [sender, clients].forEach((each) => void each.end()) };
  };
}

function storm() {
  return async (root) => {
    const { sender, at } = await start(root, 'theServiceForUsers', sessions);
    const clients = new Child('./stormClients.mjs');
    const channels = [1, 2, 3].map((each) => `race/${each}/bench`);
    await clients.ask({ act: 'open', ...at, channels, count: sessions });
    const run = async () => {
      await clients.ask({ act: 'cut' });
      await new Promise((resolve) => setTimeout(resolve, 1_000));
      await sender.ask({ act: 'fill', channels, count: 5 });
      const { ms } = await clients.ask({ act: 'recover' });
      return (sessions / ms) * 1000;
    };
    return { run, end: () => [sender, clients].forEach((each) => void each.end()) };
  };
}

function row(name, ...cells) {
  return name.padEnd(42) + cells.map((cell) => cell.padStart(14)).join('');
}
