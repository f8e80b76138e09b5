import type { ChannelName } from '@nine-bells/wire';

/**
 * The names of keys and topics in Redis. What stands in braces decides the slot of a cluster (Redis Cluster specification,
 * "Hash tags"): all of a channel lies in one.
 */
export class RedisNames {
  readonly #prefix: string;

  constructor(prefix: string) {
    this.#prefix = prefix;
  }

  /** The keys of the leases of instances. */
  get leases(): readonly string[] {
    return [`{${this.#prefix}}leases`, `{${this.#prefix}}cards`];
  }

  /** The keys of a channel's record; the last one is of those who append. */
  keysOf(channel: ChannelName): readonly string[] {
    return ['head', 'log', 'changed', 'order'].map((each) => `{${this.#prefix}:${channel}}${each}`);
  }

  /** The key of a channel's board. */
  board(channel: ChannelName): string {
    return `{${this.#prefix}:${channel}}board`;
  }

  /** The key of the progress of databases. */
  get marks(): string {
    return `{${this.#prefix}}marks`;
  }

  claim(name: string): string {
    return `{${this.#prefix}}claim ${name}`;
  }

  topicOf(topic: string): string {
    const [kind = '', ...rest] = topic.split('/');
    return kind === 'c' || kind === 'g' ? `{${this.#prefix}:${rest.join('/')}}${kind}` : `{${this.#prefix}}${topic}`;
  }

  /** The topic of a name that `topicOf` has given: of `{bells:race/3/chat}c` and `{bells}all`. */
  topicIn(name: string): string {
    const end = name.indexOf('}');
    const inside = name.slice(this.#prefix.length + 2, end);
    const rest = name.slice(end + 1);
    return inside === '' ? rest : `${rest}/${inside}`;
  }

  /** A name for the `n`th try to find one in a slot of a certain process. */
  attempt(n: number, what = ''): string {
    return `{${this.#prefix}.${n}}${what}`;
  }
}
