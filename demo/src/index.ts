import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { Backend } from '@nine-bells/client/backend';
import { type Configuration, makeLog, readConfiguration, Service } from '@nine-bells/service';
import { regattaApplication, tokenFor } from './application.js';
import { startResultsOffice } from './resultsOffice.js';
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
  /** Sends the simulated people home and closes the results office. The service goes on. */
  stop(): Promise<void>;
}

const configurationFile = fileURLToPath(new URL('../bells.yaml', import.meta.url));

/** Starts the service with the regatta's configuration, its application beside it, and its simulated people. */
export async function startDemo(options: DemoOptions = {}): Promise<Demo> {
  const written = readConfiguration(configurationFile, { port: options.port, data: options.data });
  const log = makeLog({ level: 'warn', readable: true });
  const office = await startResultsOffice(written.askSecret as string, options.port === undefined ? officePort : 0);
  const configuration = asking(written, office.url);
  const service = await Service.start(configuration, { log, routes: regattaApplication(configuration.tokens) }).catch(
    async (error) => {
      await office.stop();
      throw error;
    },
  );
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
  return {
    service,
    keyFile,
    stop: async () => {
      stop();
      await office.stop();
    },
  };
}

/** Where the configuration says that the results office is. */
const officePort = 9120;

/** The configuration with the results office where it really is: beside a demo on another port it is elsewhere. */
function asking(configuration: Configuration, url: string): Configuration {
  const channels = configuration.channels.map((rule) =>
    rule.pattern.startsWith('desk/') ? { ...rule, allow: { enter: { ask: url }, publish: { ask: url } } } : rule,
  );
  return { ...configuration, channels };
}
