// What presence costs as rooms grow: all enter within ten seconds, then a tenth of them leave and come back within
// another ten. Beside it what people write by hand: the whole list to all at each change. In virtual time, so that
// what is counted is traffic and work, not waiting.
import { Engine, SoloRelay } from '@nine-bells/core';
import { MemoryStore, storeOf } from '@nine-bells/core/testing';
import { VirtualClock } from '../packages/core/dist-simulator/virtualClock.js';

const sizes = [100, 1_000, 2_000, 5_000, 10_000];
/** Beyond this the loop by hand takes too long to be worth waiting for. */
const maxByHand = 1_000;
const enterMs = 10_000;
const channel = 'race/3/chat';

console.log('Members enter a room within 10 s, then a tenth of them leave and come back within 10 s\n');
console.log(row('members', 'frames each', 'bytes each', 'of 100 members', 'CPU each', 'by hand: bytes each', 'ratio'));
let first;
for (const size of sizes) {
  const { frames, bytes, cpuUs } = await room(size);
  const each = bytes / size;
  first ??= each;
  const hand = size <= maxByHand ? byHand(size) / size : undefined;
  console.log(
    row(
      size.toLocaleString('en'),
      (frames / size).toFixed(1),
      Math.round(each).toLocaleString('en'),
      `${(each / first).toFixed(2)}x`,
      `${Math.round(cpuUs / size)} us`,
      hand === undefined ? '' : Math.round(hand).toLocaleString('en'),
      hand === undefined ? '' : `${Math.round(hand / each)}x`,
    ),
  );
}
console.log('\nFrames and bytes are what each member is sent of presence: the list on entering, and all changes.');

/** The engine, with clients that count what they are told. */
async function room(size) {
  const clock = new VirtualClock();
  let counter = 0;
  const next = () => `${++counter}`;
  const ids = { message: next, session: next, volume: next, moderation: next };
  const engine = new Engine(
    {
      clock,
      ids,
      relay: new SoloRelay(clock, ids),
      store: storeOf(new MemoryStore(ids)),
      hmac: { sign: (text) => text, matches: (text, mac) => text === mac },
      tokens: { read: async (user) => ({ user, name: `Member ${user}`, guest: false, roles: [], claims: {} }) },
      report: (error) => {
        throw error;
      },
    },
    [
      {
        pattern: 'race/:race/chat',
        logbook: { type: 'kept' },
        presence: { graceMs: 10_000, crowd: 200 },
        allow: { enter: 'anyone' },
      },
    ],
    { pulseMs: 3_600_000 },
  );
  const traffic = { frames: 0, bytes: 0 };
  const clients = Array.from({ length: size }, (_, index) => client(engine, `${index}`, traffic));
  const cpuBefore = process.cpuUsage();
  for (const [index, each] of clients.entries()) clock.setTimer((index * enterMs) / size, () => each.enter());
  await clock.run(enterMs + 1_000);
  for (const [index, each] of clients.entries())
    if (index % 10 === 0) {
      clock.setTimer((index * enterMs) / size, () => each.leave());
      clock.setTimer((index * enterMs) / size + 700, () => each.enter());
    }
  await clock.run(enterMs + 2_000);
  const cpu = process.cpuUsage(cpuBefore);
  for (const each of clients) if (each.count !== size) throw new Error(`a member counts ${each.count} of ${size}`);
  await engine.stop();
  return { ...traffic, cpuUs: cpu.user + cpu.system };
}

function client(engine, user, traffic) {
  let id = 1;
  const self = { count: 0 };
  const connection = engine.connect({
    transport: 'bench',
    encoding: { encode: (payload) => payload },
    waitingBytes: 0,
    write(batch) {
      for (const { text } of batch.frames()) {
        const at = text.lastIndexOf('"count":');
        if (at === -1) continue;
        traffic.frames += 1;
        traffic.bytes += text.length;
        self.count = Number.parseInt(text.slice(at + 8), 10);
      }
    },
    ping() {},
    pause() {},
    resume() {},
    close() {},
  });
  connection.receive(JSON.stringify({ do: 'hello', id: id++, token: user }));
  self.enter = () => connection.receive(JSON.stringify({ do: 'enter', id: id++, channel }));
  self.leave = () => connection.receive(JSON.stringify({ do: 'leave', id: id++, channel }));
  return self;
}

/** The bytes of the whole list, sent to all members at each change. */
function byHand(size) {
  const list = new Map();
  let bytes = 0;
  const tell = () => {
    const text = JSON.stringify({ on: 'members', channel, members: [...list.values()] });
    bytes += text.length * list.size;
  };
  const change = (user, comes) => {
    if (comes) list.set(user, { user, name: `Member ${user}`, since: new Date(0).toISOString(), sessions: 1 });
    else list.delete(user);
    tell();
  };
  for (let index = 0; index < size; index++) change(`${index}`, true);
  for (let index = 0; index < size; index += 10) {
    change(`${index}`, false);
    change(`${index}`, true);
  }
  return bytes;
}

function row(name, ...cells) {
  return name.padEnd(10) + cells.map((cell) => cell.padStart(cell.length > 14 ? 22 : 16)).join('');
}
