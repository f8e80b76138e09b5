import type { Json } from '@nine-bells/wire';
import type { Configuration } from '../config/configuration.js';
import { type Logger, makeLog } from '../log.js';
import { type RunningService, Service } from '../service.js';
import { type WorkerModule, Workers } from './workers.js';

export interface StartOptions {
  readonly log?: Logger;
  /**
   * The URL of a module that says how a worker is started, and what it is told; it exports a function `workerService`.
   * Where there are no workers, this process starts in the same way.
   */
  readonly module: string;
  readonly args: object;
  /** As in `ServiceOptions`. */
  readonly newVolumes?: boolean;
}

/**
 * Starts a service: in this process, or where the configuration asks for workers, in several.
 *
 * @throws as `Service.start` does
 */
export async function startService(
  configuration: Configuration,
  { log = makeLog({ level: 'silent', readable: false }), module, args, newVolumes = false }: StartOptions,
): Promise<RunningService> {
  if (configuration.workers > 0) return Workers.start(configuration, { log, module, args: args as Json, newVolumes });
  const { workerService } = (await import(module)) as WorkerModule;
  const { options } = await workerService(args as Json);
  return Service.start(configuration, { ...options, log, newVolumes });
}

/** The module for a service whose configuration is a file; it is told `FileArguments`. */
export const fromFile: string = new URL('fromFile.js', import.meta.url).href;
