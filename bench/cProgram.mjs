// The C program of this folder as one more subject, if there is a C compiler.
import { spawn, spawnSync } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';

/** Starts it; `undefined` where it cannot be built. */
export async function cProgram(connections) {
  const folder = mkdtempSync(join(tmpdir(), 'bells-bench-c-'));
  const binary = join(folder, 'fanout');
  const source = fileURLToPath(new URL('fanout.c', import.meta.url));
  const { status, error } = spawnSync('cc', ['-O2', '-o', binary, source], { stdio: ['ignore', 'ignore', 'inherit'] });
  if (error !== undefined || status !== 0) {
    rmSync(folder, { recursive: true });
    return undefined;
  }
  const child = spawn(binary, [String(connections)], { stdio: ['pipe', 'pipe', 'inherit'] });
  const lines = createInterface({ input: child.stdout })[Symbol.asyncIterator]();
  const line = async () => (await lines.next()).value;
  const port = Number(await line());
  return {
    port,
    /** Writes for a while; how many messages, in how many seconds, with how many of the processor's. */
    async run(bytes, burst, ms) {
      child.stdin.write(`${bytes} ${burst} ${ms}\n`);
      const [messages, seconds, cpu] = (await line()).split(' ').map(Number);
      return { messages, seconds, cpu };
    },
    stop() {
      child.kill();
      rmSync(folder, { recursive: true });
    },
  };
}
