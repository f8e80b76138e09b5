import { connect, createServer, type Server, type Socket } from 'node:net';

/** What one call writes to at most; the core hands over fewer. */
export const maxLinks = 1024;
/** How long the self-test may take, in milliseconds. */
const testMs = 2_000;
/** More than any socket buffer holds, in bytes: a write of it would have to wait. */
const moreThanFits = 64 * 1024 * 1024;

/** A native writer that has passed its self-test, with the lists that it reads and fills. */
export interface TestedWriter {
  readonly write: (bytes: Uint8Array, count: number) => number;
  readonly fds: Int32Array;
  readonly took: Int32Array;
}

/** How frames are written to plain sockets: by the native writer, or through streams, and why. */
export type WriterChoice =
  | { readonly use: 'native'; readonly writer: TestedWriter }
  | { readonly use: 'streams'; readonly why: string };

/** The descriptor of an open TCP socket; -1 if it has none, as where it was destroyed. */
export function descriptorOf(handle: Handle | null | undefined): number {
  const fd = handle?.fd;
  return typeof fd === 'number' && fd > 2 ? fd : -1;
}

/** The object of a socket that has its descriptor. */
export interface Handle {
  readonly fd?: number;
  /** Bytes that the system has not taken; libuv counts it down while a large write is sent. */
  readonly writeQueueSize?: number;
}

/** The handle of a socket: the same object until it is destroyed, and closes its descriptor; then `null`. */
export function handleOf(socket: Socket): Handle | null {
  // Not in the types. The self-test looks whether it is there.
  return (socket as unknown as { readonly _handle?: Handle | null })._handle ?? null;
}

/** The self-test, made once per process: it moves several megabytes. */
let tested: Promise<void> | undefined;

/**
 * Loads the native writer and tests it on a pair of sockets of its own: it must write all of a short text, and take as much
 * of a long one as the other side then gets.
 *
 * @param isWanted - `false`: it is switched off
 */
export async function chooseWriter(isWanted: boolean): Promise<WriterChoice> {
  if (!isWanted) return { use: 'streams', why: 'the native writer is switched off' };
  try {
    const { loadNativeWriter } = await import('@nine-bells/writer');
    const native = loadNativeWriter();
    const lists = { fds: new Int32Array(maxLinks), took: new Int32Array(maxLinks) };
    const write = (bytes: Uint8Array, count: number): number => native.write(bytes, lists.fds, lists.took, count);
    const writer = { ...lists, write };
    tested ??= testOnPair(writer);
    await tested;
    return { use: 'native', writer };
  } catch (error) {
    return { use: 'streams', why: `the native writer cannot be used: ${(error as Error).message.split('\n')[0]}` };
  }
}

/** @throws {Error} saying what is wrong with it */
export async function testOnPair(writer: TestedWriter): Promise<void> {
  const { near, far, close } = await openPair();
  try {
    const handle = handleOf(near);
    const fd = descriptorOf(handle);
    if (fd < 0) throw new Error('a socket does not tell its descriptor');
    let received = 0;
    far.on('data', (data) => {
      received += data.length;
    });
    const written = { bytes: 0 };
    const write = (bytes: Uint8Array): number => {
      writer.fds[0] = fd;
      const untaken = writer.write(bytes, 1);
      const took = writer.took[0] as number;
      if (took < 0 || took > bytes.length || took < bytes.length !== (untaken === 1))
        throw new Error(`it says that ${took} of ${bytes.length} bytes were taken`);
      written.bytes += took;
      return took;
    };
    if (write(Buffer.from('nine bells')) !== 10) throw new Error('a short text is not written at once');
    far.pause();
    if (write(Buffer.alloc(moreThanFits)) === moreThanFits)
      throw new Error('a write that would have to wait does not end');
    if (write(Buffer.alloc(moreThanFits)) === moreThanFits) throw new Error('a full socket takes everything');
    far.resume();
    await until(() => received >= written.bytes, 'what was written does not arrive');
    near.destroy();
    if (handleOf(near) !== null) throw new Error('a socket that was destroyed keeps its handle');
  } finally {
    close();
  }
}

async function openPair(): Promise<{ near: Socket; far: Socket; close(): void }> {
  const server: Server = createServer();
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    // Of this process alone: a port that workers share would give the connection to any of them.
    server.listen({ port: 0, host: '127.0.0.1', exclusive: true }, resolve);
  });
  const accepted = new Promise<Socket>((resolve) => server.once('connection', resolve));
  const far = connect((server.address() as { port: number }).port, '127.0.0.1');
  far.on('error', () => {});
  const late = new Promise<undefined>((resolve) => setTimeout(resolve, testMs, undefined).unref());
  const near = await Promise.race([accepted, late]);
  if (near === undefined) {
    far.destroy();
    server.close();
    throw new Error('a connection to this process does not come about');
  }
  near.on('error', () => {});
  const close = (): void => {
    near.destroy();
    far.destroy();
    server.close();
  };
  return { near, far, close };
}

async function until(look: () => boolean, otherwise: string): Promise<void> {
  for (const endMs = Date.now() + testMs; !look(); ) {
    if (Date.now() > endMs) throw new Error(otherwise);
    await new Promise((resolve) => setTimeout(resolve, 1));
  }
}
