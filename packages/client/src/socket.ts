/** What the line needs of a WebSocket class: the browsers' own, or that of the package `ws`. */
export interface SocketLike {
  onopen: ((event: never) => void) | null;
  onmessage: ((event: never) => void) | null;
  onclose: ((event: never) => void) | null;
  onerror: ((event: never) => void) | null;
  /** 1: it takes frames (WebSockets, `readyState`). */
  readonly readyState?: number;
  send(data: string): void;
  close(code?: number, reason?: string): void;
}

export type SocketClass = new (url: string, protocols: string[]) => SocketLike;

/**
 * The WebSocket class of the surroundings, or of the optional peer `ws` where there is none (Node.js 20).
 *
 * @throws {Error} if there is neither
 */
export async function findSocketClass(): Promise<SocketClass> {
  const own = (globalThis as { WebSocket?: SocketClass }).WebSocket;
  if (own !== undefined) return own;
  try {
    // Not written out, so that bundlers for browsers do not look for it.
    const name = 'ws';
    const { WebSocket } = (await import(/* @vite-ignore */ name)) as { WebSocket: SocketClass };
    return WebSocket;
  } catch (error) {
    throw new Error('there is no WebSocket here: in Node.js 20, install the package `ws`', { cause: error });
  }
}
