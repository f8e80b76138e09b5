import { createServer, type Server, Socket } from 'node:net';

/** Passes connections on to those backends that take them, in turn: what a load balancer does. */
export class Balancer {
  readonly url: string;
  readonly #server: Server;
  readonly #open = new Map<Socket, string>();
  #next = 0;

  private constructor(server: Server, port: number) {
    this.#server = server;
    this.url = `http://127.0.0.1:${port}`;
  }

  /** @param urls - the backends; may be changed later */
  static start(urls: string[]): Promise<Balancer> {
    return new Promise((resolve) => {
      const server = createServer((near) => void balancer.#pass(near, urls, urls.length));
      let balancer: Balancer;
      server.listen(0, '127.0.0.1', () => {
        balancer = new Balancer(server, (server.address() as { port: number }).port);
        resolve(balancer);
      });
    });
  }

  #pass(near: Socket, urls: readonly string[], tries: number): void {
    near.on('error', () => near.destroy());
    const to = urls[this.#next++ % urls.length];
    if (to === undefined || tries === 0) {
      near.destroy();
      return;
    }
    const { hostname, port } = new URL(to);
    const far = new Socket();
    let isOpen = false;
    far.on('error', () => {
      far.destroy();
      if (isOpen) near.destroy();
      else this.#pass(near, urls, tries - 1);
    });
    far.connect(Number(port), hostname, () => {
      isOpen = true;
      this.#open.set(near, to);
      near.pipe(far).pipe(near);
      for (const [one, other] of [
        [near, far],
        [far, near],
      ] as const)
        one.on('close', () => {
          other.destroy();
          this.#open.delete(near);
        });
    });
  }

  /** Ends the connections that were passed on to a backend. */
  cut(url: string): void {
    for (const [each, to] of this.#open) if (to === url) each.destroy();
  }

  stop(): void {
    this.#server.close();
    for (const each of this.#open.keys()) each.destroy();
  }
}
