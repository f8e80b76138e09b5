import { type ChannelName, formatCursor, parseCursor } from '@nine-bells/wire';
import { LoggedMessage, type MessageLine, type Place } from '../model/message.js';

/**
 * Messages as they are carried from instance to instance: a line with the place of the first, then a line for each, its time,
 * for whom it is not, and its text from the `id` on, with tabs between. JSON text holds neither tabs nor line ends.
 */
export function carriedMessages(first: Place, lines: readonly string[]): string {
  return `${formatCursor(first)}\n${lines.join('\n')}`;
}

/** One line of it. */
export function carriedLine({ atMs, except, tail }: Pick<MessageLine, 'atMs' | 'except' | 'tail'>): string {
  return `${atMs}\t${except?.length ? JSON.stringify(except) : ''}\t${tail}`;
}

/** Reads what `carriedLine` has written. */
export function readCarriedLine(channel: ChannelName, place: Place, line: string): LoggedMessage {
  const first = line.indexOf('\t');
  const second = line.indexOf('\t', first + 1);
  const except = line.slice(first + 1, second);
  return new LoggedMessage(channel, place, {
    atMs: Number(line.slice(0, first)),
    except: except === '' ? undefined : JSON.parse(except),
    tail: line.slice(second + 1),
  });
}

/** Reads what `carriedMessages` has written; `undefined` if that is none. */
export function readCarried(channel: ChannelName, text: string): readonly LoggedMessage[] | undefined {
  const [cursor = '', ...lines] = text.split('\n');
  const first = parseCursor(cursor);
  if (first === undefined) return undefined;
  const { volume, number } = first;
  return lines.map((line, index) => readCarriedLine(channel, { volume, number: number + index }, line));
}
