import { type Overrides, readConfiguration } from '../config/configuration.js';
import { type LogOptions, makeLog } from '../log.js';
import type { WorkerService } from './workers.js';

/** What a worker of `ninebells serve` is told. */
export interface FileArguments {
  readonly file: string;
  readonly overrides: Overrides;
  readonly log: LogOptions;
}

/** How a worker of a service is started whose configuration is a file. */
export async function workerService({ file, overrides, log }: FileArguments): Promise<WorkerService> {
  return { configuration: readConfiguration(file, overrides), options: { log: makeLog(log) } };
}
