import { type Problem, ProblemError } from '@nine-bells/wire';

/** What passes between two processes: calls, their results or errors, and words that get no answer. */
type Parcel =
  | readonly ['call', number, string, readonly unknown[]]
  | readonly ['gave', number, unknown]
  | readonly ['failed', number, { readonly problem?: Problem; readonly message: string }]
  | readonly ['word', string, readonly unknown[]];

/** The other process, as far as messages to it are concerned. */
export interface Peer {
  /** Sends what was gathered within a turn. */
  send(parcels: readonly unknown[]): void;
  listen(receive: (parcels: readonly unknown[]) => void): void;
}

/** What the other process may ask for. */
export interface Served {
  call(method: string, args: readonly unknown[]): Promise<unknown>;
  word(name: string, args: readonly unknown[]): void;
}

/** The methods of a port of the other process that pass as they are: arguments and results are plain values. */
export function remoteMethods<Port, Name extends keyof Port & string>(
  calls: Pick<Calls, 'call'>,
  port: string,
  names: readonly Name[],
): Pick<Port, Name> {
  const methods = names.map((name) => [name, (...args: unknown[]) => calls.call(`${port}.${name}`, ...args)]);
  // `Object.fromEntries` forgets the names.
  return Object.fromEntries(methods) as unknown as Pick<Port, Name>;
}

/** Calls into another process of this machine, and serves those from there. What is said in a turn goes in one message. */
export class Calls {
  readonly #peer: Peer;
  readonly #served: Served;
  readonly #waiting = new Map<number, { resolve(value: unknown): void; reject(error: Error): void }>();
  #gathered: Parcel[] = [];
  #lastId = 0;

  constructor(peer: Peer, served: Served) {
    this.#peer = peer;
    this.#served = served;
    peer.listen((parcels) => {
      for (const each of parcels) this.#take(each as Parcel);
    });
  }

  /** Rejects as the other side does; a `ProblemError` stays one. */
  call<T>(method: string, ...args: readonly unknown[]): Promise<T> {
    const id = ++this.#lastId;
    return new Promise<T>((resolve, reject) => {
      this.#waiting.set(id, { resolve: resolve as (value: unknown) => void, reject });
      this.#send(['call', id, method, args]);
    });
  }

  word(name: string, ...args: readonly unknown[]): void {
    this.#send(['word', name, args]);
  }

  #send(parcel: Parcel): void {
    if (this.#gathered.push(parcel) > 1) return;
    setImmediate(() => {
      const parcels = this.#gathered;
      this.#gathered = [];
      this.#peer.send(parcels);
    });
  }

  #take(parcel: Parcel): void {
    if (parcel[0] === 'call') void this.#serve(parcel[1], parcel[2], parcel[3]);
    else if (parcel[0] === 'word') this.#served.word(parcel[1], parcel[2]);
    else {
      const waiting = this.#waiting.get(parcel[1]);
      this.#waiting.delete(parcel[1]);
      if (parcel[0] === 'gave') waiting?.resolve(parcel[2] ?? undefined);
      else waiting?.reject(errorOf(parcel[2]));
    }
  }

  async #serve(id: number, method: string, args: readonly unknown[]): Promise<void> {
    try {
      this.#send(['gave', id, await this.#served.call(method, args)]);
    } catch (error) {
      const { message } = error as Error;
      this.#send(['failed', id, error instanceof ProblemError ? { problem: error.problem, message } : { message }]);
    }
  }
}

function errorOf({ problem, message }: { readonly problem?: Problem; readonly message: string }): Error {
  return problem === undefined ? new Error(message) : new ProblemError(problem);
}
