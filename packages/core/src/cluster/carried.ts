import { type ChannelName, formatCursor, parseCursor } from '@nine-bells/wire';
import { LoggedMessage, type MessageParts, type Place } from '../model/message.js';

/**
 * Messages as they are carried from instance to instance: a line with the place of the first, then a line for each, its time,
 * for whom it is not, and its text from the `id` on (`readChange`), with tabs between; of a reply, and of a message that was
 * answered, also what stands beside it. JSON text holds neither tabs nor line ends.
 */
export function carriedMessages(first: Place, lines: readonly string[]): string {
  return `${formatCursor(first)}\n${lines.join('\n')}`;
}

/** One line of it. */
export function carriedLine({
  atMs,
  except,
  tail,
  of,
  revision,
  isVoid,
  reply,
  answers,
  replies,
}: MessageParts): string {
  const change = isVoid ? 'x' : of !== undefined ? `>${of} ` : revision !== undefined ? `~${revision} ` : '';
  const answering = reply === undefined || isVoid ? '' : `^${reply.to},${reply.thread} `;
  const beside =
    answers === undefined && replies === undefined
      ? ''
      : `\t${answers ?? ''}\t${replies ? JSON.stringify(replies) : ''}`;
  return `${atMs}\t${except?.length ? JSON.stringify(except) : ''}\t${change}${answering}${isVoid ? '' : tail}${beside}`;
}

/**
 * What stands before the text: of a change `>` and the number of the message; of a message that was changed the number of its
 * last change, after `~`, or after `!` if it was withdrawn; `x` where only the place is left. Then, of a reply, what it answers
 * and its thread, after `^`.
 */
function readChange(text: string): Pick<MessageParts, 'tail' | 'of' | 'revision' | 'isVoid' | 'reply'> {
  const mark = text[0];
  if (mark === 'x') return { tail: '', isVoid: true };
  if (mark !== '>' && mark !== '~' && mark !== '!') return readReply(text);
  const end = text.indexOf(' ');
  const number = Number(text.slice(1, end));
  return { ...readReply(text.slice(end + 1)), ...(mark === '>' ? { of: number } : { revision: number }) };
}

function readReply(text: string): Pick<MessageParts, 'tail' | 'reply' | 'isVoid'> {
  // A mark of a later version: its text is not understood, and must not get into a frame.
  if (text[0] !== '"' && text[0] !== '^') return { tail: '', isVoid: true };
  if (text[0] !== '^') return { tail: text };
  const end = text.indexOf(' ');
  const [to, thread] = text.slice(1, end).split(',').map(Number) as [number, number];
  return { tail: text.slice(end + 1), reply: { to, thread } };
}

/** Reads what `carriedLine` has written. */
export function readCarriedLine(channel: ChannelName, place: Place, line: string): LoggedMessage {
  const first = line.indexOf('\t');
  const second = line.indexOf('\t', first + 1);
  const third = line.indexOf('\t', second + 1);
  const except = line.slice(first + 1, second);
  const [answers, replies] = third === -1 ? [] : line.slice(third + 1).split('\t');
  return new LoggedMessage(channel, place, {
    atMs: Number(line.slice(0, first)),
    except: except === '' ? undefined : JSON.parse(except),
    ...readChange(line.slice(second + 1, third === -1 ? undefined : third)),
    ...(answers ? { answers } : {}),
    ...(replies ? { replies: JSON.parse(replies) } : {}),
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
