import { unitOf } from './addresses.js';

/** Maximum number of operations in flight. */
export interface InFlightLimits {
  readonly perUser: number;
  /** Counts an IPv4 address, or a /64 network of IPv6. */
  readonly perAddress: number;
}

/** The user who starts an operation, and their address. Without an address only the limit per user applies. */
export interface Origin {
  readonly user: string;
  readonly address?: string | undefined;
}

/** Counts operations in flight, and limits them per user and per address. */
export class InFlight {
  readonly #ofUsers: Counter;
  readonly #ofAddresses: Counter;

  constructor({ perUser, perAddress }: InFlightLimits) {
    this.#ofUsers = new Counter(perUser);
    this.#ofAddresses = new Counter(perAddress);
  }

  isFull({ user, address }: Origin): boolean {
    return this.#ofUsers.isFull(user) || (address !== undefined && this.#ofAddresses.isFull(unitOf(address)));
  }

  begin(origin: Origin): void {
    this.#add(origin, 1);
  }

  end(origin: Origin): void {
    this.#add(origin, -1);
  }

  #add({ user, address }: Origin, by: 1 | -1): void {
    this.#ofUsers.add(user, by);
    if (address !== undefined) this.#ofAddresses.add(unitOf(address), by);
  }
}

class Counter {
  readonly #max: number;
  readonly #counts = new Map<string, number>();

  constructor(max: number) {
    this.#max = max;
  }

  isFull(key: string): boolean {
    return (this.#counts.get(key) ?? 0) >= this.#max;
  }

  add(key: string, by: 1 | -1): void {
    const count = (this.#counts.get(key) ?? 0) + by;
    if (count > 0) this.#counts.set(key, count);
    else this.#counts.delete(key);
  }
}
