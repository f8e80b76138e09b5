// One hostile client: it keeps to the protocol and does what its rates permit, as fast as it can.
import { connect } from 'node:net';
import { constants, setPriority } from 'node:os';
import { WebSocket } from 'ws';

// It would be another machine: what it computes must not take the time of those that are measured.
setPriority(constants.priority.PRIORITY_LOW);

let port;
let key;
let token;
let isOn = false;
let running = Promise.resolve();
const sockets = new Set();

process.on('message', async (message) => {
  if (message.act === 'about') ({ port, key, token } = message);
  else if (message.act === 'begin') {
    isOn = true;
    running = attacks[message.kind]();
  } else if (message.act === 'end') {
    isOn = false;
    for (const socket of sockets)
      if (socket.terminate) socket.terminate();
      else socket.destroy();
    sockets.clear();
    // What was asked for before the end may take its time.
    await Promise.race([running.catch(() => {}), pause(60_000)]);
  }
  process.send({});
});

const pause = (ms) => new Promise((resolve) => setTimeout(resolve, ms));

/** A line that has said hello. */
async function open(hello = {}, reads = true) {
  const socket = new WebSocket(`ws://127.0.0.1:${port}/line`, ['nine-bells.v1']);
  sockets.add(socket);
  socket.on('error', () => {});
  socket.on('close', () => sockets.delete(socket));
  await new Promise((resolve) => {
    socket.once('open', resolve);
    socket.once('close', resolve);
  });
  if (!reads) socket.pause();
  let id = 1;
  const say = (text) => socket.readyState === 1 && socket.send(`{"id":${id++},${text.slice(1)}`);
  say(JSON.stringify({ do: 'hello', token, ...hello }));
  return { socket, say };
}

/** Publishes a message, and gives its cursor. */
async function publishedIn(channel) {
  const { socket, say } = await open();
  const cursor = new Promise((resolve) =>
    socket.on('message', (frame) => {
      const { re, cursor: found } = JSON.parse(frame);
      if (re === 2) resolve(found);
    }),
  );
  say(JSON.stringify({ do: 'publish', channel, data: 'Ready' }));
  return cursor;
}

async function revises(channel, data, perS) {
  const cursor = await publishedIn(channel);
  const revision = (n) => JSON.stringify({ do: 'revise', channel, cursor, data: `${n} ${data}` });
  await again(revision, { perS });
}

/** What the service does not take waits in the kernel: to gather it here would cost this process, not the service. */
const untaken = 262_144;

/** Says something again and again, and connects again when it was closed. */
async function again(request, { perS, hello, reads = true, sessions = 1 }) {
  await Promise.all(
    Array.from({ length: sessions }, async () => {
      while (isOn) {
        const { socket, say } = await open(hello, reads);
        const from = performance.now();
        for (let sent = 0, n = 0; isOn && socket.readyState === 1; ) {
          for (; sent < ((performance.now() - from) / 1000) * perS; sent++)
            if (socket.bufferedAmount < untaken) say(request(n++));
          await pause(5);
        }
      }
    }),
  );
}

/** Repeats a request on eight parallel senders. */
async function posts(path, body, headers) {
  const sender = async () => {
    while (isOn) {
      const response = await fetch(`http://127.0.0.1:${port}${path}`, { method: 'POST', headers, body }).catch(
        () => {},
      );
      await response?.arrayBuffer().catch(() => {});
    }
  };
  await Promise.all(names(8, sender));
}

const names = (count, of) => Array.from({ length: count }, (_, n) => of(n));
const text = JSON.stringify;

