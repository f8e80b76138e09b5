import calculateSlot from 'cluster-key-slot';
import { readSentinels, type Sentinels } from '../config/sentinels.js';

/** The client of Redis takes long to load, and most services have no relay. */
const redis = () => import('redis');

/** What comes in on a topic. */
export type Listener = (text: string, topic: string) => void;

/** A Redis, of one process or a cluster of them, as far as the exchange needs it. */
export interface RedisServer {
  readonly isCluster: boolean;
  /** Sends a command to whichever process has the key. Rejects at once while there is no connection. */
  send<T>(key: string, args: readonly string[]): Promise<T>;
  /** Sends a command to the very process that has the key by what is known, without following it elsewhere. */
  sendThere<T>(key: string, args: readonly string[]): Promise<T>;
  /** Of the process that has the key by what is known: the same text as long as it is the same. */
  placeOf(key: string): string;
  /** Every process that takes writes, for a command to each. */
  sendToAll<T>(args: readonly string[]): Promise<readonly PromiseSettledResult<T>[]>;
  subscribe(topic: string, listener: Listener): Promise<void>;
  unsubscribe(topic: string, listener: Listener): Promise<void>;
  close(): void;
}

export interface RedisServerEvents {
  /** A connection is there again. */
  ready(): void;
  /** A connection was lost: `for good` if another server must be opened. */
  lost(how: 'for a while' | 'for good'): void;
  error(error: Error): void;
}

/** How long to wait for a connection, in milliseconds; and between attempts, at most. */
const connectMs = 2_000;
const maxWaitMs = 1_000;
/** How long a server may take to answer the first commands on a new connection, in milliseconds. */
const answerMs = 3_000;

/** The options of all connections. They reconnect by themselves only in a cluster, whose client knows where to. */
function optionsOf(url: string, reconnectStrategy: false | ((retries: number) => number) = false) {
  return {
    url,
    disableOfflineQueue: true,
    // The caller decides how long a call may take.
    commandOptions: { timeout: undefined as never },
    socket: { connectTimeout: connectMs, keepAlive: true, reconnectStrategy },
  } as const;
}

/**
 * Opens a Redis by its URL; where that names a process of a cluster, the whole cluster.
 *
 * With `redis+sentinel://HOST:PORT,HOST:PORT/NAME` the sentinels are asked, one after the other, where the master of this
 * name is.
 *
 * @throws if it cannot be reached, or does not answer in time
 */
export async function openRedis(url: string, events: RedisServerEvents): Promise<RedisServer> {
  const sentinels = readSentinels(url);
  const masterUrl = sentinels === undefined ? url : await askSentinels(sentinels);
  const info = await asking(masterUrl, async (send) => String(await send(['INFO', 'cluster', 'replication'])));
  const isCluster = info.includes('cluster_enabled:1');
  if (!isCluster && !info.includes('role:master')) throw new Error('READONLY it is a replica, and takes no writes');
  return isCluster ? openCluster(masterUrl, events) : openSingle(masterUrl, events);
}

/** The URL of the master, as the first sentinel says that answers. */
async function askSentinels({ credentials, addresses, name }: Sentinels): Promise<string> {
  let last: unknown;
  for (const address of addresses) {
    try {
      const found = await asking<unknown>(`redis://${address}`, (send) =>
        send(['SENTINEL', 'GET-MASTER-ADDR-BY-NAME', name]),
      );
      if (!Array.isArray(found)) throw new Error(`the sentinel ${address} knows no master ${name}`);
      const [host, port] = found.map(String) as [string, string];
      return `redis://${credentials}${host.includes(':') ? `[${host}]` : host}:${port}`;
    } catch (error) {
      last = error;
    }
  }
  throw last;
}

