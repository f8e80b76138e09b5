import {
  type ChannelName,
  defined,
  type EarlierRevision,
  formatCursor,
  type RevisionsReply,
  refusal,
} from '@nine-bells/wire';
import { countsAsUnread } from '../model/mark.js';
import type { LoggedMessage, Place, ReadLimit } from '../model/message.js';
import type { LogReader, MessageStore } from '../ports/stores.js';
import { readable } from './readable.js';

/**
 * Reads the message at a place, as it stands.
 *
 * @param id - which it must have, where that is known: a cursor of another channel may look right
 * @throws {ProblemError} `no-such-message`; `unavailable` if the record cannot be read
 */
export async function findMessage(
  log: LogReader,
  channel: ChannelName,
  place: Place,
  id?: string,
): Promise<LoggedMessage> {
  const next = { volume: place.volume, number: place.number + 1 };
  const reading = log.before(channel, next, { messages: 1, bytes: 1 });
  const { messages } = await readable(reading, 'the record of the channel');
  const found = messages.find((each) => each.isMessage);
  if (found === undefined || found.place.number !== place.number || found.place.volume !== place.volume)
    throw noSuchMessage();
  // The notes of who comes and goes are the service's own.
  if (!countsAsUnread(found.message.type)) throw noSuchMessage('notes of who comes and goes are not changed');
  if (id !== undefined && found.message.id !== id) throw noSuchMessage('the message at this cursor has another id');
  return found;
}

/** Requirements of a change. */
export interface Required {
  /** The number of its last change; 0: it was not changed; absent: any. */
  readonly ifRevision: number | undefined;
}

/**
 * Checks a message against the requirements of a change.
 *
 * @param last - the number of its last change
 * @throws {ProblemError} `withdrawn`, `conflict`
 */
export function checkChange(
  volume: string,
  last: { readonly revision: number | undefined; readonly isWithdrawn: boolean },
  { ifRevision }: Required,
): void {
  const { revision = 0, isWithdrawn } = last;
  const at = formatCursor({ volume, number: revision });
  if (isWithdrawn) throw refusal('withdrawn', `the message was withdrawn at ${at}`, { where: '/cursor' });
  if (ifRevision === undefined || ifRevision === revision) return;
  const is = revision === 0 ? 'the message is as it was published' : `the message was last changed at ${at}`;
  throw refusal('conflict', is, { where: '/ifRevision' });
}

/** Returns the problem of a missing or removed message. */
export function noSuchMessage(
  detail = 'the channel has no message at this cursor, or no longer has it',
  where = '/cursor',
): Error {
  return refusal('no-such-message', detail, { where });
}

/**
 * Lists earlier contents of a message in a kept channel, oldest first.
 *
 * @param after - those behind the revision of this number; -1: from the beginning
 */
export async function revisionsOf(
  store: Pick<MessageStore, 'revisions'>,
  channel: ChannelName,
  place: Place,
  after: number,
  limit: ReadLimit,
): Promise<RevisionsReply> {
  const found = await store.revisions(channel, place, after, limit.messages + 1);
  let chars = 0;
  const most = found.slice(0, limit.messages).findIndex(({ dataText }, index) => {
    chars += dataText.length;
    return chars > limit.bytes && index > 0;
  });
  const some = found.slice(0, most === -1 ? limit.messages : most);
  const revisions = some.map(
    ({ number, dataText, atMs, by }): EarlierRevision => ({
      ...(number === 0 ? {} : { revision: formatCursor({ ...place, number }) }),
      at: new Date(atMs).toISOString(),
      ...defined({ by }),
      data: JSON.parse(dataText),
    }),
  );
  const last = found.length > some.length ? some.at(-1) : undefined;
  const next = last && formatCursor({ ...place, number: last.number });
  return { channel, cursor: formatCursor(place), revisions, ...defined({ next }) };
}
