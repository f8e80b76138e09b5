// The service that is attacked, in a process of its own, so that its memory can be told from that of its clients.

import { existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { monitorEventLoopDelay } from 'node:perf_hooks';
import { readConfiguration, Service, signToken } from '@nine-bells/service';

/** An application that takes calls and never answers. */
const silent = createServer(() => {});
await new Promise((resolve) => silent.listen(0, '127.0.0.1', resolve));

// In memory, if that can be had: what other programs do with the disk is not the attacker's doing.
const memory = '/dev/shm';
const folder = mkdtempSync(join(existsSync(memory) ? memory : tmpdir(), 'bells-attack-'));
const file = join(folder, 'bells.yaml');
writeFileSync(
  file,
  `service: { port: 0, data: data, guests: true, trustedProxies: [] }
tokens: { secret: the-secret-of-the-attacked-service-of-32-bytes }
ask: { secret: whsec_R2FubmV0U291bmRSZWdhdHRhRGVtb1NlY3JldCE= }
intakes: { form: { verify: none, body: form, routes: [{ nothing: true }] } }
calls: { slow: { url: "http://127.0.0.1:${silent.address().port}", allow: signed-in, within: 5s } }
channels:
  - { pattern: "race/:race/chat", logbook: kept, revisions: kept, reactions: true, mentions: true, search: true, allow: { enter: anyone, read: anyone, publish: signed-in, revise: { author: always }, react: signed-in } }
  - { pattern: "weather/:station", logbook: { recent: { messages: 1000, for: 10m } }, allow: { enter: anyone, read: anyone, publish: signed-in } }
  - { pattern: "deck/:name", logbook: kept, presence: { grace: 1s, noted: true }, allow: { enter: anyone, read: anyone } }
  - pattern: log/:name
    allow: { enter: anyone, publish: signed-in }
    types: { message: { schema: { type: array, items: { anyOf: [{ type: string, pattern: "^(a+)+$" }, { type: object, required: [x] }, { type: array, minItems: 3 }] } } } }
  - { pattern: "board/:name", allow: { enter: anyone, set: signed-in }, board: { every: 0 } }
`,
);
const configuration = readConfiguration(file);
const service = await Service.start(configuration);
/** For how long everybody waits for the service, whatever else this machine does. */
const delay = monitorEventLoopDelay({ resolution: 1 });
delay.enable();
const key = readFileSync(join(folder, 'data/api-key'), 'utf8').trim();

process.on('message', async (message) => {
  if (message.act === 'about')
    process.send({
      port: Number(new URL(service.url).port),
      key,
      tokens: await Promise.all(
        ['pia', 'jory', 'hostile'].map((user) =>
          signToken(configuration.tokens, { user, name: user, forMs: 3_600_000 }),
        ),
      ),
    });
  else if (message.act === 'memory') process.send({ bytes: process.memoryUsage.rss() });
  else if (message.act === 'delay') {
    process.send({ p99: delay.percentile(99) / 1e6 });
    delay.reset();
  } else if (message.act === 'stop') {
    await service.stop();
    rmSync(folder, { recursive: true, force: true });
    process.send({});
  }
});
process.on('disconnect', () => process.exit());
