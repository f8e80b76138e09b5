import { createServer, type Server, Socket } from 'node:net';

/** How bytes pass in one direction. */
type Passing = 'pass' | 'hold' | 'swallow';

interface Pair {
  readonly near: Socket;
  readonly far: Socket;
  /** What is held, in order. */
  readonly held: (() => void)[];
}

/** A way between the service and an engine that breaks as networks do. It passes on what it gets until told otherwise. */
export class FaultyWay {
  readonly port: number;
  readonly #server: Server;
  readonly #pairs = new Set<Pair>();
  #target: number;
  #passing: Passing = 'pass';
  #delayMs = 0;
  #cut: { chunks: number; when: 'before' | 'after' } | undefined;

  private constructor(server: Server, port: number, target: number) {
    this.#server = server;
    this.port = port;
    this.#target = target;
  }

  /** @param target - the port that it leads to */
  static start(target: number): Promise<FaultyWay> {
    return new Promise((resolve) => {
      let way: FaultyWay;
      const server = createServer((near) => way.#join(near));
      server.listen(0, '127.0.0.1', () => {
        way = new FaultyWay(server, (server.address() as { port: number }).port, target);
        resolve(way);
      });
    });
  }

  /** A URL that leads through it instead of straight to the engine. */
  url(straight: string): string {
    const url = new URL(straight);
    url.port = String(this.port);
    return url.href;
  }

  /** New connections lead elsewhere from now on. */
  leadTo(target: number): void {
    this.#target = target;
  }

  /** Everything passes again, and what was held comes now. A connection of which something was swallowed stays silent. */
  heal(): void {
    this.#passing = 'pass';
    this.#delayMs = 0;
    this.#cut = undefined;
    for (const { held } of this.#pairs) for (const pass of held.splice(0)) pass();
  }

  /** Nothing passes for a while, and nothing is lost. */
  hold(): void {
    this.#passing = 'hold';
  }

  /** What is sent from now on is lost, and neither side is told: a frozen host, a firewall that forgets. */
  swallow(): void {
    this.#passing = 'swallow';
  }

  /** Connections of now stay silent for good; new ones are sound. */
  silence(): void {
    for (const pair of this.#pairs) this.#pairs.delete(pair);
  }

  delay(ms: number): void {
    this.#delayMs = ms;
  }

  /** Ends all connections. */
  cut(): void {
    for (const { near, far } of this.#pairs) {
      near.destroy();
      far.destroy();
    }
  }

  /** Ends all connections when the service has sent so many more pieces: before the last one is passed on, or after. */
  cutAfter(chunks: number, when: 'before' | 'after'): void {
    this.#cut = { chunks, when };
  }

  stop(): void {
    this.cut();
    this.#server.close();
  }

  #join(near: Socket): void {
    const far = new Socket().connect(this.#target, '127.0.0.1');
    const pair: Pair = { near, far, held: [] };
    this.#pairs.add(pair);
    near.setNoDelay(true);
    far.setNoDelay(true);
    for (const [from, to] of [
      [near, far],
      [far, near],
    ] as const) {
      from.on('error', () => {});
      from.on('data', (data: Buffer) => this.#pass(pair, to, data));
      from.on('close', () => {
        if (this.#pairs.has(pair)) to.destroy();
        this.#pairs.delete(pair);
      });
    }
  }

  #pass(pair: Pair, to: Socket, data: Buffer): void {
    if (!this.#pairs.has(pair)) return;
    if (this.#passing === 'swallow') {
      // Bytes do not get lost out of the middle of a connection.
      this.#pairs.delete(pair);
      return;
    }
    const isCut = to === pair.far && this.#cut !== undefined && --this.#cut.chunks === 0;
    if (isCut && this.#cut?.when === 'before') {
      this.#cut = undefined;
      this.cut();
      return;
    }
    const pass = (): void => void to.write(data);
    const { held } = pair;
    if (this.#passing === 'hold') held.push(pass);
    else if (this.#delayMs > 0) {
      held.push(pass);
      // Unless it has come already, with what was held.
      setTimeout(() => held.splice(0, held.indexOf(pass) + 1).forEach((each) => void each()), this.#delayMs);
    } else pass();
    if (!isCut) return;
    this.#cut = undefined;
    // What was passed on is carried out; its answer is not heard.
    pair.far.removeAllListeners('data');
    setTimeout(() => this.cut(), 20);
  }
}
