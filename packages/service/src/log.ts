import { type Report, reportedEvents } from '@nine-bells/core';
import { type Json, ProblemError } from '@nine-bells/wire';
import { type Logger as PinoLogger, pino } from 'pino';
import pretty from 'pino-pretty';

/** Refusals have a level of their own, between `debug` and `info`. */
export type Logger = PinoLogger<'refused'>;

export interface LogOptions {
  readonly level: 'silent' | 'error' | 'warn' | 'refused' | 'info' | 'debug';
  /** For people at a terminal; else one JSON object a line. */
  readonly readable: boolean;
}

/** Names of members that are never logged, at any depth. */
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
    customLevels: { refused: 25 },
    timestamp: pino.stdTimeFunctions.isoTime,
    redact: { paths: secrets.flatMap((name) => [name, `*.${name}`, `*.*.${name}`]), censor: '(not logged)' },
  };
  if (write !== undefined) return pino(settings, { write });
  return options.readable
    ? pino(
        settings,
        pretty({
          customLevels: 'refused:25',
          destination: 2,
          sync: true,
          colorize: process.stderr.isTTY,
          translateTime: 'HH:MM:ss',
        }),
      )
    : pino(settings, pino.destination({ dest: 2, sync: true }));
}

/** Events of the service beside those that the engine reports: their texts, by stable name. */
export const logEvents = {
  'configuration-warning': 'The configuration has a likely mistake',
  connected: 'A client has connected',
  'contract-violation': 'Data that violates a contract was passed on (report only)',
  'database-check-failed': 'The database could not be checked',
  'database-waiting': 'Waiting for the database',
  disconnected: 'A client has disconnected',
  'hook-failing': 'Deliveries of a hook fail',
  'hook-paused': 'A hook was paused after failing for too long',
  'hook-recovered': 'Deliveries of a hook succeed again',
  'instance-ends': 'This instance has lost its lease and ends',
  'intake-failed': 'An event could not be accepted',
  'keys-unread': 'The API keys could not be read',
  listening: 'Listening',
  'neighbours-waiting': 'Waiting for instances of another version to end',
  'operators-unnotified': 'The operators could not be notified',
  'recent-unread': 'Saved records of recent channels could not be read; the remaining channels start empty',
  'recent-unsaved': 'The records of recent channels could not be saved; they start empty',
  refused: 'A request was refused',
  'relay-waiting': 'Waiting for the relay; no client is admitted without it',
  request: 'A request of a client was carried out',
  'route-failed': 'An HTTP request failed',
  'start-failed': 'The service could not start',
  started: 'Started',
  stopped: 'Stopped',
  stopping: 'Stopping',
  warning: 'Warning',
  'warning-over': 'A warning is over',
  'worker-ended': 'A worker has ended and is replaced',
  'worker-failed': 'A worker could not be reached',
  'writer-unavailable': 'Frames are written through streams',
} as const satisfies Readonly<Record<string, string>>;

type Facts = Readonly<Record<string, Json | undefined>>;

/**
 * Logs an event by its stable name.
 *
 * @param error - the cause. Its stack is logged only at the level `error`
 */
export function logEvent(
  log: Logger,
  level: 'error' | 'warn' | 'info' | 'refused' | 'debug',
  event: keyof typeof logEvents,
  facts: Facts = {},
  error?: unknown,
): void {
  const cause = error === undefined ? {} : { cause: causeOf(error) };
  const stack = error instanceof Error && level === 'error' ? { err: error } : {};
  log[level]({ event, ...facts, ...cause, ...stack }, logEvents[event]);
}

/** Logs what the engine reports: failures of the outside and refusals as warnings, without a stack. */
export function reportTo(log: Logger): Report {
  return (error, about) => {
    const { text, ...kind } = reportedEvents[about.event];
    const record = { ...about, cause: causeOf(error) };
    if ('isOutside' in kind || error instanceof ProblemError) log.warn(record, text);
    else log.error({ ...record, err: error }, text);
  };
}

function causeOf(error: unknown): string {
  if (!(error instanceof Error)) return String(error);
  const { message, cause } = error;
  return cause instanceof Error && !message.includes(cause.message) ? `${message}: ${cause.message}` : message;
}
