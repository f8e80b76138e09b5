// What is compared: a fan-out written by hand, as people write it, and the service.
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import { createServer as createTcpServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { WebSocketServer } from 'ws';

export const channel = 'race/3/bench';
export const text = 'Petrel has rounded the windward mark, Turnstone two lengths behind, Dunlin third and closing.';

/** The service of a checkout: of this one, or of the one in the folder that `BENCH_ROOT` names. */
const { readConfiguration, Service, signToken } = await import(
  process.env.BENCH_ROOT === undefined
    ? '@nine-bells/service'
    : pathToFileURL(join(process.env.BENCH_ROOT, 'packages/service/dist/index.js')).href
);

/** A message as large as what the service sends for the same text. */
const message = (number, at = new Date().toISOString()) => ({
  on: 'message',
  channel,
  cursor: `abcdef:${number}`,
  id: '01M83GCRQ5P1D2TJ1H9AYQGK28',
  type: 'message',
  at,
  data: { text },
});

/** Ceilings, on plain TCP: ready frames of the same size, joined, to one socket after another by its stream. */
export const bareStreams = () =>
  bare(async () => (sockets, frames) => {
    for (const socket of sockets) socket.write(frames);
  });

/** The same by the native writer, all in one call. */
export const bareNative = () =>
  bare(async () => {
    const { loadNativeWriter } = await import('@nine-bells/writer');
    const native = loadNativeWriter();
    const [fds, took] = [new Int32Array(100_000), new Int32Array(100_000)];
    return (sockets, frames) => {
      const free = sockets.filter(({ writableLength }) => writableLength === 0);
      for (const [at, socket] of free.entries()) fds[at] = socket._handle.fd;
      for (const socket of sockets) if (socket.writableLength > 0) socket.write(frames);
      if (native.write(frames, fds, took, free.length) === 0) return;
      for (const [at, socket] of free.entries())
        if (took[at] < frames.length) socket.write(frames.subarray(Math.max(0, took[at])));
    };
  });

async function bare(makeWrite) {
  const write = await makeWrite();
  const sockets = [];
  const server = createTcpServer((socket) => {
    socket.setNoDelay(true);
    socket.on('error', () => {});
    sockets.push(socket);
  });
  await new Promise((resolve) => server.listen(0, '127.0.0.1', resolve));
  const frame = Buffer.concat([Buffer.alloc(4), Buffer.from(JSON.stringify(message(1000)))]);
  return {
    port: server.address().port,
    isRaw: true,
    publish: (count) => write(sockets, Buffer.concat(Array.from({ length: count }, () => frame))),
    async flushed() {},
    waiting: () => sockets.reduce((bytes, { writableLength }) => bytes + writableLength, 0),
    connections: () => sockets.length,
    async stop() {
      for (const socket of sockets) socket.destroy();
      server.close();
    },
  };
}

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
        send(clients, message(number));
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
export async function theService({
  kept = false,
  synchronous = 'full',
  limits = '',
  traces = true,
  nativeWriter = true,
} = {}) {
  const folder = mkdtempSync(join(tmpdir(), 'bells-bench-'));
  const file = join(folder, 'bells.yaml');
  writeFileSync(
    file,
    `service: { port: 0, data: data, guests: true, pulse: 1h, synchronous: ${synchronous}, traces: ${traces}${nativeWriter ? '' : ', nativeWriter: false'}, limits: { connectionsPerAddress: 100000${limits} } }
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

export const subjects = {
  byHand,
  byHandOnce,
  bareStreams,
  bareNative,
  theService: (options) => theService(options),
  theServiceForUsers,
};
