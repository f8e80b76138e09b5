import calculateSlot from 'cluster-key-slot';
import { createClient, createCluster } from 'redis';

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
  /** A connection is there, or there again. */
  ready(): void;
  lost(): void;
  error(error: Error): void;
}

/** How long to wait for a connection, in milliseconds; and between attempts, at the most. */
const connectMs = 2_000;
const mostWaitMs = 1_000;

function optionsOf(url: string) {
  return {
    url,
    disableOfflineQueue: true,
    // How long a call may take, whoever calls it decides.
    commandOptions: { timeout: undefined as never },
    socket: {
      connectTimeout: connectMs,
      keepAlive: true,
      reconnectStrategy: (retries: number) => Math.min(50 * 2 ** retries, mostWaitMs) + Math.random() * 50,
    },
  } as const;
}

/**
 * Opens a Redis by its URL; where that names a process of a cluster, the whole cluster.
 *
 * @throws if it cannot be reached in any way; whoever calls tries again
 */
export async function openRedis(url: string, events: RedisServerEvents): Promise<RedisServer> {
  const probe = createClient({ ...optionsOf(url), socket: { connectTimeout: connectMs, reconnectStrategy: false } });
  probe.on('error', () => {});
  let isCluster: boolean;
  try {
    await probe.connect();
    isCluster = String(await probe.sendCommand(['INFO', 'cluster'])).includes('cluster_enabled:1');
  } finally {
    probe.destroy();
  }
  return isCluster ? openCluster(url, events) : openSingle(url, events);
}

async function openSingle(url: string, events: RedisServerEvents): Promise<RedisServer> {
  const client = createClient(optionsOf(url));
  const subscriber = client.duplicate();
  for (const each of [client, subscriber]) {
    each.on('error', (error: Error) => events.error(error));
    each.on('reconnecting', () => events.lost());
    each.on('ready', () => events.ready());
  }
  await Promise.all([client.connect(), subscriber.connect()]);
  const send = <T>(_key: string, args: readonly string[]): Promise<T> => client.sendCommand<T>([...args]);
  return {
    isCluster: false,
    send,
    sendThere: send,
    placeOf: () => 'one',
    sendToAll: async <T>(args: readonly string[]) => Promise.allSettled([client.sendCommand<T>([...args])]),
    subscribe: (topic, listener) => subscriber.sSubscribe(topic, listener),
    unsubscribe: (topic, listener) => subscriber.sUnsubscribe(topic, listener),
    close: () => {
      client.destroy();
      subscriber.destroy();
    },
  };
}

async function openCluster(url: string, events: RedisServerEvents): Promise<RedisServer> {
  const { url: _, ...defaults } = optionsOf(url);
  const { username, password } = new URL(url);
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
  cluster.on('node-reconnecting', () => events.lost());
  await cluster.connect();
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