/** Asks a server something on a connection of its own. */
async function asking<T>(url: string, ask: (send: (args: string[]) => Promise<unknown>) => Promise<T>): Promise<T> {
  const { createClient } = await redis();
  const probe = createClient(optionsOf(url));
  probe.on('error', () => {});
  try {
    await within(probe.connect());
    return await within(ask((args) => probe.sendCommand(args)));
  } finally {
    probe.destroy();
  }
}

async function openSingle(url: string, events: RedisServerEvents): Promise<RedisServer> {
  const { createClient } = await redis();
  const client = createClient(optionsOf(url));
  const subscriber = client.duplicate();
  const close = (): void => {
    client.destroy();
    subscriber.destroy();
  };
  let isOpen = false;
  for (const each of [client, subscriber])
    each.on('error', (error: Error) => {
      events.error(error);
      if (isOpen) events.lost('for good');
    });
  try {
    await within(Promise.all([client.connect(), subscriber.connect()]));
  } catch (error) {
    close();
    throw error;
  }
  isOpen = true;
  const send = <T>(_key: string, args: readonly string[]): Promise<T> => client.sendCommand<T>([...args]);
  return {
    isCluster: false,
    send,
    sendThere: send,
    placeOf: () => onePlace,
    sendToAll: async <T>(args: readonly string[]) => Promise.allSettled([client.sendCommand<T>([...args])]),
    subscribe: (topic, listener) => subscriber.sSubscribe(topic, listener),
    unsubscribe: (topic, listener) => subscriber.sUnsubscribe(topic, listener),
    close: () => {
      isOpen = false;
      close();
    },
  };
}

/** The place of a Redis that is no cluster. */
export const onePlace = 'one';

async function openCluster(url: string, events: RedisServerEvents): Promise<RedisServer> {
  const again = (retries: number): number => Math.min(50 * 2 ** retries, maxWaitMs) + Math.random() * 50;
  const { url: _, ...defaults } = optionsOf(url, again);
  const { username, password } = new URL(url);
  const { createCluster } = await redis();
  const cluster = createCluster({
    rootNodes: [{ url }],
    defaults: {
      ...defaults,
      ...(username === '' ? {} : { username: decodeURIComponent(username) }),
      ...(password === '' ? {} : { password: decodeURIComponent(password) }),
    },
  });
  cluster.on('error', (error: Error) => events.error(error));
  cluster.on('node-error', (error: Error) => events.error(error));
  cluster.on('node-ready', () => events.ready());
  cluster.on('node-reconnecting', () => events.lost('for a while'));
  try {
    await within(cluster.connect());
  } catch (error) {
    cluster.destroy();
    throw error;
  }
  const masterOf = (key: string) => {
    const master = cluster.slots[calculateSlot(key)]?.master;
    if (master === undefined) throw new Error('no process of the Redis cluster has the slot of this key');
    return master;
  };
  return {
    isCluster: true,
    send: <T>(key: string, args: readonly string[]): Promise<T> => cluster.sendCommand<T>(key, false, [...args]),
    sendThere: async <T>(key: string, args: readonly string[]): Promise<T> => {
      const client = await cluster.nodeClient(masterOf(key));
      return client.sendCommand<T>([...args]);
    },
    placeOf: (key) => masterOf(key).address,
    sendToAll: <T>(args: readonly string[]) =>
      Promise.allSettled(
        cluster.masters.map(async (master) => (await cluster.nodeClient(master)).sendCommand<T>([...args])),
      ),
    subscribe: (topic, listener) => cluster.sSubscribe(topic, listener),
    unsubscribe: (topic, listener) => cluster.sUnsubscribe(topic, listener),
    close: () => cluster.destroy(),
  };
}

/** A server that has stopped takes connections and answers nothing. */
async function within<T>(answer: Promise<T>): Promise<T> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<never>((_, reject) => {
    timer = setTimeout(() => reject(new Error(`Redis has not answered within ${answerMs} ms`)), answerMs);
  });
  try {
    return await Promise.race([answer, late]);
  } finally {
    clearTimeout(timer);
    answer.catch(() => {});
  }
}
