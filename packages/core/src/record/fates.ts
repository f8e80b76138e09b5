import {
  type ChannelName,
  type Cursor,
  defined,
  type Ending,
  filterFits,
  type MessageFilter,
  type Problem,
  parseCursor,
} from '@nine-bells/wire';
import type { Place } from '../model/message.js';
import type { Accepted, Fate, FilteredBy, Handed, StayEvent, StaysHere, Trace } from '../model/trace.js';

/** What is asked about: a message, and when it was handed out. */
export interface Traced {
  readonly channel: ChannelName;
  readonly cursor: Cursor;
  /** When it was first handed to anybody, or had its place. */
  readonly atMs: number;
  /** When it came in at each instance that has handed it on. */
  readonly handedAtMs: ReadonlyMap<string, number>;
  /** Sessions that are not to get it. */
  readonly except: readonly string[];
  /** What filters look at, where it is known. */
  readonly message?: FilteredBy | undefined;
}

/** What an instance has answered of a user's stays. */
export interface AnsweredStays extends StaysHere {
  readonly instance: string;
}

type Told = StayEvent & { readonly instance: string };

/** What became of a message for the sessions of a user, and how many more there were that had ended before it. */
export interface Fates {
  readonly fates: readonly Fate[];
  readonly earlier: number;
}

/**
 * What became of a message for each session of a user, as far as the instances know. Sessions that had ended before it and
 * have not come back are only counted, where there is another; else the last of them stands for all.
 */
export function fatesOf(message: Traced, answers: readonly AnsweredStays[]): Fates {
  const events: Told[] = answers.flatMap(({ instance, events: some }) => some.map((each) => ({ ...each, instance })));
  events.sort((a, b) => a.atMs - b.atMs);
  const sessions = new Map<string, Told[]>();
  for (const each of events) sessions.set(each.session, [...(sessions.get(each.session) ?? []), each]);
  const connected = new Set(answers.flatMap(({ sessions: here }) => here.map(({ session }) => session)));
  for (const session of connected) if (!sessions.has(session)) sessions.set(session, []);
  const isOver = ([session, some]: readonly [string, readonly Told[]]): boolean => {
    const last = some.at(-1);
    return !connected.has(session) && last?.type === 'ended' && last.atMs < message.atMs;
  };
  const all = [...sessions].sort(([, a], [, b]) => (a.at(-1)?.atMs ?? 0) - (b.at(-1)?.atMs ?? 0));
  const concerned = all.filter((each) => !isOver(each));
  const shown = concerned.length > 0 ? concerned : all.slice(-1);
  const place = parseCursor(message.cursor) as Place;
  return {
    fates: shown.map(([session, some]) => fateOf(message, place, session, some, answers)),
    earlier: all.length - shown.length,
  };
}

