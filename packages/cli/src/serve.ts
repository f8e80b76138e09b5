import { resolve } from 'node:path';
import type { FileArguments, RunningService } from '@nine-bells/service';
import type { Command } from 'commander';
import { Option } from 'commander';
import { CommandError, Exit, exitCodes } from './exitCodes.js';
import { onInterrupt } from './interrupt.js';
import { databaseOption, dataOption, portOption, relayOption, workersOption } from './options.js';
import { print } from './output.js';
import { showLink } from './showLink.js';

interface ServeOptions {
  readonly config: string;
  readonly host?: string;
  readonly port?: number;
  readonly data?: string;
  readonly relay?: string;
  readonly workers?: number;
  readonly database?: string;
  readonly log: 'silent' | 'error' | 'warn' | 'refused' | 'info' | 'debug';
  readonly json?: boolean;
  readonly newVolumes?: boolean;
}

export function addServe(program: Command): void {
  program
    .command('serve')
    .description('start the service and run it until interrupted')
    .requiredOption('--config <file>', 'the configuration, such as bells.yaml')
    .addOption(portOption())
    .addOption(dataOption())
    .addOption(relayOption())
    .addOption(workersOption())
    .addOption(databaseOption())
    .addOption(new Option('--host <host>', 'the address to listen on').env('NINEBELLS_HOST'))
    .addOption(
      new Option(
        '--log <level>',
        'minimum level of the log, on standard error; `refused` adds refusals, `debug` adds connections and requests',
      )
        .choices(['silent', 'error', 'warn', 'info', 'refused', 'debug'])
        .default('info'),
    )
    .option('--json', 'log as one JSON object a line, and print nothing else')
    .option('--new-volumes', 'begin new volumes in all channels: after a restore that the service cannot recognise')
    .action(async (options: ServeOptions) => {
      const { fromFile, logEvent, makeLog, readConfiguration, startService } = await import('@nine-bells/service');
      const logOptions = { level: options.log, readable: options.json !== true && process.stderr.isTTY };
      const { config, host, port, data, relay, workers, database } = options;
      const overrides = { host, port, data, relay, workers, database };
      const args: FileArguments = { file: resolve(config), overrides, log: logOptions };
      const log = makeLog(logOptions);
      const { configuration, service } = await starting(async () => {
        const read = readConfiguration(config, overrides);
        const started = await startService(read, {
          log,
          module: fromFile,
          args,
          newVolumes: options.newVolumes === true,
        });
        return { configuration: read, service: started };
      }).catch((error: unknown) => {
        if (options.json !== true || !(error instanceof CommandError)) throw error;
        logEvent(log, 'error', 'start-failed', {}, error.message);
        throw new Exit(error.exitCode);
      });
      if (options.json) {
        const link = await showLink(service, configuration.data, true);
        logEvent(log, 'info', 'listening', { url: service.url, console: link, keyFile: service.madeKeyFile });
        return untilInterrupted(service);
      }
      print(`Nine Bells is listening at ${service.url}`);
      print(`Console: ${await showLink(service, configuration.data)}`);
      print('         (signs in once, within 15 minutes; `ninebells console` makes another)');
      const { writing } = service;
      if (writing?.use === 'native') print('Frames to plain sockets are written by the native writer');
      else if (writing !== undefined) print(`Frames are written through streams: ${writing.why}`);
      if (service.madeKeyFile !== undefined) print(`The first API key is in ${service.madeKeyFile}`);
      await untilInterrupted(service);
    });
}

/** Codes of errors of a folder that cannot be created or written. */
const folderFaults = new Set(['EACCES', 'EROFS', 'ENOTDIR', 'EEXIST', 'ENOENT', 'ENOSPC']);

/** Starts something that listens; explains mistakes in the configuration, a taken port and an unusable folder. */
export async function starting<T>(start: () => Promise<T>): Promise<T> {
  const { ConfigurationError } = await import('@nine-bells/service');
  try {
    return await start();
  } catch (error) {
    if (error instanceof ConfigurationError)
      throw new CommandError(
        exitCodes.usage,
        `the configuration has ${error.faults.length === 1 ? 'a mistake' : `${error.faults.length} mistakes`}:\n${error.message}`,
      );
    const { code, message } = error as NodeJS.ErrnoException;
    if (code === 'EADDRINUSE')
      throw new CommandError(exitCodes.failed, 'the port is taken by another program', 'choose another with --port');
    if (folderFaults.has(code ?? ''))
      throw new CommandError(
        exitCodes.failed,
        `the data folder cannot be used: ${message}`,
        'choose another with --data',
      );
    throw error;
  }
}

/** Resolves when the service has ended, after SIGINT, SIGTERM or the command `drain`. A second signal ends at once. */
export function untilInterrupted(service: RunningService, before: () => Promise<void> = async () => {}): Promise<void> {
  let forget = (): void => {};
  return new Promise<void>((done, fail) => {
    let asked = false;
    const end = (): void => {
      if (asked) process.exit(exitCodes.failed);
      asked = true;
      before()
        .then(() => service.stop())
        .then(done, fail);
    };
    forget = onInterrupt(end);
    // Or by the command `drain`.
    service.ended.then(before).then(done, fail);
  }).finally(() => forget());
}
