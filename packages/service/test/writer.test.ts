import { subscribe, unsubscribe } from 'node:diagnostics_channel';
import { mkdtempSync, rmSync } from 'node:fs';
import { connect as connectTcp, createServer, type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { channelName } from '@nine-bells/wire';
import { afterEach, describe, expect, it } from 'vitest';
import { WebSocket } from 'ws';
import { parseConfiguration } from '../src/config/configuration.js';
import {
  chooseWriter,
  descriptorOf,
  handleOf,
  maxLinks,
  type TestedWriter,
  testOnPair,
  type WriterChoice,
} from '../src/line/nativeWriter.js';
import { Service } from '../src/service.js';

const channel = channelName('pontoon/north');
const text = `
service: { name: Gannet Sound, port: 0, guests: true, pulse: 1s, instance: i1 }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
channels:
  - { pattern: pontoon/:name, logbook: { recent: { messages: 10, for: 1m } }, allow: { enter: anyone, publish: anyone } }
`;

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const choice = await chooseWriter(true);
const native = choice.use === 'native' ? choice.writer : undefined;

async function start(writer: WriterChoice): Promise<Service> {
  const folder = mkdtempSync(join(tmpdir(), 'bells-writer-'));
  const configuration = parseConfiguration(text, join(folder, 'bells.yaml'), { data: folder });
  const service = await Service.start(configuration, { writer });
  clean.push(async () => {
    await service.stop();
    rmSync(folder, { recursive: true, force: true });
  });
  return service;
}

/** A client that notes the numbers of the messages that it gets, in their order. */
class Client {
  readonly numbers: number[] = [];
  readonly socket: WebSocket;
  readonly live: Promise<void>;

  constructor(url: string) {
    this.socket = new WebSocket(`${url.replace('http', 'ws')}/line`, 'nine-bells.v1');
    this.socket.on('error', () => {});
    this.socket.on('open', () => this.socket.send(JSON.stringify({ do: 'hello', id: 1, enter: [{ channel }] })));
    this.live = new Promise((resolve) =>
      this.socket.on('message', (data) => {
        const frame = JSON.parse(String(data));
        if (frame.re === 1) resolve();
        if (frame.on === 'message') this.numbers.push(frame.data.n);
      }),
    );
  }
}

type Outcome = 'all' | 'half' | 'wait' | 'error';

/** Does of each write what `pick` says: all of it, a half, nothing as if it would have to wait, or an error. */
function faulty(real: TestedWriter, pick: () => Outcome): TestedWriter {
  const [fds, took] = [new Int32Array(maxLinks), new Int32Array(maxLinks)];
  const write = (bytes: Uint8Array, count: number): number => {
    let untaken = 0;
    for (let at = 0; at < count; at++) {
      const outcome = pick();
      const some = outcome === 'all' ? bytes : bytes.subarray(0, Math.floor(bytes.length / 2));
      real.fds[0] = fds[at] as number;
      if (outcome === 'all' || outcome === 'half') real.write(some, 1);
      took[at] = outcome === 'wait' ? 0 : outcome === 'error' ? -5 : (real.took[0] as number);
      if (took[at] !== bytes.length) untaken += 1;
    }
    return untaken;
  };
  return { fds, took, write };
}

describe.skipIf(native === undefined)('the native writer', () => {
  const real = native as TestedWriter;

  it.each<[string, () => Outcome]>([
    ['takes all of each write', () => 'all'],
    ['takes half of each write at random', () => (Math.random() < 0.5 ? 'half' : 'all')],
    ['would have to wait', () => 'wait'],
    ['fails', () => 'error'],
    [
      'does all of that at random',
      () => (['all', 'half', 'wait', 'error'] as const)[Math.floor(Math.random() * 4)] ?? 'all',
    ],
  ])('that %s gives every client every message in its order', async (_, pick) => {
    const service = await start({ use: 'native', writer: faulty(real, pick) });
    const clients = Array.from({ length: 20 }, () => new Client(service.url));
    clean.push(() => clients.forEach(({ socket }) => void socket.terminate()));
    await Promise.all(clients.map(({ live }) => live));
    let n = 0;
    for (let burst = 0; burst < 60; burst++) {
      for (let each = 0; each < 1 + (burst % 7); each++)
        void service.engine.messages.publish({
          channel,
          data: { n: n++, more: 'x'.repeat(burst % 10 === 0 ? 20_000 : 20) },
        });
      await new Promise((resolve) => (burst % 3 === 0 ? setTimeout(resolve, 5) : setImmediate(resolve)));
    }
    const all = Array.from({ length: n }, (_, index) => index);
    for (const { numbers } of clients) await expect.poll(() => numbers.length).toBe(n);
    for (const { numbers } of clients) expect(numbers).toEqual(all);
    expect(service.engine.cluster.status).toMatchObject({ writer: 'native' });
  });

  it('is used by several services in one process, each for its own clients', async () => {
    const services = [await start(await chooseWriter(true)), await start(await chooseWriter(true))];
    const clients = services.map(({ url }) => new Client(url));
    clean.push(() => clients.forEach(({ socket }) => void socket.terminate()));
    await Promise.all(clients.map(({ live }) => live));
    for (let n = 0; n < 20; n++)
      for (const [at, { engine }] of services.entries())
        void engine.messages.publish({ channel, data: { n: at * 100 + n } });
    for (const [at, { numbers }] of clients.entries())
      await expect.poll(() => numbers).toEqual(Array.from({ length: 20 }, (_, n) => at * 100 + n));
  });

  it('does not write to a descriptor that another socket got in the turn in which its own was closed', async () => {
    const accepted: Socket[] = [];
    const note = (message: unknown): void => void accepted.push((message as { socket: Socket }).socket);
    subscribe('net.server.socket', note);
    clean.push(() => unsubscribe('net.server.socket', note));
    let strange = 0;
    const bystander = createServer((socket) => {
      socket.on('error', () => {});
      socket.on('data', () => {
        strange += 1;
      });
    });
    await new Promise<void>((resolve) => bystander.listen(0, '127.0.0.1', resolve));
    clean.push(() => bystander.close());
    const { port } = bystander.address() as { port: number };
    const service = await start({ use: 'native', writer: real });
    let reused = 0;
    for (let n = 0; n < 20; n++) {
      const client = new Client(service.url);
      await client.live;
      const near = accepted.findLast(({ localPort }) => localPort === Number(new URL(service.url).port)) as Socket;
      // After a timer: the flush comes before the service hears that the socket has ended.
      await new Promise((resolve) => setTimeout(resolve, 5));
      const fd = descriptorOf(handleOf(near));
      near.destroy();
      // The lowest free descriptors are given out first.
      const calls: Socket[] = [];
      for (let tries = 0; tries < 20 && !calls.some((each) => descriptorOf(handleOf(each)) === fd); tries++) {
        const call = connectTcp(port, '127.0.0.1');
        call.on('error', () => {});
        calls.push(call);
        // It gets its descriptor in the next tick, which is still before any event of a socket.
        await new Promise<void>((resolve) => process.nextTick(resolve));
      }
      if (calls.some((each) => descriptorOf(handleOf(each)) === fd)) reused += 1;
      void service.engine.messages.publish({ channel, data: { n } });
      await new Promise((resolve) => setTimeout(resolve, 10));
      for (const each of calls) each.destroy();
      client.socket.terminate();
    }
    expect(reused).toBeGreaterThan(10);
    expect(strange).toBe(0);
  });

  it('never writes to a descriptor that was closed and is another’s now', async () => {
    const service = await start({ use: 'native', writer: real });
    // A bystander in the same process, whose sockets come and go with the clients’: nothing is ever sent to them.
    const bystander = createServer((socket) => socket.on('error', () => {}));
    await new Promise<void>((resolve) => bystander.listen(0, '127.0.0.1', resolve));
    clean.push(() => bystander.close());
    const { port } = bystander.address() as { port: number };
    let strange = 0;
    const calls = new Set<Socket>();
    const stays = Array.from({ length: 10 }, () => new Client(service.url));
    await Promise.all(stays.map(({ live }) => live));
    let n = 0;
    let goers: Client[] = [];
    for (const endMs = Date.now() + 3_000; Date.now() < endMs; ) {
      goers.push(new Client(service.url));
      const call = connectTcp(port, '127.0.0.1');
      calls.add(call);
      call.on('data', () => {
        strange += 1;
      });
      call.on('error', () => {});
      for (let each = 0; each < 5; each++) void service.engine.messages.publish({ channel, data: { n: n++ } });
      await new Promise((resolve) => setTimeout(resolve, 1));
      if (goers.length > 30) {
        // All ways in which a socket ends: cut by the client, closed with a goodbye, and from this side.
        for (const [index, { socket }] of goers.entries()) index % 2 === 0 ? socket.terminate() : socket.close();
        for (const each of calls) each.destroy();
        calls.clear();
        goers = [];
      }
    }
    for (const { socket } of goers) socket.terminate();
    for (const each of calls) each.destroy();
    for (const { numbers } of stays) await expect.poll(() => numbers.length).toBe(n);
    for (const { numbers } of stays) expect(numbers).toEqual(numbers.map((_, index) => index));
    expect(strange).toBe(0);
    for (const { socket } of stays) socket.terminate();
  });

  it.each<[string, (bytes: Uint8Array) => { took: number; untaken: number }, RegExp]>([
    ['writes nothing and says that it did', ({ length }) => ({ took: length, untaken: 0 }), /takes everything|wait/],
    ['says that it took more than there was', () => ({ took: 11, untaken: 1 }), /11 of 10 bytes/],
    ['says that something is left of what it took', () => ({ took: 10, untaken: 1 }), /10 of 10 bytes/],
    ['takes nothing', () => ({ took: 0, untaken: 1 }), /short text/],
  ])('is not used where it %s', async (_, says, why) => {
    const write = (bytes: Uint8Array): number => {
      const { took, untaken } = says(bytes);
      real.took[0] = took;
      return untaken;
    };
    await expect(testOnPair({ ...real, write })).rejects.toThrow(why);
  });
});

it('is said not to be in use where it is switched off', async () => {
  const off = await chooseWriter(false);
  expect(off).toEqual({ use: 'streams', why: 'the native writer is switched off' });
  const service = await start(off);
  expect(service.engine.cluster.status).toMatchObject({ writer: 'streams' });
  const client = new Client(service.url);
  await client.live;
  await service.engine.messages.publish({ channel, data: { n: 1 } });
  await expect.poll(() => client.numbers).toEqual([1]);
  client.socket.terminate();
});
