// The receiving process of a benchmark: opens raw WebSockets and only counts bytes, so that it is not what is measured.
// Told what to do by its parent over IPC.
import { createHash, randomBytes } from 'node:crypto';
import { connect } from 'node:net';

/** @type {{ socket: import('node:net').Socket, bytes: number }[]} */
let connections = [];
/** How long deliveries took, in microseconds: both processes read the same clock. */
let times = [];

process.on('message', async ({ act, ...rest }) => {
  if (act === 'connect') {
    await open(rest);
    process.send({ done: act });
  } else if (act === 'reset') {
    for (const each of connections) each.bytes = 0;
    process.send({ done: act });
  } else if (act === 'count') {
    const bytes = connections.map((each) => each.bytes);
    process.send({ done: act, least: Math.min(...bytes), most: Math.max(...bytes) });
  } else if (act === 'time') {
    times = [];
    for (const [index, each] of connections.entries()) each.timed = index % rest.every === 0;
    process.send({ done: act });
  } else if (act === 'times') {
    times.sort((a, b) => a - b);
    const at = (part) => times[Math.min(times.length - 1, Math.floor(times.length * part))];
    process.send({ done: act, count: times.length, p50: at(0.5), p99: at(0.99), p999: at(0.999) });
  } else if (act === 'close') {
    for (const { socket } of connections) socket.destroy();
    connections = [];
    process.send({ done: act });
  }
});

/** Opens `count` WebSockets, 100 at a time, each saying `first` (if given) and waiting for an answer to it. */
async function open({ port, path, protocol, count, first, raw, deaf }) {
  for (let opened = 0; opened < count; opened += 100)
    connections.push(
      ...(await Promise.all(
        Array.from({ length: Math.min(100, count - opened) }, () =>
          raw ? openRaw(port) : openOne(port, path, protocol, first),
        ),
      )),
    );
  // They take nothing any more, and say nothing of it.
  if (deaf) for (const { socket } of connections) socket.pause();
}

/** A connection without WebSocket, on which only bytes are counted. */
function openRaw(port) {
  return new Promise((resolve, reject) => {
    const socket = connect(port, '127.0.0.1', () => resolve(each));
    const each = { socket, bytes: 0 };
    socket.on('error', reject);
    socket.on('data', (data) => {
      each.bytes += data.length;
    });
  });
}

function openOne(port, path, protocol, first) {
  return new Promise((resolve, reject) => {
    const socket = connect(port, '127.0.0.1');
    const key = randomBytes(16).toString('base64');
    const accept = createHash('sha1').update(`${key}258EAFA5-E914-47DA-95CA-C5AB0DC85B11`).digest('base64');
    socket.on('error', reject);
    // Later a cut connection is the service's business.
    socket.on('close', () => {});
    socket.write(
      `GET ${path} HTTP/1.1\r\nHost: 127.0.0.1:${port}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n` +
        `Sec-WebSocket-Key: ${key}\r\nSec-WebSocket-Version: 13\r\n` +
        `${protocol === undefined ? '' : `Sec-WebSocket-Protocol: ${protocol}\r\n`}\r\n`,
    );
    let upgraded = false;
    const each = { socket, bytes: 0 };
    const ready = () => {
      socket.removeListener('data', onData);
      socket.on('data', (data) => {
        each.bytes += data.length;
        if (each.timed) {
          const now = process.hrtime.bigint();
          for (const [, sent] of data.toString('latin1').matchAll(/"sent":"(\d+)"/g))
            times.push(Number(now - BigInt(sent)) / 1000);
        }
      });
      resolve(each);
    };
    const onData = (data) => {
      if (upgraded) return ready();
      if (!data.includes(accept)) return reject(new Error(`no upgrade: ${data.toString().slice(0, 200)}`));
      upgraded = true;
      if (first === undefined) ready();
      else socket.write(masked(first));
    };
    socket.on('data', onData);
  });
}

/** A client's text frame (RFC 6455, section 5.3); a mask of zeros is a mask too. */
function masked(text) {
  const payload = Buffer.from(text);
  const head =
    payload.length < 126
      ? Buffer.from([0x81, 0x80 | payload.length])
      : Buffer.from([0x81, 0x80 | 126, payload.length >> 8, payload.length & 255]);
  return Buffer.concat([head, Buffer.alloc(4), payload]);
}

// The parent has ended.
process.on('disconnect', () => process.exit());
