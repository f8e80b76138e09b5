import type { RedisNames } from './redisNames.js';
import type { RedisServer } from './redisServer.js';
import { probeTries } from './redisServers.js';

/**
 * After so many probes, one a second, of which none came back, a Redis is given up and opened again. Counted and not timed:
 * a process that was busy for long hears late what came in time.
 */
const maxUnheard = 3;

/** Finds out whether something is heard on every connection: publishes to each server on a topic of its own. */
export class RedisProbes {
  readonly #names: RedisNames;
  readonly #id: string;
  /** By the topics: how many probes have not come back. */
  readonly #unheard = new Map<string, number>();

  /** @param id - tells the probes of this process from those of others */
  constructor(names: RedisNames, id: string) {
    this.#names = names;
    this.#id = id;
  }

  /** The connections have broken. */
  forget(): void {
    this.#unheard.clear();
  }

  /** Takes what was heard on a topic. Gives whether it was a probe. */
  heard(name: string): boolean {
    if (!this.#unheard.has(name)) return false;
    this.#unheard.set(name, 0);
    return true;
  }

  /** Sends a probe to each server. Gives how many of one have not come back, where it is to be given up. */
  send(server: RedisServer, listener: (text: string, name: string) => void): number | undefined {
    const places = new Set<string>();
    for (let n = 0; n < (server.isCluster ? probeTries : 1); n++) {
      const topic = this.#names.attempt(n, `probe ${this.#id}`);
      try {
        const place = server.placeOf(topic);
        if (places.has(place)) continue;
        places.add(place);
      } catch {
        continue;
      }
      const unheard = this.#unheard.get(topic);
      if (unheard === undefined) server.subscribe(topic, listener).catch(() => {});
      else if (unheard >= maxUnheard) return unheard;
      this.#unheard.set(topic, (unheard ?? 0) + 1);
      server.send(topic, ['SPUBLISH', topic, '']).catch(() => {});
    }
    return undefined;
  }
}
