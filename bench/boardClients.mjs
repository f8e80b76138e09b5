// The clients of the bench `board`: some of them set entries, all count the frames that they get, and some look how old the
// values in them are.
import { openRaw } from './rawClient.mjs';

/** Each so many-th client looks into its frames. */
const lookingEvery = 50;
const clients = [];
let subject;
let ages = [];
let flooding;

process.on('message', async (message) => process.send(await acts[message.act](message)));
process.on('disconnect', () => process.exit());

const acts = {
  async open({ port, path, protocol, clients: count, subject: name }) {
    subject = name;
    for (let index = 0; index < count; index++) {
      const client = { frames: 0, bytes: 0 };
      client.connection = await openRaw({ port, path, protocol, onFrame: (text) => heard(client, index, text) });
      client.connection.send('{"do":"hello","id":1,"enter":[{"channel":"race/positions"}]}');
      clients.push(client);
    }
    await new Promise((resolve) => setTimeout(resolve, 500));
    return {};
  },

  async run({ setters, rate, roundMs }) {
    for (const client of clients) Object.assign(client, { frames: 0, bytes: 0 });
    ages = [];
    const started = performance.now();
    let sent = 0;
    while (performance.now() - started < roundMs) {
      const due = ((performance.now() - started) / 1000) * rate * setters;
      for (; sent < due; sent++) set(sent % setters, 3);
      await new Promise((resolve) => setTimeout(resolve, 2));
    }
    const seconds = (performance.now() - started) / 1000;
    ages.sort((a, b) => a - b);
    const perClient = clients.map(({ frames }) => frames / seconds).sort((a, b) => a - b);
    return {
      sets: sent / seconds,
      frames: perClient[Math.floor(perClient.length / 2)],
      mostFrames: perClient.at(-1),
      bytes: clients.reduce((sum, { bytes }) => sum + bytes, 0) / seconds,
      p50: ages[Math.floor(ages.length / 2)] ?? Number.NaN,
      p99: ages[Math.floor(ages.length * 0.99)] ?? Number.NaN,
    };
  },

  /** The times from setting to receiving, in milliseconds, at a client of the same instance and at one of another. */
  async latency({ here, there, count }) {
    const times = { same: [], other: [] };
    const come = async (where, which) => {
      const connection = await openRaw({
        ...where,
        onFrame: (text) => {
          if (!text.startsWith('{"on":"board"')) return;
          const { at } = Object.values(JSON.parse(text).set ?? {})[0] ?? {};
          if (at !== undefined) times[which].push(performance.now() - at);
        },
      });
      connection.send('{"do":"hello","id":1,"enter":[{"channel":"race/positions"}]}');
      return connection;
    };
    const setter = await come(here, 'same');
    await come(there, 'other');
    await new Promise((resolve) => setTimeout(resolve, 500));
    for (let n = 0; n < count; n++) {
      setter.send(
        `{"do":"set","channel":"race/positions","entry":"petrel","value":{"n":${n},"at":${performance.now()}}}`,
      );
      // Above the rate that a session has, it would be refused.
      await new Promise((resolve) => setTimeout(resolve, 11));
    }
    await new Promise((resolve) => setTimeout(resolve, 300));
    for (const each of Object.values(times)) each.sort((a, b) => a - b);
    return times;
  },

  async flood({ roundMs, underWay }) {
    flooding = { acknowledged: 0, endsMs: performance.now() + roundMs };
    for (let index = 0; index < clients.length; index++) for (let n = 0; n < underWay; n++) set(index, 2);
    await new Promise((resolve) => setTimeout(resolve, roundMs));
    const { acknowledged } = flooding;
    flooding = undefined;
    await new Promise((resolve) => setTimeout(resolve, 300));
    return { acknowledged };
  },
};

function set(index, id) {
  const value = `{"boat":"boat-${index}","x":431.7,"y":204.2,"at":${Date.now()}}`;
  const { connection } = clients[index];
  if (subject === 'messages')
    connection.send(`{"do":"publish","channel":"race/positions","type":"position","data":${value}}`);
  else connection.send(`{"do":"set","id":${id},"channel":"race/positions","entry":"boat-${index}","value":${value}}`);
}

function heard(client, index, text) {
  if (text.startsWith('{"re":2,')) {
    if (text.includes('"problem"')) throw new Error(text);
    if (flooding === undefined) return;
    flooding.acknowledged += 1;
    if (performance.now() < flooding.endsMs) set(index, 2);
    return;
  }
  if (text.startsWith('{"re":')) return;
  client.frames += 1;
  client.bytes += text.length;
  if (index % lookingEvery !== 0) return;
  const now = Date.now();
  const frame = JSON.parse(text);
  for (const { at } of frame.on === 'message' ? [frame.data] : Object.values(frame.set ?? {})) ages.push(now - at);
}
