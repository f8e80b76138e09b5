// The service of `bench contracts`, in a process of its own.
import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { parseConfiguration, Service } from '@nine-bells/service';
import { turn } from './child.mjs';

const folder = mkdtempSync(join(tmpdir(), 'bells-bench-'));
const types =
  `{ message: { schema: { type: object, additionalProperties: false, required: [boat, leg, speed, heading, sail, crew, flags, note], properties: {
  boat: { type: string, pattern: "^[a-z]{2,20}$" }, leg: { type: integer, minimum: 1, maximum: 9 }, speed: { type: number, minimum: 0 },
  heading: { type: number, minimum: 0, maximum: 360 }, sail: { enum: [jib, genoa, spinnaker] }, crew: { type: array, items: { type: string }, maxItems: 8 },
  flags: { type: object, additionalProperties: { type: boolean } }, note: { type: string, maxLength: 280 }, protest: { type: boolean }, place: { type: [integer, "null"] } } } } }`.replaceAll(
    '\n',
    ' ',
  );
const text = `
service: { port: 0, guests: true, pulse: 1h, limits: { connectionsPerAddress: 100000, publishes: 1000000/s, requests: 1000000/s, given: 256MiB } }
tokens: { secret: the-secret-of-the-benchmarks-of-32-bytes }
channels:
  - { pattern: "recent-plain/:n", allow: { enter: anyone, publish: anyone } }
  - { pattern: "recent-typed/:n", allow: { enter: anyone, publish: anyone }, types: ${types} }
  - { pattern: "kept-plain/:n", logbook: kept, allow: { enter: anyone, publish: anyone } }
  - { pattern: "kept-typed/:n", logbook: kept, allow: { enter: anyone, publish: anyone }, types: ${types} }
  - { pattern: "fan/:n", allow: { enter: anyone } }
  - { pattern: "record/:n", logbook: kept, allow: { enter: anyone } }
`;

let service;
let groups = 0;

const acts = {
  async start() {
    service = await Service.start(parseConfiguration(text, join(folder, 'bells.yaml'), { data: folder }));
    return { port: Number(new URL(service.url).port) };
  },

  /** Publishes to the groups one after another, as fast as the connections take it. */
  async fanOut({ kind, groups: count, roundMs }) {
    const { engine } = service;
    const before = engine.counters.deliveries;
    const fromMs = performance.now();
    while (performance.now() - fromMs < roundMs) {
      for (let n = 0; n < count; n++) {
        const group = groups++ % count;
        const channel = kind === 'channels' ? `fan/${group}` : 'fan/all';
        void engine.messages.publish({
          channel,
          data: { boat: `b${group}`, text: 'Turnstone is lifting on the left.' },
        });
      }
      await turn();
      while (engine.stats.waitingBytes > 0) await turn();
    }
    return { delivered: engine.counters.deliveries - before, ms: performance.now() - fromMs };
  },

  async fill({ messages }) {
    const { engine } = service;
    for (let n = 0; n < messages; n += 1_000)
      await Promise.all(
        Array.from({ length: 1_000 }, (_, index) => {
          const group = (n + index) % 100;
          const data = { boat: `b${group}`, n: n + index, text: 'Whimbrel and Curlew are neck and neck at the gate.' };
          return engine.messages.publish({ channel: 'record/1', type: `type${group}`, data });
        }),
      );
    return {};
  },
};

process.on('message', async (message) => process.send(await acts[message.act](message)));
// The parent has ended.
process.on('disconnect', () => process.exit());
