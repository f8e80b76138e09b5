// The services of the bench `board`, each in a process of its own, which says what CPU it took.
import { mkdtempSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { readConfiguration, Service } from '@nine-bells/service';
import { WebSocketServer } from 'ws';

let usedBefore;
let sinceMs;

const acts = {
  start: ({ subject, ...options }) => (subject === 'byHand' ? byHand() : theService(options)),
  reset: () => {
    usedBefore = process.cpuUsage();
    sinceMs = performance.now();
    return {};
  },
  used: () => {
    const { user, system } = process.cpuUsage(usedBefore);
    return { cpuS: (user + system) / 1e6, forS: (performance.now() - sinceMs) / 1000 };
  },
};
process.on('message', async (message) => process.send(await acts[message.act](message)));
process.on('disconnect', () => process.exit());

/** @param every - the pace of the board, in milliseconds */
async function theService({
  unbounded = false,
  every = 100,
  relay,
  folder = mkdtempSync(join(tmpdir(), 'bells-bench-')),
}) {
  const file = join(folder, 'bells.yaml');
  const limits = unbounded ? ', sets: 1000000/s, requests: 1000000/s' : '';
  writeFileSync(
    file,
    `service: { port: 0, data: data, guests: true, pulse: 1h, limits: { connectionsPerAddress: 100000${limits} } }
tokens: { secret: the-secret-of-the-benchmarks-of-32-bytes }
channels:
  - { pattern: race/positions, allow: { enter: anyone, set: anyone, publish: anyone }, board: { every: ${every === 0 ? 0 : `${every}ms`} } }
`,
  );
  const { url } = await Service.start(readConfiguration(file, { relay }));
  return { port: Number(new URL(url).port), path: '/line', protocol: 'nine-bells.v1' };
}

/** As people write it: what was set is kept in a map, and what has changed goes to all every 100 ms. */
async function byHand() {
  const http = createServer();
  const server = new WebSocketServer({ server: http, perMessageDeflate: false });
  await new Promise((resolve) => http.listen(0, '127.0.0.1', resolve));
  let changed = {};
  server.on('connection', (client) => {
    client.on('message', (text) => {
      const { entry, value } = JSON.parse(text);
      if (entry !== undefined) changed[entry] = value;
    });
  });
  setInterval(() => {
    if (Object.keys(changed).length === 0) return;
    const text = JSON.stringify({ on: 'board', set: changed });
    changed = {};
    for (const client of server.clients) client.send(text);
  }, 100);
  return { port: http.address().port, path: '/' };
}
