// A program that embeds the engine: one process, records in memory, one client without a network.
import { Engine, SoloRelay } from '@nine-bells/core';
import { MemoryStore, storeOf } from '@nine-bells/core/testing';

let count = 0;
const id = () => `x${++count}`;
const ids = { message: id, session: id, volume: id, moderation: id };
const clock = {
  now: Date.now,
  settled: () => Date.now(),
  monotonic: () => performance.now(),
  setTimer: (ms, act) => {
    const timer = setTimeout(act, ms);
    return () => clearTimeout(timer);
  },
  endOfTurn: (act) => void setImmediate(act),
};
const engine = new Engine(
  {
    clock,
    ids,
    relay: new SoloRelay(clock, ids),
    store: storeOf(new MemoryStore(ids)),
    hmac: {
      sign: (text) => text.padEnd(32, '0'),
      matches: (text, mac) => text.padEnd(32, '0') === mac,
      digest: (text) => text,
    },
    tokens: { read: async (user) => ({ user, guest: false, roles: [], claims: {} }) },
    report: console.error,
  },
  [{ pattern: 'race/:race/chat', logbook: { type: 'kept' }, allow: { enter: 'anyone', publish: 'signed-in' } }],
);
const link = {
  transport: 'memory',
  encoding: { encode: (payload) => payload, join: ([first]) => first },
  waitingBytes: 0,
  write: (batch) => {
    for (const { text } of batch.frames()) heard(JSON.parse(text));
  },
  ping() {},
  pause() {},
  resume() {},
  close() {},
};
const connection = engine.connect(link);
connection.receive('{"do":"hello","id":1,"token":"pia","enter":[{"channel":"race/3/chat"}]}');

function heard(frame) {
  if (frame.re === 1) connection.receive('{"do":"publish","channel":"race/3/chat","data":{"text":"General recall"}}');
  if (frame.on !== 'message') return;
  console.log(`${frame.by.user}: ${frame.data.text}`);
  void engine.stop();
}
