/** A plug that can be pulled: while it is, the browser's WebSocket reaches nothing, as in a tunnel. */
export class Plug {
  #socket: WebSocket | undefined;
  #isPulled = false;

  get isPulled(): boolean {
    return this.#isPulled;
  }

  /** For the `WebSocket` option of `connect`. */
  get WebSocket(): typeof WebSocket {
    const remember = (socket: WebSocket): void => {
      this.#socket = socket;
      if (this.#isPulled) socket.close();
    };
    return class extends WebSocket {
      constructor(url: string | URL, protocols?: string | string[]) {
        super(url, protocols);
        remember(this);
      }
    };
  }

  pull(): void {
    this.#isPulled = true;
    this.#socket?.close(4000);
  }

  putIn(): void {
    this.#isPulled = false;
  }
}
