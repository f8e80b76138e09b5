import {
  type Changed,
  type ChannelName,
  type EnterWish,
  formatCursor,
  type InboxReply,
  type Marked,
  type Place,
  type Published,
  parseCursor,
  type ReactionsOf,
  type ReadRequest,
  refusal,
  type SetResult,
} from '@nine-bells/wire';
import type { CaughtUp, Wish } from '../channel/channel.js';
import type { Filter } from '../channel/filters.js';
import { changesText, shownOf } from '../channel/shown.js';
import type { MarkState, ThreadMark } from '../model/mark.js';
import type { Appended, LogSlice } from '../model/message.js';
import type { InboxSlice } from '../model/notice.js';
import type { Reviewed } from '../review/reviews.js';

/** @throws {ProblemError} `bad-cursor` */
export function placeOf(cursor: string): Place {
  const place = parseCursor(cursor);
  if (place === undefined) throw refusal('bad-cursor');
  return place;
}

/** What a client asks for on entering, as the channel takes it. */
export function wishOf(wish: EnterWish): Wish {
  if (wish.after !== undefined) return { after: placeOf(wish.after) };
  return wish.last === undefined ? 'from-now' : { last: wish.last };
}

/**
 * The members of the reply to `enter`, as JSON text without braces.
 *
 * @param list - who is there, as JSON text that begins with a comma; empty where that is not shown
 */
export function enteredText(
  channel: ChannelName,
  { cursor, messages, changes, more, gap }: CaughtUp,
  list: string,
): string {
  const texts = messages.map((each) => each.shown).join();
  const gapText = gap === undefined ? '' : `,"gap":${JSON.stringify({ channel, ...gap })}`;
  return `"channel":${JSON.stringify(channel)},"cursor":"${formatCursor(cursor)}","messages":[${texts}]${changesText(changes)},"more":${more}${gapText}${list}`;
}

/** The members of the reply to `publish`, as JSON text without braces. Hot: once per publish. */
export function publishedText({ logged: { id, cursor }, repeated, data }: Reviewed<Appended>): string {
  const changed = data === undefined ? '' : `,"data":${JSON.stringify(data)}`;
  return `"id":${JSON.stringify(id)},"cursor":"${cursor}"${repeated ? ',"repeated":true' : ''}${changed}`;
}

/** The same of a message that is an entry of the board by its type. */
export function publishedEntryText({ id, cursor, entry }: Published): string {
  return `"id":${JSON.stringify(id)},"cursor":"${cursor}","entry":${JSON.stringify(entry)}`;
}

/** The members of the reply to `revise` and `withdraw`, as JSON text without braces. */
export function changedText(changed: Changed): string {
  return JSON.stringify(changed).slice(1, -1);
}

/** The members of the reply to `set`, as JSON text without braces. */
export function setText({ entry, version }: SetResult): string {
  return `"entry":${JSON.stringify(entry)},"version":"${version}"`;
}

/** The members of the reply to `mark`, as JSON text without braces. */
export function markedText({ channel, place, unread }: MarkState): string {
  const cursor = place && formatCursor(place);
  return JSON.stringify({ channel, cursor, unread } satisfies Record<keyof Marked, unknown>).slice(1, -1);
}

/** The same of a mark in a thread; `undefined`: the user no longer takes part. */
export function threadMarkedText(channel: ChannelName, state: ThreadMark | undefined): string {
  const cursor = state && formatCursor({ volume: state.volume, number: state.number });
  return JSON.stringify({ channel, cursor, unread: state?.unread ?? 0 } satisfies Record<keyof Marked, unknown>).slice(
    1,
    -1,
  );
}

/** The members of the reply to `read`, as JSON text without braces; only messages that are for the session. */
export function readText(
  { channel, after, before }: ReadRequest,
  slice: LogSlice,
  session: string,
  filter?: Filter,
  reactions?: ReactionsOf,
): string {
  const from = after ?? before;
  const gap =
    slice.gap === undefined || from === undefined
      ? ''
      : `,"gap":${JSON.stringify({
          channel,
          after: from,
          cursor: slice.messages[0]?.cursor ?? formatCursor(slice.head),
          why: slice.gap,
        })}`;
  // A client that reads backwards gets each message as it stands, whatever came behind it.
  const known = after === undefined || slice.gap === 'new-volume' ? 0 : placeOf(after).number;
  const { messages, changes } = shownOf(slice.messages, known, session, filter);
  // Perhaps none of them fits, or the last is no message: it says where to go on.
  const end = after === undefined ? slice.messages[0] : slice.messages.at(-1);
  const looked = filter === undefined ? (end?.isMessage === false ? end.place : undefined) : (slice.upTo ?? end?.place);
  const cursor = looked === undefined ? '' : `,"cursor":"${formatCursor(looked)}"`;
  const texts = messages.map((each) => each.shown).join();
  return `"channel":${JSON.stringify(channel)},"messages":[${texts}]${changesText(changes)},"more":${slice.more}${cursor}${gap}${reactions === undefined ? '' : `,"reactions":${JSON.stringify(reactions)}`}`;
}

/** A stretch of an inbox as it is told; without notices asked for, only where it stands. */
export function inboxReply({ notices, more, unread, head }: InboxSlice, countOnly: boolean): InboxReply {
  const last = more ? notices.at(-1)?.cursor : undefined;
  return { notices, more: !countOnly && more, unread, cursor: last ?? formatCursor(head) };
}
