import { type Answered, type Message, ProblemError, refusal } from '@nine-bells/wire';
import type { OwnDraft, Place } from '../model/message.js';
import type { LogReader } from '../ports/stores.js';
import type { RuleMatch } from '../rules/channelRule.js';
import { findMessage } from './changes.js';

/** First words of a message that are shown with its replies, in characters. */
const shownChars = 120;

/**
 * What a message answers. A reply to a reply is of the same thread. Where there is no such message, or it was withdrawn, the
 * commit refuses the reply: unless it was published before, under its key.
 *
 * @throws {ProblemError} `bad-value` where the rule has no replies; `unavailable`
 */
export async function replyingTo(
  { rule, channel }: RuleMatch,
  log: LogReader,
  place: Place,
): Promise<NonNullable<OwnDraft['replying']>> {
  if (!rule.hasReplies)
    throw refusal('bad-value', `channels of the rule ${rule.pattern} have no replies`, { where: '/replyTo' });
  try {
    const found = await findMessage(log, channel, place);
    const { number } = found.place;
    return { reply: { to: number, thread: found.reply?.thread ?? number }, answers: answersText(found.message) };
  } catch (error) {
    if (!(error instanceof ProblemError) || error.code !== 'no-such-message') throw error;
    return { reply: { to: 0, thread: 0 }, answers: '{}' };
  }
}

/** Why a message cannot be answered: it is not there, or it was withdrawn; `undefined`: it can. */
export function answeringRefused(answered: { readonly isWithdrawn: boolean } | undefined): ProblemError | undefined {
  const where = '/replyTo';
  if (answered === undefined)
    return refusal('no-such-message', 'the channel has no message at this cursor, or no longer has it', { where });
  return answered.isWithdrawn ? refusal('withdrawn', 'the message was withdrawn', { where }) : undefined;
}

/** A message in short, for those that answer it, as JSON text. */
export function answersText({ by, data, withdrawn }: Pick<Message, 'by' | 'data' | 'withdrawn'>): string {
  const answered: Answered = {
    ...(by && { by }),
    ...(withdrawn ? { withdrawn } : firstWords(data)),
  };
  return JSON.stringify(answered);
}

/** The first words of what a message holds: of the text itself, or of its member `text` or `title`. */
export function firstWords(data: Message['data']): { readonly text?: string } {
  const members = typeof data === 'object' && data !== null && !Array.isArray(data) ? data : {};
  const { text, title } = members as { readonly [member: string]: Message['data'] };
  const words = [data, text, title].find((each): each is string => typeof each === 'string' && each.trim() !== '');
  if (words === undefined) return {};
  const [...letters] = words.trim();
  if (letters.length <= shownChars) return { text: letters.join('') };
  const cut = letters.slice(0, shownChars).join('');
  return { text: `${cut.replace(/\s+\S*$/, '')}…` };
}