function fateOf(
  message: Traced,
  place: Place,
  session: string,
  events: readonly Told[],
  answers: readonly AnsweredStays[],
): Fate {
  const now = answers
    .flatMap(({ instance, sessions }) => sessions.map((each) => ({ ...each, instance })))
    .find((each) => each.session === session);
  const name = now?.name ?? events.find((each) => each.name !== undefined)?.name ?? events[0]?.user ?? session;
  const instance = now?.instance ?? events.at(-1)?.instance ?? '';
  const at = { session, instance, ...defined({ workbench: now?.workbench }) };
  const told = (outcome: Fate['outcome'], words: string, more: Pick<Fate, 'atMs' | 'recoveredAtMs'> = {}): Fate => ({
    ...at,
    outcome,
    ...more,
    sentence: `${name} ${words}`,
  });
  if (message.except.includes(session))
    return told('not-for-it', 'was not to get it: it was published to all but this session');

  const { volume, number } = place;
  const { channel } = message;
  const { passing, isBlock } = filterThatPasses(message, events, place);
  if (isBlock) return told('blocked', `was passed over: its user has blocked or muted ${message.message?.by?.user}`);
  if (passing !== undefined)
    return told(
      'filtered',
      `was passed over: ${name === session ? 'the session' : 'it'} wants only messages ${filterText(passing)}`,
    );
  const inVolume = events.filter(isGiving).filter((each) => each.volume === volume);
  const giving = inVolume.find((each) => each.from < number && number <= each.upTo);
  const gone = inVolume.find((each) => each.gapAfter !== undefined && each.gapAfter < number && number <= each.from);
  const back = inVolume.find((each) => each.returned && each.gapAfter === undefined && each.from >= number);
  const live = liveAt(events, place);
  const atMs = message.handedAtMs.get(live?.entered.instance ?? '') ?? message.atMs;

  if (live !== undefined && live.end === undefined) {
    const got = now?.got === undefined ? undefined : parseCursor(now.got);
    return got?.volume === volume && got.number >= number
      ? told('got', `got it at ${time(atMs)}, and has said so`, { atMs })
      : told('handed', `was handed it at ${time(atMs)}, on the connection that is still open`, { atMs });
  }
  const end = live?.end;
  if (end?.got !== undefined && end.got >= number)
    return told('got', `got it at ${time(atMs)}, and had said so before the session ${endedAs(end, channel)}`, {
      atMs,
    });
  if (giving !== undefined) {
    const before = end ?? lastBefore(events, giving);
    const verb = giving.returned ? 'recovered' : 'was given';
    return told(
      end?.why === 'too-slow' ? 'too-slow' : 'recovered',
      `${before === undefined ? '' : `${missedAs(before)} and `}${verb} it at ${time(giving.atMs)}`,
      { atMs: end?.atMs ?? giving.atMs, recoveredAtMs: giving.atMs },
    );
  }
  if (gone !== undefined)
    return told(
      'gap',
      `did not get it: when the session came back at ${time(gone.atMs)} it was not in the record any more, and a gap said so`,
      { atMs: gone.atMs },
    );
  // A cursor beyond the message shows that the client has it, unless the cursor came from an entry that began after it.
  const entersLater = inVolume.some((each) => !each.returned && each.from >= number);
  const hasCursor = back !== undefined && !entersLater;
  if (end !== undefined) {
    // Not by the times: where the session was before, it may be known late that it has gone on elsewhere.
    if (hasCursor)
      return told('got', `got it: the session came back at ${time(back.atMs)} with a later cursor`, { atMs });
    if (end.why === 'left' || end.why === 'removed' || end.why === 'drained')
      return told('handed', `was handed it at ${time(atMs)}, before the session ${endedAs(end, channel)}`, { atMs });
    return told(
      end.why === 'too-slow' ? 'too-slow' : 'lost',
      `may not have got it: it ${missedAs(end)}, and the session has not come back to ${channel}`,
      { atMs: end.atMs },
    );
  }
  // Its earlier entry has been forgotten: its cursor is known.
  if (hasCursor)
    return told(
      'got',
      `got it: the session came back at ${time(back.atMs)} with a later cursor, from an instance that has ended`,
      { atMs },
    );
  return notThere(message, at, name, events, place, now?.refused);
}

/** The filter by which a session did not get a message that it would have been given, or handed. */
function filterThatPasses(
  { message }: Traced,
  events: readonly Told[],
  place: Place,
): { readonly passing?: MessageFilter | undefined; readonly isBlock?: boolean } {
  if (message === undefined) return {};
  const giving = events
    .filter(isGiving)
    .find(({ volume, from, upTo }) => volume === place.volume && from < place.number && place.number <= upTo);
  const entered = giving ?? liveAt(events, place)?.entered;
  if (entered === undefined || !isGiving(entered)) return {};
  const { filters, hides = false } = entered;
  const passing = filters?.find((each) => !filterFits(each, message));
  return { passing, isBlock: hides && passing !== undefined && passing === filters?.at(-1) };
}

function filterText({ types, by, notBy, thread, where }: MessageFilter): string {
  const parts = [
    ...(types === undefined ? [] : [`of the type ${types.join(' or ')}`]),
    ...(by === undefined ? [] : [`by ${by.join(' or ')}`]),
    ...(notBy === undefined ? [] : [`by others than ${notBy.join(' and ')}`]),
    ...(thread === undefined ? [] : [`of the thread ${thread}`]),
    ...Object.entries(where ?? {}).map(([pointer, value]) => `where ${pointer} is ${JSON.stringify(value)}`),
  ];
  return parts.join(', ');
}

