import { Socket } from 'node:net';

/**
 * The sockets to a shared database. A connection that is closed waits until its other side has closed too; one that has gone
 * silent never does, and would keep the process from ending.
 */
export class Sockets {
  readonly #open = new Set<Socket>();

  /** Makes one that is not connected yet, as the driver asks for it. */
  readonly make = (): Socket => {
    const socket = new Socket();
    this.#open.add(socket);
    socket.once('close', () => this.#open.delete(socket));
    return socket;
  };

  /** Destroys the sockets that are still open, without waiting for the other side. */
  destroy(): void {
    for (const each of this.#open) each.destroy();
  }
}
