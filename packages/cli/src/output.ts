import type { Message } from '@nine-bells/wire';
import colors from 'picocolors';

/** One JSON object on a line of its own, for scripts. */
export function printJson(value: unknown): void {
  process.stdout.write(`${JSON.stringify(value)}\n`);
}

export function print(line: string): void {
  process.stdout.write(`${line}\n`);
}

/** A word beside the answer, for people; never in the way of a script that reads the answer. */
export function note(line: string): void {
  process.stderr.write(`${colors.dim(line)}\n`);
}

/** Rows in columns that line up. */
export function table(head: readonly string[], rows: readonly (readonly string[])[]): string {
  const widths = head.map((title, column) => Math.max(title.length, ...rows.map((row) => (row[column] ?? '').length)));
  const line = (cells: readonly string[]): string =>
    cells
      .map((cell, column) => cell.padEnd(widths[column] ?? 0))
      .join('  ')
      .trimEnd();
  return [colors.bold(line(head)), ...rows.map(line)].join('\n');
}

/** A message on one line: time, place, who, what. */
export function messageLine(message: Message, withChannel: boolean): string {
  const { cursor, at, by, type, data, channel } = message;
  const who = by === undefined ? colors.yellow('(application)') : colors.cyan(printable(by.name ?? by.user));
  const kind = type === 'message' ? '' : ` ${colors.magenta(type)}`;
  const where = withChannel ? `${channel} ` : '';
  return `${colors.dim(clockTime(at))} ${where}${colors.dim(cursor)} ${who}${kind} ${[answerText(message), dataText(data), mentionsText(message), changeText(message), threadText(message)].filter((each) => each !== '').join(' ')}`.trimEnd();
}

/** What a message answers, in short; empty: nothing. */
function answerText({ replyTo, answers }: Message): string {
  if (replyTo === undefined) return '';
  const { by, text, withdrawn } = answers ?? {};
  const words = withdrawn ? 'withdrawn' : text === undefined ? replyTo : JSON.stringify(printable(text));
  return colors.dim(`(to ${by === undefined ? '' : `${printable(by.name ?? by.user)}: `}${words})`);
}

function mentionsText({ mentions }: Message): string {
  const { users = [], roles = [] } = mentions ?? {};
  const named = [...users, ...roles.map((role) => `all ${role}`)].map(printable).join(', ');
  return named === '' ? '' : colors.dim(`(mentions ${named})`);
}

function threadText({ replies }: Message): string {
  if (replies === undefined) return '';
  return colors.dim(`(${replies.count} ${replies.count === 1 ? 'reply' : 'replies'})`);
}

/** That a message was revised or withdrawn, when, by whom and why; empty if it was not. */
export function changeText({ revisedAt, revisedBy, by, withdrawn, reason, unfit }: Message): string {
  if (revisedAt === undefined) return '';
  const who = revisedBy === undefined ? 'an application' : printable(revisedBy.name ?? revisedBy.user);
  const whom = revisedBy !== undefined && revisedBy.user === by?.user ? '' : ` by ${who}`;
  const why = reason === undefined ? '' : `: ${printable(reason)}`;
  const what = withdrawn ? 'withdrawn' : unfit ? 'revised, and fits the filter no more,' : 'revised';
  return colors.dim(`(${what}${whom} at ${clockTime(revisedAt)}${why})`);
}

/** A message's data for people: its text where that is all it has. */
export function dataText(data: unknown): string {
  if (data === null) return '';
  if (typeof data === 'object' && data !== null && 'text' in data && Object.keys(data).length === 1)
    return printable(String(data.text));
  return printable(JSON.stringify(data));
}

/** Without control characters: what strangers publish must not steer a terminal. */
export function printable(text: string): string {
  // biome-ignore lint/suspicious/noControlCharactersInRegex: control characters are what is replaced
  return text.replaceAll(/[\u0000-\u001f\u007f-\u009f]/g, '\u{fffd}');
}

/** A moment on one line, in this machine's time zone: `2031-06-14 12:03:11`. */
export function dayTime(at: string): string {
  return new Date(at).toLocaleString('sv-SE');
}

export function clockTime(at: string): string {
  return new Date(at).toLocaleTimeString('en-GB');
}
