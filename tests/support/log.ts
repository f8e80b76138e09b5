import { type Logger, makeLog } from '@nine-bells/service';

/** Log lines of the services that this process has started, since the current test began. */
const lines: string[] = [];
const maxLines = 200;

/** Forgets the log of the previous test. */
export function clearLog(): void {
  lines.length = 0;
}

/** Records output of a service process among the log lines. */
export function record(text: string): void {
  lines.push(...text.split('\n').filter((line) => line !== ''));
  if (lines.length > 2 * maxLines) lines.splice(0, lines.length - maxLines);
}

/** Returns the last lines of the log, as JSON. */
export function recentLog(): string {
  return lines.slice(-maxLines).join('\n');
}

/** Creates a log that is shown only if the test fails. */
export function quietLog(): Logger {
  return makeLog({ level: 'info', readable: false }, record);
}
