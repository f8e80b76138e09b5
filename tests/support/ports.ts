import { connect, createServer } from 'node:net';

/** Ports below those that the system gives to connections and to listeners on port 0: no other test is given one by chance. */
const first = 10_000;
const last = 32_000;

/** Returns a port that nothing listens on. Engines need one in advance, so that they can be started again on it. */
export async function freePort(): Promise<number> {
  for (;;) {
    const port = first + Math.floor(Math.random() * (last - first));
    if (await isFree(port)) return port;
  }
}

function isFree(port: number): Promise<boolean> {
  return new Promise((resolve) => {
    const server = createServer()
      .once('error', () => resolve(false))
      .listen(port, '127.0.0.1', () => server.close(() => resolve(true)));
  });
}

/** Returns whether connections to a port are accepted. */
export function accepts(port: number): Promise<boolean> {
  return new Promise((resolve) => {
    const socket = connect(port, '127.0.0.1', () => resolve(true)).on('error', () => resolve(false));
    socket.on('connect', () => socket.destroy());
  });
}
