import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { Backend } from '@nine-bells/client/backend';
import { makeLog, readConfiguration, Service } from '@nine-bells/service';
import { regattaApplication, tokenFor } from './application.js';
import { seed } from './seed.js';
import { simulatePeople } from './simulatedPeople.js';

export interface DemoOptions {
  readonly port?: number;
  readonly data?: string;
  /** Without simulated people. */
  readonly quiet?: boolean;
}

export interface Demo {
  readonly service: Service;
  /** The file with the first API key. */
  readonly keyFile: string;
  /** Sends the simulated people home. The service goes on. */
  stop(): Promise<void>;
}

const configurationFile = fileURLToPath(new URL('../bells.yaml', import.meta.url));

/** Starts the service with the regatta's configuration, its application beside it, and its simulated people. */
export async function startDemo(options: DemoOptions = {}): Promise<Demo> {
  const configuration = readConfiguration(configurationFile, { port: options.port, data: options.data });
  const log = makeLog({ level: 'warn', readable: true });
  const service = await Service.start(configuration, { log, routes: regattaApplication(configuration.tokens) });
  const keyFile = join(configuration.data, 'api-key');
  const backend = new Backend(service.url, { key: readFileSync(keyFile, 'utf8').trim() });
  await seed(backend);
  const stop = options.quiet
    ? () => {}
    : simulatePeople(
        service.url,
        backend,
        (user) => tokenFor(configuration.tokens, user),
        (error) => log.warn({ err: error }, 'a simulated person could not act'),
      );
  return { service, keyFile, stop: async () => stop() };
}
