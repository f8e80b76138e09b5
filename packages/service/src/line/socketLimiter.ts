import { readFileSync } from 'node:fs';
import type { Server } from 'node:http';
import type { Socket } from 'node:net';
import { canonicalAddress, type Engine, unitOf } from '@nine-bells/core';
import proxyAddr from 'proxy-addr';

/** Sockets beside those of lines: calls of the HTTP interface, the console, clients that have said nothing yet. */
const besideLines = 2_000;
/** The same from one address. */
const besideLinesOfOne = 200;
/** Files that the process needs for itself: the database, the relay, logs. */
const ownFiles = 200;

/** Timeouts for the head of a request and for the whole request, in milliseconds. */
const headersMs = 10_000;
const requestMs = 60_000;
/** Check interval of these timeouts, in milliseconds. */
const lookMs = 2_000;

/** The address that a socket counts for. */
const countedFor = Symbol('address');
type Counted = Socket & { [countedFor]?: string | undefined };

/**
 * Idle timeout of a connection, in milliseconds. It exceeds the idle timeout of common clients and proxies (60 s), so that the
 * service does not close a connection while they send the next request over it.
 */
const idleMs = 75_000;

/** Options of `createServer`: a client that sends its request byte by byte is not waited for. */
export const serverTimeouts = {
  keepAliveTimeout: idleMs,
  headersTimeout: headersMs,
  requestTimeout: requestMs,
  connectionsCheckingInterval: lookMs,
} as const;

/**
 * Bounds the sockets of an HTTP server, whatever they are for: in all, and for each address that is not a trusted proxy's.
 * Beyond it a new connection is closed at once, which costs less than to run out of file descriptors.
 */
export function boundSockets(server: Server, engine: Engine, trustedProxies: readonly string[]): void {
  const { connections, connectionsPerAddress } = engine.options;
  const files = maxFiles();
  const most = Math.min(connections + besideLines, (files ?? Number.POSITIVE_INFINITY) - ownFiles);
  const isProxy = proxyAddr.compile([...trustedProxies]);
  const byAddress = new Map<string, number>();
  let all = 0;
  // One function for all sockets: there are very many.
  function closed(this: Counted): void {
    all -= 1;
    const address = this[countedFor];
    if (address === undefined) return;
    const left = (byAddress.get(address) ?? 1) - 1;
    if (left === 0) byAddress.delete(address);
    else byAddress.set(address, left);
  }
  server.on('connection', (socket: Counted) => {
    const remote = canonicalAddress(socket.remoteAddress ?? '');
    const address = remote === '' || isProxy(remote, 0) ? undefined : unitOf(remote);
    const here = address === undefined ? 0 : (byAddress.get(address) ?? 0);
    if (all >= most || here >= connectionsPerAddress + besideLinesOfOne) {
      engine.refusals.add({ code: 'too-many-connections', act: 'socket', address: remote });
      socket.destroy();
      return;
    }
    all += 1;
    if (address !== undefined) byAddress.set(address, here + 1);
    socket[countedFor] = address;
    socket.on('close', closed);
  });
}

/**
 * Returns a warning if the process may open too few files; `undefined` if the limit suffices.
 *
 * @param connections - as the operator has set it; by default there are as many as there is room for
 */
export function filesWarning(connections: number | undefined, files = maxFiles()): string | undefined {
  if (connections === undefined) return undefined;
  const needed = connections + besideLines + ownFiles;
  if (files === undefined || files >= needed) return undefined;
  return `the process may open ${files} files, and ${needed} are needed for limits.connections (${connections}): raise the limit (ulimit -n, LimitNOFILE), or lower limits.connections`;
}

/** Returns the maximum number of open files (RLIMIT_NOFILE); `undefined` if unknown or unlimited. */
function maxFiles(): number | undefined {
  try {
    const soft = /^Max open files +(\d+)/m.exec(readFileSync('/proc/self/limits', 'utf8'))?.[1];
    return soft === undefined ? undefined : Number(soft);
  } catch {
    return undefined;
  }
}
