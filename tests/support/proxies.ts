import { type ChildProcess, spawn } from 'node:child_process';
import { existsSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { createServer as createHttpServer, request } from 'node:http';
import { createServer, type Server, Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { accepts, freePort } from './ports.js';
import { until } from './until.js';

const nginx = '/usr/sbin/nginx';
export const nginxIsThere = existsSync(nginx);

/** An nginx of this test's own, in a folder of its own, before the service. */
export class Nginx {
  readonly url: string;
  readonly #folder: string;
  readonly #port: number;
  readonly #process: ChildProcess;

  private constructor(folder: string, port: number, process: ChildProcess) {
    this.#folder = folder;
    this.#port = port;
    this.#process = process;
    this.url = `http://127.0.0.1:${port}`;
  }

  /** @param location - what stands in the location that passes everything on */
  static async start(service: string, location: string): Promise<Nginx> {
    const folder = mkdtempSync(join(tmpdir(), 'bells-nginx-'));
    const port = await freePort();
    mkdirSync(join(folder, 'logs'));
    write(folder, port, service, location);
    const child = spawn(nginx, ['-p', folder, '-c', join(folder, 'nginx.conf'), '-e', join(folder, 'logs/error.log')], {
      stdio: 'ignore',
    });
    const started = new Nginx(folder, port, child);
    await until(() => accepts(port));
    return started;
  }

  /** Goes on with another location, without ending connections that are open. */
  change(service: string, location: string): void {
    write(this.#folder, this.#port, service, location);
    this.#process.kill('SIGHUP');
  }

  async stop(): Promise<void> {
    const ended = new Promise((resolve) => this.#process.once('exit', resolve));
    this.#process.kill('SIGTERM');
    await ended;
    rmSync(this.#folder, { recursive: true, force: true });
  }
}

function write(folder: string, port: number, service: string, location: string): void {
  writeFileSync(
    join(folder, 'nginx.conf'),
    `daemon off;
    pid ${folder}/nginx.pid;
    worker_processes 1;
    events { worker_connections 256; }
    http {
      access_log off;
      client_body_temp_path ${folder}/body;
      proxy_temp_path ${folder}/proxy;
      fastcgi_temp_path ${folder}/fastcgi;
      uwsgi_temp_path ${folder}/uwsgi;
      scgi_temp_path ${folder}/scgi;
      map $http_upgrade $connection_upgrade { default upgrade; '' close; }
      server {
        listen 127.0.0.1:${port};
        location / {
          proxy_pass ${service};
          proxy_http_version 1.1;
          proxy_set_header Host $host;
          proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for;
          ${location}
        }
      }
    }`,
  );
}

/** A way to the service that can be made to swallow everything without a word, as a broken network does. */
export class Tunnel {
  readonly url: string;
  readonly #server: Server;
  readonly #pairs = new Set<readonly [Socket, Socket]>();
  #swallows = false;

  private constructor(server: Server, port: number) {
    this.#server = server;
    this.url = `http://127.0.0.1:${port}`;
  }

  static start(service: string): Promise<Tunnel> {
    const { port } = new URL(service);
    return new Promise((resolve) => {
      const server = createServer((near) => tunnel.#join(near, Number(port))).listen(0, '127.0.0.1', () =>
        resolve(tunnel),
      );
      const tunnel: Tunnel = new Tunnel(server, 0);
      server.on('listening', () => {
        (tunnel as { url: string }).url = `http://127.0.0.1:${(server.address() as { port: number }).port}`;
      });
    });
  }

  /** From now on nothing gets through, and nobody is told. */
  swallow(): void {
    this.#swallows = true;
  }

  /** New connections get through again; those of before stay as they are. */
  heal(): void {
    this.#swallows = false;
    this.#pairs.clear();
  }

  /** Ends every connection after so many more bytes to the client. */
  cutAfter(bytes: number): void {
    let left = bytes;
    for (const [near, far] of this.#pairs) {
      far.removeAllListeners('data');
      far.on('data', (data: Buffer) => {
        const part = data.subarray(0, left);
        left -= part.length;
        near.write(part);
        if (left === 0) {
          near.destroy();
          far.destroy();
        }
      });
    }
  }

  stop(): void {
    for (const pair of this.#pairs) for (const socket of pair) socket.destroy();
    this.#server.close();
  }

  #join(near: Socket, port: number): void {
    const far = new Socket().connect(port, '127.0.0.1');
    const pair = [near, far] as const;
    this.#pairs.add(pair);
    for (const [from, to] of [pair, [far, near] as const]) {
      from.on('error', () => {});
      from.on('data', (data) => this.#swallows || !this.#pairs.has(pair) || to.write(data));
      from.on('close', () => this.#swallows || !this.#pairs.has(pair) || to.destroy());
    }
  }
}

/** A proxy that gathers each answer until it is whole, and knows no upgrade: as some companies' do. */
export function gatheringProxy(service: string): Promise<{ url: string; stop(): void }> {
  const server = createHttpServer((incoming, outgoing) => {
    const { method, headers, url } = incoming;
    const { upgrade: _, connection: __, ...passed } = headers;
    const forward = request(service + url, { method, headers: passed }, (answer) => {
      const parts: Buffer[] = [];
      answer.on('data', (part: Buffer) => parts.push(part));
      answer.on('end', () => {
        const { 'transfer-encoding': ___, ...told } = answer.headers;
        outgoing.writeHead(answer.statusCode ?? 502, told).end(Buffer.concat(parts));
      });
      answer.on('error', () => outgoing.destroy());
    });
    forward.on('error', () => outgoing.destroy());
    outgoing.on('close', () => forward.destroy());
    incoming.pipe(forward);
  });
  return new Promise((resolve) => {
    server.listen(0, '127.0.0.1', () =>
      resolve({
        url: `http://127.0.0.1:${(server.address() as { port: number }).port}`,
        stop: () => {
          server.close();
          server.closeAllConnections();
        },
      }),
    );
  });
}
