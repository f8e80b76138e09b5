// What it costs to be several instances: messages of recent channels that are ordered, logged and handed to another process
// through Redis, against bare publishes of the same client to the same Redis; how long they take; and that an instance gets
// only what it has entered.
import { spawn } from 'node:child_process';
import { existsSync, mkdtempSync, rmSync } from 'node:fs';
import { createServer } from 'node:net';
import { cpus, tmpdir } from 'node:os';
import { join } from 'node:path';
import { createClient } from 'redis';
import { Child, median } from './child.mjs';
import { openRelay } from './relayParts.mjs';

const redisServer = '/usr/bin/redis-server';
const say = (line = '') => console.log(line);
if (!existsSync(redisServer)) {
  say('There is no Redis here: apt-get install redis-server');
  process.exit();
}
const rounds = 7;
const messages = 20_000;
const data = { text: 'Petrel has rounded the windward mark, Turnstone two lengths behind, Dunlin third and closing.' };
const bounds = { messages: 1000, forMs: 600_000 };

const port = await new Promise((resolve) => {
  const server = createServer().listen(0, '127.0.0.1', () => {
    const { port: free } = server.address();
    server.close(() => resolve(free));
  });
});
const folder = mkdtempSync(join(tmpdir(), 'bells-bench-redis-'));
const redis = spawn(redisServer, ['--port', String(port), '--save', '', '--dir', folder], { stdio: 'ignore' });
const url = `redis://127.0.0.1:${port}`;
await new Promise((resolve) => setTimeout(resolve, 500));

say(
  `Recent channels through one Redis on loopback, received in a second process; ${JSON.stringify(data).length} bytes of data`,
);
say(
  `${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; medians of ${rounds} rounds of ${messages} messages\n`,
);

const receiver = new Child('./relayReceiver.mjs');
await receiver.ask({ act: 'open', url });
const usual = createClient({ url });
const bare = createClient({ url, commandOptions: { timeout: undefined } });
await Promise.all([usual.connect(), bare.connect()]);
const { relay, stop } = await openRelay(url, 'sender');
let number = 0;
const draft = () => ({
  id: `01M83GCRQ5P1D2TJ1H9A${String(++number).padStart(6, '0')}`,
  type: 'message',
  atMs: Date.now(),
  dataText: JSON.stringify(data),
});
/** A message as it is published bare. */
const bareOf = ({ dataText, ...rest }) => JSON.stringify({ ...rest, data: JSON.parse(dataText) });
const text = bareOf(draft());

/** How many a second are received, when `send` sends all. */
async function rateOf(topics, how, send) {
  await receiver.ask({ act: 'follow', topics, how });
  const rates = [];
  for (let round = 0; round <= rounds; round++) {
    await receiver.ask({ act: 'expect', count: messages });
    const startMs = performance.now();
    await send();
    await receiver.ask({ act: 'all' });
    if (round > 0) rates.push((messages / (performance.now() - startMs)) * 1000);
  }
  return median(rates);
}

const row = (name, rate, base) =>
  say(
    `${name.padEnd(52)} ${Math.round(rate).toLocaleString('en').padStart(9)}/s  ${base === undefined ? '' : `${(rate / base).toFixed(2)}x`}`,
  );
let worst;
for (const count of [1, 100]) {
  const channels = Array.from({ length: count }, (_, n) => `bench/${count}/${n}`);
  const bareBy = (client) =>
    rateOf(channels, 'bare', async () => {
      for (let n = 0; n < messages; n++) void client.sPublish(channels[n % count], text);
    });
  const base = await bareBy(usual);
  row(`bare sharded publish, one by one, ${count} channels`, base);
  row('  by a client without its timer for each command', await bareBy(bare), base);
  for (const [name, atOnce] of [
    ['ordered and logged, 64 under way', 64],
    ['ordered and logged, all at once', messages],
  ]) {
    const rate = await rateOf(channels, 'relay', async () => {
      let sent = 0;
      const sender = async () => {
        while (sent < messages) await relay.append(channels[sent++ % count], draft(), bounds);
      };
      await Promise.all(Array.from({ length: Math.min(atOnce, messages) }, sender));
    });
    row(`  ${name}, ${count} channels`, rate, base);
    worst = Math.min(worst ?? rate / base, rate / base);
  }
}

say('\nTime from publish to the other process, at 1,000 messages/s for 5 s (ms)');
const times = {};
for (const how of ['bare', 'relay']) {
  const channel = `bench/time/${how}`;
  await receiver.ask({ act: 'follow', topics: [channel], how, timed: true });
  await receiver.ask({ act: 'expect', count: 5_000 });
  for (let n = 0; n < 5_000; n++) {
    const sent = { ...draft(), dataText: `{"sent":${performance.timeOrigin + performance.now()}}` };
    if (how === 'bare') void bare.sPublish(channel, bareOf(sent));
    else void relay.append(channel, sent, bounds);
    // A thousand a second, evenly, as far as timers can.
    if (n % 2 === 1) await new Promise((resolve) => setTimeout(resolve, 2));
  }
  times[how] = await receiver.ask({ act: 'times' });
  const { p50, p99, p999 } = times[how];
  say(
    `${how === 'bare' ? 'bare publish' : 'ordered and logged'}`.padEnd(24) +
      [p50, p99, p999].map((ms) => ms.toFixed(2).padStart(8)).join(''),
  );
}
say(`added at the median: ${(times.relay.p50 - times.bare.p50).toFixed(2)} ms`);

say('\nInterest: 10,000 channels entered on four instances, 2,500 each; one message in each');
const instances = [];
for (let n = 0; n < 4; n++) {
  const child = new Child('./relayReceiver.mjs');
  await child.ask({ act: 'open', url });
  await child.ask({
    act: 'follow',
    topics: Array.from({ length: 2_500 }, (_, each) => `interest/${n}/${each}`),
    how: 'relay',
  });
  instances.push(child);
}
for (const [n, child] of instances.entries()) {
  await child.ask({ act: 'expect', count: 2_500 });
  await Promise.all(Array.from({ length: 2_500 }, (_, each) => relay.append(`interest/${n}/${each}`, draft(), bounds)));
}
for (const child of instances) await child.ask({ act: 'all' });
const counted = await Promise.all(instances.map((child) => child.ask({ act: 'count' })));
say(`texts received by each: ${counted.map(({ texts }) => texts).join(', ')} (messages it has entered: 2,500)`);

say(`\nOf a bare publish, at least: ${worst.toFixed(2)}x`);
for (const child of [receiver, ...instances]) child.end();
await stop();
bare.destroy();
usual.destroy();
redis.kill('SIGKILL');
rmSync(folder, { recursive: true, force: true });
process.exit();
