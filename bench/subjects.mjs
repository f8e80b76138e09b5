// What is compared: a fan-out written by hand, as people write it, and the service.
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { readConfiguration, Service, signToken } from '@nine-bells/service';
import { WebSocketServer } from 'ws';

export const channel = 'race/3/bench';
export const text = 'Petrel has rounded the windward mark, Turnstone two lengths behind, Dunlin third and closing.';

/** The hand-written loop: a set of clients, `send(JSON.stringify(m))` to each. */
export const byHand = () =>
  looping((clients, m) => {
    for (const c of clients) c.send(JSON.stringify(m));
  });

/** The same, encoded once, and still sent one by one. */
export const byHandOnce = () =>
  looping((clients, m) => {
    const encoded = Buffer.from(JSON.stringify(m));
    for (const c of clients) c.send(encoded, { binary: false });
  });

async function looping(send) {
  const http = createServer();
  const server = new WebSocketServer({ server: http, perMessageDeflate: false });
  const clients = server.clients;
  await new Promise((resolve) => http.listen(0, '127.0.0.1', resolve));
  let number = 0;
  return {
    port: http.address().port,
    path: '/',
    publish(count) {
      for (let i = 0; i < count; i++) {
        number += 1;
        // As large as what the service sends for the same text.
        const m = {
          on: 'message',
          channel,
          cursor: `abcdef:${number}`,
          id: '01M83GCRQ5P1D2TJ1H9AYQGK28',
          type: 'message',
          at: new Date().toISOString(),
          data: { text },
        };
        send(clients, m);
      }
    },
    timed(sent) {
      number += 1;
      send(clients, { on: 'message', channel, cursor: `abcdef:${number}`, data: { text, sent: String(sent) } });
    },
    async flushed() {},
    waiting() {
      let bytes = 0;
      for (const c of clients) bytes += c.bufferedAmount;
      return bytes;
    },
    connections: () => clients.size,
    async stop() {
      for (const c of clients) c.terminate();
      server.close();
      await new Promise((resolve) => http.close(resolve));
    },
  };
}

/** The service with its defaults, in this process. */
export async function theService({ kept = false, synchronous = 'full', limits = '', traces = true } = {}) {
  const folder = mkdtempSync(join(tmpdir(), 'bells-bench-'));
  const file = join(folder, 'bells.yaml');
  writeFileSync(
    file,
    `service: { port: 0, data: data, guests: true, pulse: 1h, synchronous: ${synchronous}, traces: ${traces}, limits: { connectionsPerAddress: 100000${limits} } }
tokens: { secret: the-secret-of-the-benchmarks-of-32-bytes }
channels:
  - { pattern: "race/:race/bench", logbook: ${kept ? 'kept' : '{ recent: { messages: 100 } }'}, allow: { enter: anyone, publish: anyone } }
`,
  );
  const configuration = readConfiguration(file);
  const service = await Service.start(configuration);
  const { engine } = service;
  return {
    port: Number(new URL(service.url).port),
    path: '/line',
    protocol: 'nine-bells.v1',
    configuration,
    publish(count) {
      for (let i = 0; i < count; i++) void engine.messages.publish({ channel, data: { text } });
    },
    async publishTo(name, count) {
      for (let i = 0; i < count; i++) await engine.messages.publish({ channel: name, data: { text } });
    },
    publishBytes: (name, bytes) => engine.messages.publish({ channel: name, data: 'x'.repeat(bytes) }),
    kept: async () => (await engine.channels.list('', 100)).length,
    timed: (sent) => void engine.messages.publish({ channel, data: { text, sent: String(sent) } }),
    async flushed() {
      // Publishing ends in a promise; the flush is scheduled within this turn.
      await Promise.resolve();
      await engine.flushed();
    },
    waiting: () => engine.stats.waitingBytes,
    connections: () => engine.stats.connections,
    async stop() {
      await service.stop();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

/** The service, with a token for each of so many users. */
async function theServiceForUsers(count) {
  const subject = await theService();
  const { tokens } = subject.configuration;
  subject.tokens = await Promise.all(
    Array.from({ length: count }, (_, index) =>
      signToken(tokens, { user: `u${index}`, name: `User ${index}`, forMs: 3_600_000 }),
    ),
  );
  return subject;
}

export const subjects = { byHand, theService: () => theService(), theServiceForUsers };
