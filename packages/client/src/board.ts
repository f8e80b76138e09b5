import { type BoardPush, type BoardState, type Cursor, type Json, parseCursor } from '@nine-bells/wire';
import { TypedTarget } from './typedTarget.js';

export interface BoardEvents<Value = Json> {
  /** Entries were set or are gone; the board is as it is now. */
  change: BoardChange<Value>;
}

export interface BoardChange<Value = Json> {
  readonly set: ReadonlyMap<string, Value>;
  readonly gone: readonly string[];
}

/** A value of your own that the service has not acknowledged yet. */
interface Own {
  readonly value: Json | undefined;
}

/**
 * The board of a channel: the latest value of each entry, kept up to date as long as you are in the channel.
 *
 * Values that you set yourself show at once. After a reconnection only what is different has changed.
 *
 * @example
 * const race = line.enter<Position>('race/3/positions');
 * race.board.addEventListener('change', ({ detail }) => detail.set.forEach((position, boat) => draw(boat, position)));
 */
export class Board<Value = Json> extends TypedTarget<BoardEvents<Value>> implements Iterable<[string, Value]> {
  #volume = '';
  #number = 0;
  /** As the service has it. */
  #entries = new Map<string, Json>();
  /** The version number at which each entry was last set or removed, by a frame or by a reply. */
  #seenAt = new Map<string, number>();
  readonly #own = new Map<string, Own>();
  #frames = 0;

  /** Where the board stands: for `ifVersion`. `undefined`: it is not known yet. */
  get version(): Cursor | undefined {
    return this.#volume === '' ? undefined : (`${this.#volume}:${this.#number}` as Cursor);
  }

  get size(): number {
    return [...this.keys()].length;
  }

  /** Frames received so far. */
  get frames(): number {
    return this.#frames;
  }

  get(entry: string): Value | undefined {
    const own = this.#own.get(entry);
    // The application says what its values are: the service does not know.
    return (own === undefined ? this.#entries.get(entry) : own.value) as Value | undefined;
  }

  has(entry: string): boolean {
    return this.get(entry) !== undefined;
  }

  *keys(): IterableIterator<string> {
    for (const entry of this.#entries.keys()) if (this.has(entry)) yield entry;
    for (const [entry, { value }] of this.#own) if (value !== undefined && !this.#entries.has(entry)) yield entry;
  }

  *[Symbol.iterator](): IterableIterator<[string, Value]> {
    for (const entry of this.keys()) yield [entry, this.get(entry) as Value];
  }

  // ------------------------------------------------------------------------------------ called by the line

  /** @internal The whole board, on entering. */
  load({ version, entries }: BoardState): void {
    this.#changing(() => {
      this.#begin(version);
      this.#entries = new Map(Object.entries(entries));
      this.#seenAt = new Map([...this.#entries.keys()].map((entry) => [entry, this.#number]));
    });
  }

  /** @internal Applies a frame; returns `false` if it does not continue from the version here: changes are missing. */
  take({ after, version, whole, set = {}, gone = [] }: BoardPush): boolean {
    this.#frames += 1;
    if (whole) {
      this.load({ version, entries: set });
      return true;
    }
    if (after !== this.version) return false;
    this.#changing(
      () => {
        this.#begin(version);
        // What was acknowledged at a later number is newer than this frame.
        const isNew = (entry: string): boolean => (this.#seenAt.get(entry) ?? 0) <= this.#number;
        for (const [entry, value] of Object.entries(set)) if (isNew(entry)) this.#put(entry, value, this.#number);
        for (const entry of gone) if (isNew(entry)) this.#put(entry, undefined, this.#number);
      },
      new Set([...Object.keys(set), ...gone]),
    );
    return true;
  }

  /** @internal You set an entry. */
  setOwn(entry: string, value: Json | undefined): void {
    this.#changing(() => this.#own.set(entry, { value }), new Set([entry]));
  }

  /** @internal It was acknowledged at a version, or refused (`undefined`). Not of a value that another one has replaced. */
  settled(entry: string, value: Json | undefined, version: Cursor | undefined): void {
    const own = this.#own.get(entry);
    if (own === undefined || own.value !== value) return;
    this.#changing(
      () => {
        this.#own.delete(entry);
        const place = version === undefined ? undefined : parseCursor(version);
        if (place?.volume === this.#volume && (this.#seenAt.get(entry) ?? 0) < place.number)
          this.#put(entry, value, place.number);
      },
      new Set([entry]),
    );
  }

  #begin(version: Cursor): void {
    const place = parseCursor(version);
    if (place === undefined) return;
    if (place.volume !== this.#volume) this.#seenAt.clear();
    this.#volume = place.volume;
    this.#number = place.number;
  }

  #put(entry: string, value: Json | undefined, number: number): void {
    if (value === undefined) this.#entries.delete(entry);
    else this.#entries.set(entry, value);
    this.#seenAt.set(entry, number);
    // Entries that are gone are remembered for a while only.
    if (this.#seenAt.size > 2 * this.#entries.size + 1_000)
      for (const name of this.#seenAt.keys()) if (!this.#entries.has(name)) this.#seenAt.delete(name);
  }

  /** Makes a change, and emits what differs for the application, in these entries or in all. */
  #changing(change: () => void, about?: ReadonlySet<string>): void {
    const seen = (): Map<string, Value | undefined> =>
      new Map([...(about ?? this.keys())].map((entry) => [entry, this.get(entry)]));
    const before = seen();
    change();
    const now = about === undefined ? new Map<string, Value | undefined>([...seen()]) : seen();
    const set = new Map<string, Value>();
    const gone: string[] = [];
    for (const [entry, value] of now)
      if (value !== undefined && !isSame(value as Json, before.get(entry) as Json | undefined)) set.set(entry, value);
    for (const [entry, value] of before) if (value !== undefined && now.get(entry) === undefined) gone.push(entry);
    if (set.size + gone.length > 0) this.emit('change', { set, gone });
  }
}

function isSame(a: Json, b: Json | undefined): boolean {
  return a === b || (b !== undefined && JSON.stringify(a) === JSON.stringify(b));
}
