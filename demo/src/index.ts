import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { Backend } from '@nine-bells/client/backend';
import { makeLog, type RunningService, readConfiguration, startService } from '@nine-bells/service';
import { tokenFor, trackerToken } from './application.js';
import { sailRaces } from './fleet.js';
import {
  postBerth,
  postReading,
  type ResultsBureau,
  reading,
  runOutsideSystems,
  startResultsBureau,
} from './outsideSystems.js';
import type { Regatta } from './regatta.js';
import { startResultsOffice } from './resultsOffice.js';
import { seed, seedPending } from './seed.js';
import { simulatePeople } from './simulatedPeople.js';
import { type DemoArguments, workerModule, workerService } from './worker.js';

export { finish } from './outsideSystems.js';
export type { Regatta } from './regatta.js';

export interface DemoOptions {
  readonly port?: number;
  readonly data?: string;
  /** Without simulated people. */
  readonly quiet?: boolean;
  /** Processes that share the work; 0, the default: this one does it. */
  readonly workers?: number;
}

export interface Demo {
  readonly service: RunningService;
  /** The file with the first API key. */
  readonly keyFile: string;
  /** The results bureau, which hears of finishes. */
  readonly bureau: ResultsBureau;
  /** Posts what the buoy measures, and a berth that the harbour office assigns to a boat. */
  postReading(): Promise<Response>;
  postBerth(boat: string): Promise<Response>;
  /** Lets boats sail races, where there are no simulated people; gives what stops them. */
  sail(): () => void;
  /** Sends the simulated people home and closes the results office. The service goes on. */
  stop(): Promise<void>;
}

const configurationFile = fileURLToPath(new URL('../bells.yaml', import.meta.url));

/** Starts the service with the regatta's configuration, its application beside it, and its simulated people. */
export async function startDemo(options: DemoOptions = {}): Promise<Demo> {
  const { port, data, workers } = options;
  const written = readConfiguration(configurationFile, { port, data, workers });
  const log = makeLog({ level: 'warn', readable: true });
  const office = await startResultsOffice(written.askSecrets[0] as string, options.port === undefined ? officePort : 0);
  const [secret] = written.hooks[0]?.secrets ?? [];
  const mood = options.quiet ? () => 1 : undefined;
  const bureau = await startResultsBureau(secret as string, options.port === undefined ? bureauPort : 0, mood);
  const overrides = { port, data, workers };
  const args: DemoArguments = { file: configurationFile, overrides, office: office.url, bureau: bureau.url };
  const { configuration } = await workerService(args);
  const service = await startService(configuration, { log, module: workerModule, args }).catch(async (error) => {
    await office.stop();
    await bureau.stop();
    throw error;
  });
  const keyFile = join(configuration.data, 'api-key');
  const backend = new Backend<Regatta>(service.url, { key: readFileSync(keyFile, 'utf8').trim() });
  await seed(backend);
  const { tokens } = configuration;
  await seedPending(service.url, await tokenFor(tokens, 'bram'));
  const complain = (error: unknown): void => log.warn({ err: error }, 'a simulated person could not act');
  const sail = (): (() => void) => sailRaces(service.url, backend, (boat) => trackerToken(tokens, boat), complain);
  const stops = options.quiet
    ? []
    : [
        simulatePeople(service.url, backend, (user) => tokenFor(tokens, user), complain),
        sail(),
        runOutsideSystems(service.url, configuration, backend, complain),
      ];
  return {
    service,
    keyFile,
    bureau,
    postReading: () => postReading(service.url, configuration, reading(0)),
    postBerth: (boat) => postBerth(service.url, configuration, boat, 0),
    sail,
    stop: async () => {
      for (const stop of stops) stop();
      await office.stop();
      await bureau.stop();
    },
  };
}

/** URLs of the results office and the results bureau in the configuration. */
const officePort = 9120;
const bureauPort = 9121;