const attacks = {
  'hello names 200 channels, again and again': async () => {
    const enter = names(200, (n) => ({ channel: `race/${n}/chat`, last: 1000 }));
    while (isOn) {
      const { socket } = await open({ enter });
      await new Promise((resolve) => {
        socket.once('message', resolve);
        socket.once('close', resolve);
      });
      socket.terminate();
    }
  },
  'asks and does not read': () =>
    again(() => text({ do: 'read', channel: 'race/0/chat', limit: 1000 }), { perS: 100, reads: false }),
  'asks for all it may, and reads': () =>
    again(() => text({ do: 'read', channel: 'race/0/chat', limit: 1000 }), { perS: 100 }),
  'large messages under ever new keys': () => {
    const rest = text({ channel: 'weather/storm', data: 'x'.repeat(32_000) }).slice(1);
    const key = process.hrtime.bigint();
    return again((n) => `{"do":"publish","key":"${key} ${n}",${rest}`, { perS: 200 });
  },
  'enters and reads channels without clients': () =>
    again((n) => text({ do: ['enter', 'read', 'leave'][n % 3], channel: `weather/${Math.floor(n / 3)}` }), {
      perS: 400,
    }),
  'sets large entries of a full board, and enters again': () => {
    const value = 'x'.repeat(1_000);
    const set = (n) =>
      text({ do: 'set', channel: 'board/full', entry: `e/${n % 230}`, value: value + n, whileHere: true });
    return again((n) => (n % 5 === 0 ? text({ do: 'enter', channel: 'board/full' }) : set(n)), {
      perS: 120,
      sessions: 4,
    });
  },
  'large messages of which nothing fits the contract': () => {
    const data = `[${names(10_000, () => '"b"').join()}]`.slice(0, 32_000).replace(/,?"?b?$/, ']');
    const request = `{"do":"publish","channel":"log/1","data":${data}}`;
    return again(() => request, { perS: 200 });
  },
  'messages just small enough to be searched for all faults': () => {
    const request = `{"do":"publish","channel":"log/1","data":[${names(10_000, () => 1).join()}]}`;
    return again(() => request, { perS: 200 });
  },
  'filters that nothing fits, and reads': () => {
    const filter = { types: ['none'], where: { '/a/b/c/d': 1 } };
    return again(
      (n) =>
        text(
          n % 2 === 0
            ? { do: 'enter', channel: `race/${n % 200}/chat`, last: 1000, filter }
            : { do: 'read', channel: 'race/0/chat', limit: 1000, filter },
        ),
      { perS: 150 },
    );
  },
  'a hundred sessions with filters of their own in the busy channel': () =>
    again(
      (n) =>
        text({
          do: 'enter',
          channel: 'race/finish/chat',
          filter: { by: names(20, (m) => `u${m}`), where: Object.fromEntries(names(8, (m) => [`/m${m}/x`, n + m])) },
        }),
      { perS: 2, sessions: 100 },
    ),
  'revises its message in the busy channel': () => revises('race/finish/chat', 'Steady', 200),
  'large revisions that are kept': () => revises('race/storm/chat', 'x'.repeat(32_000), 200),
  'reactions to ever other messages of the busy channel': async () => {
    const channel = 'race/finish/chat';
    const [volume, number] = (await publishedIn(channel)).split(':');
    const word = (n) => `w${n % 5}`;
    const cursor = (n) => `${volume}:${1 + (n % Number(number))}`;
    await again((n) => text({ do: 'react', channel, cursor: cursor(n), word: word(n) }), { perS: 100, sessions: 4 });
  },
  'searches for what is in every message, in fifty sessions': () =>
    again((n) => text({ do: 'search', words: `st* -x${n}`, in: ['race/finish/chat'] }), { perS: 2, sessions: 50 }),
  'searches 10 MB of large messages, in twelve sessions': async () => {
    const channel = 'race/books/chat';
    const data = { text: 'the wind and the sea '.repeat(1_480) };
    const headers = { authorization: `Bearer ${key}`, 'content-type': 'application/json' };
    const published = (n) =>
      fetch(`http://127.0.0.1:${port}/v1/messages`, {
        method: 'POST',
        headers,
        body: text({ channel, data, key: `book ${n}` }),
      });
    for (let n = 0; n < 330; n++) await published(n);
    await again((n) => text({ do: 'search', words: `wind sea -x${n}`, in: [channel] }), { perS: 2, sessions: 12 });
  },
  'mentions two users, in twenty sessions': async () => {
    const channel = 'race/storm/chat';
    const mentions = { users: ['pia', 'jory'] };
    await again((n) => text({ do: 'publish', channel, data: { text: `${n}` }, mentions }), { perS: 1, sessions: 20 });
  },
  'marks and counts': () =>
    again(
      (n) => text(n % 20 === 0 ? { do: 'unread' } : { do: 'mark', channel: `race/${n % 200}/chat`, cursor: null }),
      { perS: 250 },
    ),
  'comes and goes where that is noted': () =>
    again((n) => text({ do: n % 2 ? 'leave' : 'enter', channel: `deck/${n % 100}` }), { perS: 300 }),
  'pulses of 40 kB': () => {
    const got = Object.fromEntries(names(200, (n) => [`race/${'x'.repeat(180)}${n}/chat`, 'abcdef:1']));
    const pulse = text({ do: 'pulse', got });
    return again(() => pulse, { perS: 240 });
  },
  'connects, says hello and too much, again and again': async () => {
    const tooMuch = `{"do":"pulse","x":"${'x'.repeat(66_000)}"}`;
    while (isOn) {
      const { socket } = await open();
      socket.send(tooMuch);
      await new Promise((resolve) => socket.once('close', resolve));
    }
  },
  '3,000 half requests': async () => {
    while (isOn) {
      for (let n = sockets.size; n < 3_000 && isOn; n++) {
        const socket = connect(port, '127.0.0.1');
        sockets.add(socket);
        socket.on('error', () => {});
        socket.on('close', () => sockets.delete(socket));
        socket.write('GET /line HTTP/1.1\r\nHost: x\r\n');
        if (n % 100 === 0) await pause(10);
      }
      await pause(100);
    }
  },
  'notices to 10,000 users': async () => {
    const users = names(10_000, (n) => `user-${n}`);
    const body = text({ users, title: 'x', data: 'x'.repeat(6_000), key: 'one' });
    const headers = { authorization: `Bearer ${key}`, 'content-type': 'application/json' };
    while (isOn) await fetch(`http://127.0.0.1:${port}/v1/notices`, { method: 'POST', headers, body }).catch(() => {});
  },
  'forms of as many fields as fit': () =>
    posts('/in/form', 'a&'.repeat(131_000), { 'content-type': 'application/x-www-form-urlencoded' }),
  'routes of aliases that stand for millions of values': () => {
    const levels = names(7, (n) => `&a${n + 1} [${names(9, () => `*a${n}`).join()}]`);
    const routes = `[{ when: { at: /x, in: [&a0 1, ${levels.join()}] }, nothing: true }]`;
    const headers = { authorization: `Bearer ${key}`, 'content-type': 'application/json' };
    return posts('/v1/intakes/form/test', text({ body: 'a=1', routes }), headers);
  },
  'calls that the application never answers, in a hundred sessions': () =>
    again((n) => text({ do: 'call', name: 'slow', data: n }), { perS: 20, sessions: 100 }),
  'tries to sign in with nonsense': async () => {
    const faults = text(Object.fromEntries(names(800, (n) => [`m${n}`, 1])));
    while (isOn) {
      const all = names(20, () =>
        fetch(`http://127.0.0.1:${port}/console/session`, {
          method: 'POST',
          headers: { 'content-type': 'application/json' },
          body: faults,
        }).catch(() => {}),
      );
      await Promise.all(all);
    }
  },
};
process.on('disconnect', () => process.exit());
