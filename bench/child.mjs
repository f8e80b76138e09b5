import { fork } from 'node:child_process';
import { fileURLToPath } from 'node:url';

/** A process of the benchmark, told what to do by messages that it answers one after another. */
export class Child {
  #process;

  constructor(file, execArgv = [], env = {}) {
    this.#process = fork(fileURLToPath(new URL(file, import.meta.url)), { execArgv, env: { ...process.env, ...env } });
    this.#process.on('exit', (code) => {
      if (code !== 0 && code !== null) throw new Error(`${file} ended with exit code ${code}`);
    });
  }

  get pid() {
    return this.#process.pid;
  }

  ask(message) {
    return new Promise((resolve) => {
      this.#process.once('message', resolve);
      this.#process.send(message);
    });
  }

  end() {
    this.#process.removeAllListeners('exit');
    this.#process.kill();
  }
}

export function median(values) {
  const sorted = [...values].sort((a, b) => a - b);
  return sorted[Math.floor(sorted.length / 2)];
}

export const turn = () => new Promise((resolve) => setImmediate(resolve));