/** The session was not in the channel when the message came, and was not given it later. */
function notThere(
  { channel, atMs }: Traced,
  at: { session: string; instance: string },
  name: string,
  events: readonly Told[],
  { volume, number }: Place,
  refused: Problem | undefined,
): Fate {
  const last = events.findLast((each) =>
    each.type === 'ended' && each.volume === volume ? each.upTo < number : each.atMs <= atMs,
  );
  const refusal = last?.type === 'refused' ? last.problem : events.length === 0 ? refused : undefined;
  if (refusal !== undefined) {
    const why = refusal.detail ?? refusal.title;
    return {
      ...at,
      outcome: 'refused',
      problem: refusal,
      ...(last === undefined ? {} : { atMs: last.atMs }),
      sentence: `${name} did not get it: the session is not allowed to enter ${channel} (${refusal.code}: ${why})`,
    };
  }
  if (last?.type === 'ended') {
    const outcome =
      last.why === 'too-slow' ? 'too-slow' : last.why === 'removed' ? 'removed' : last.why === 'left' ? 'left' : 'lost';
    return {
      ...at,
      outcome,
      atMs: last.atMs,
      sentence: `${name} did not get it: the session ${endedAs(last, channel)}`,
    };
  }
  const first = events.find(isGiving);
  if (first !== undefined)
    return {
      ...at,
      outcome: 'not-entered',
      atMs: first.atMs,
      sentence: `${name} did not get it: the session entered ${channel} only at ${time(first.atMs)}`,
    };
  return { ...at, outcome: 'not-entered', sentence: `${name} did not get it: the session has not entered ${channel}` };
}

type Giving = Told & { readonly type: 'entered' | 'given' };
type End = Told & { readonly type: 'ended' };

function isGiving(event: Told): event is Giving {
  return event.type === 'entered' || event.type === 'given';
}

/** The stay in which a session was handed what came, when the message came; and how it ended, if it has. */
function liveAt(
  events: readonly Told[],
  { volume, number }: Place,
): { readonly entered: Told; readonly end: End | undefined } | undefined {
  for (const [index, entered] of events.entries()) {
    if (entered.type !== 'entered' || entered.volume !== volume || entered.upTo >= number) continue;
    const next = events
      .slice(index + 1)
      .find((each) => (each.type === 'ended' || each.type === 'entered') && each.instance === entered.instance);
    if (next?.type === 'entered' && next.volume === volume && next.upTo < number) continue;
    const end = next?.type === 'ended' ? next : undefined;
    if (end === undefined || (end.volume === volume && end.upTo >= number)) return { entered, end };
  }
  return undefined;
}

function lastBefore(events: readonly Told[], { atMs }: Told): End | undefined {
  return events.findLast((each): each is End => each.type === 'ended' && each.atMs <= atMs);
}

type Ended = Ending | 'removed' | 'not-allowed';

const endings: Readonly<Record<Ended, string>> = {
  left: 'left',
  lost: 'lost its connection',
  'too-slow': 'was cut off as too slow',
  'continued-elsewhere': 'went on on another connection',
  'signed-out': 'was signed out',
  'token-ended': 'ended with its token',
  drained: 'was asked to go elsewhere',
  refused: 'was refused',
  removed: 'was removed',
  'not-allowed': 'was not allowed there any more',
};

function endedAs(event: End, channel: ChannelName): string {
  const from = event.why === 'left' ? ` ${channel}` : event.why === 'removed' ? ` from ${channel}` : '';
  return `${endings[event.why]}${from} at ${time(event.atMs)}${event.detail === undefined ? '' : ` (${event.detail})`}`;
}

function missedAs({ why, atMs }: End): string {
  return `${endings[why]} at ${time(atMs)}`;
}

/** As UTC, to the millisecond. */
function time(ms: number): string {
  return new Date(ms).toISOString().slice(11, 23);
}

/** What became of a message, in words. */
export function sentenceOf(
  accepted: (Accepted & { instance: string }) | undefined,
  handed: readonly (Handed & { instance: string })[],
): Trace['sentence'] {
  const by = accepted?.by === undefined ? '' : ` from ${accepted.by.name ?? accepted.by.user}`;
  const taken =
    accepted === undefined
      ? 'Taken in by an instance that has ended, or too long ago'
      : `Taken in${by} by ${accepted.instance} at ${time(accepted.atMs)}, had its place ${accepted.cursor} after ${Math.round(accepted.placedAfterMs)} ms`;
  const repeats =
    accepted === undefined || accepted.repeats === 0
      ? ''
      : `, and was published again ${accepted.repeats} times under its key, to no effect`;
  if (handed.length === 0) return `${taken}${repeats}; no client had entered the channel`;
  const to = handed.map(
    ({ instance, connections, confirmed, atMs }) =>
      `${instance} at ${time(atMs)} to ${connections} ${connections === 1 ? 'connection' : 'connections'}${confirmed === 0 ? '' : ` (${confirmed} ${confirmed === 1 ? 'has' : 'have'} said so)`}`,
  );
  return `${taken}${repeats}; handed on by ${to.join(', ')}. Times are UTC.`;
}
