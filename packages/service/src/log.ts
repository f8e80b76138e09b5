import { type Logger as PinoLogger, pino } from 'pino';
import pretty from 'pino-pretty';

/** Refusals have a level of their own, between `info` and `warn`. */
export type Logger = PinoLogger<'refused'>;

export interface LogOptions {
  readonly level: 'silent' | 'error' | 'warn' | 'refused' | 'info' | 'debug';
  /** For people at a terminal; else one JSON object a line. */
  readonly readable: boolean;
}

/** What must never be written down, wherever in a record it stands. */
const secrets = ['token', 'secret', 'key', 'authorization', 'cookie'];

/**
 * Creates the service's log.
 *
 * @param write - receives each line as JSON; by default it goes to standard error, since standard output has the answers of
 *   commands
 */
export function makeLog(options: LogOptions, write?: (line: string) => void): Logger {
  const settings = {
    level: options.level,
    base: null,
    customLevels: { refused: 35 },
    timestamp: pino.stdTimeFunctions.isoTime,
    redact: { paths: secrets.flatMap((name) => [name, `*.${name}`, `*.*.${name}`]), censor: '(not logged)' },
  };
  if (write !== undefined) return pino(settings, { write });
  return options.readable
    ? pino(
        settings,
        pretty({
          customLevels: 'refused:35',
          destination: 2,
          sync: true,
          colorize: process.stderr.isTTY,
          translateTime: 'HH:MM:ss',
        }),
      )
    : pino(settings, pino.destination({ dest: 2, sync: true }));
}
