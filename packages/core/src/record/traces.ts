import { type Author, type ChannelName, defined, formatCursor } from '@nine-bells/wire';
import { BoundedMap } from '../lib/boundedMap.js';
import { Ring } from '../lib/ring.js';
import type { Draft, LoggedMessage, Place } from '../model/message.js';
import type { Accepted, FilteredBy, StayEvent, TraceHere } from '../model/trace.js';

/** What is remembered of each kind, and of messages at most so many characters. */
const maxMessages = 20_000;
const maxChars = 16_777_216;
const maxEvents = 50_000;
/** Most characters of the filters that events remember. */
const maxFilterChars = 4_194_304;

interface Held {
  readonly logged: LoggedMessage;
  readonly atMs: number;
  readonly connections: number;
}

/** What is kept of `Accepted`: as little as can be, since there is one for each message. */
interface Taken {
  readonly id: string;
  readonly channel: ChannelName;
  readonly place: Place;
  readonly by: Author | undefined;
  readonly key: string | undefined;
  readonly atMs: number;
  readonly placedAfterMs: number;
}

/**
 * What this instance remembers of messages and stays, so that it can be asked what became of a message. Bounded; the
 * oldest is forgotten first. Nothing is done per delivery: what became of a message for a session is worked out when
 * a trace is requested, from where the session entered and left.
 */
export class Traces {
  readonly #now: () => number;
  readonly #isOn: boolean;
  /** Searched on request: an index would cost each publish more than everything else here. */
  readonly #accepted = new Ring<Taken>(maxMessages);
  /** How often messages were published again under their keys, of those that were. */
  readonly #repeats = new BoundedMap<string, number>(maxMessages);
  readonly #handed = new Ring<Held>(maxMessages, maxChars);
  readonly #events = new Ring<StayEvent>(maxEvents, maxFilterChars);
  /** Channels of which a client here wanted only some messages. */
  readonly #isFiltered = new BoundedMap<ChannelName, true>(maxMessages);

  constructor(now: () => number, isOn = true) {
    this.#now = now;
    this.#isOn = isOn;
  }

  /** A message has its place. Hot: once per publish. */
  accepted({ id, channel, place }: LoggedMessage, { by, key, atMs }: Draft, repeated: boolean): void {
    if (!this.#isOn) return;
    if (repeated) this.#repeats.set(id, (this.#repeats.get(id) ?? 0) + 1);
    else this.#accepted.add({ id, channel, place, by, key, atMs, placedAfterMs: this.#now() - atMs });
  }

  /** A message was handed to connections here. Hot: once per message and instance. */
  handed(logged: LoggedMessage, connections: number): void {
    if (!this.#isOn) return;
    this.#handed.add({ logged, atMs: this.#now(), connections }, logged.text.length);
  }

  /** A message was changed: what it held before is remembered no more. */
  changed(change: LoggedMessage): void {
    const { of, channel, place } = change;
    this.#handed.replaceLast(
      ({ logged }) => logged.place.number === of && logged.channel === channel && logged.place.volume === place.volume,
      ({ logged: before, atMs, connections }) => {
        const logged = change.standing(before);
        return [{ logged, atMs, connections }, logged.text.length];
      },
    );
  }

  /** Something has happened to a stay. */
  stay(event: StayEvent): void {
    if (!this.#isOn) return;
    if (!('filters' in event)) {
      this.#events.add(event);
      return;
    }
    this.#events.add(event, JSON.stringify(event.filters).length);
    this.#isFiltered.set(event.channel, true);
  }

  /** What is known of a message; `confirmed` counts those who have got it. */
  find(
    id: string,
    confirmed: (channel: ChannelName, place: Place) => number,
  ): TraceHere & { except?: readonly string[] } {
    const taken = this.#accepted.findLast((each) => each.id === id);
    const accepted = taken && { ...acceptedOf(taken), repeats: this.#repeats.get(id) ?? 0 };
    // Of the text only as much is read as it takes.
    const begins = `"id":${JSON.stringify(id)},`;
    const held = this.#handed.findLast(({ logged }) => logged.tail.startsWith(begins));
    if (held === undefined) return accepted === undefined ? {} : { accepted };
    const { channel, place, except } = held.logged;
    return {
      ...defined({ accepted }),
      handed: {
        channel,
        cursor: formatCursor(place),
        atMs: held.atMs,
        connections: held.connections,
        confirmed: confirmed(channel, place),
      },
      ...defined({ except }),
      ...(this.#isFiltered.has(channel) ? { message: filteredBy(held.logged) } : {}),
    };
  }

  /** What is known of a user's stays in a channel, oldest first. */
  staysOf(user: string, channel: ChannelName): readonly StayEvent[] {
    return this.#events.all.filter((each) => each.user === user && each.channel === channel);
  }
}

function filteredBy({ message: { type, by, data, cursor, thread } }: LoggedMessage): FilteredBy {
  return { type, ...defined({ by, thread }), data, cursor };
}

function acceptedOf({ id, channel, place, by, key, atMs, placedAfterMs }: Taken): Omit<Accepted, 'repeats'> {
  return { id, channel, cursor: formatCursor(place), ...defined({ by, key }), atMs, placedAfterMs };
}
