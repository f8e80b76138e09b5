import { type BoardPush, type BoardState, type Cursor, type Json, type Place, parseCursor } from '@nine-bells/wire';
import type { BoardTruth, SetValue } from './boardTruth.js';

/** A client's copy of a board. After each frame it is compared with the board of that version. */
export class BoardView {
  readonly #channel: string;
  readonly #client: string;
  readonly #truth: BoardTruth;
  /** Whether the service sends the client its own changes. */
  readonly echo: boolean;
  #place: Place;
  #entries: Map<string, Json>;

  constructor(channel: string, client: string, truth: BoardTruth, echo: boolean, { version, entries }: BoardState) {
    this.#channel = channel;
    this.#client = client;
    this.#truth = truth;
    this.echo = echo;
    this.#place = placeOf(version);
    this.#entries = new Map(Object.entries(entries));
    // The reply to `enter` includes what this client set earlier.
    this.#check(true);
  }

  get place(): Place {
    return this.#place;
  }

  get entries(): ReadonlyMap<string, Json> {
    return this.#entries;
  }

  /** @throws {Error} if a frame was lost or doubled, or the copy differs from the board of that version */
  hear({ after, version, whole, set = {}, gone = [] }: BoardPush): void {
    const place = placeOf(version);
    if (whole) this.#entries = new Map();
    else if (after === undefined || after !== `${this.#place.volume}:${this.#place.number}`)
      throw new Error(
        `${this.#client}: ${this.#channel}: a frame after ${after} came at ${JSON.stringify(this.#place)}`,
      );
    else if (place.number <= this.#place.number)
      throw new Error(`${this.#client}: ${this.#channel}: ${version} came after ${this.#place.number}`);
    this.#place = place;
    for (const [entry, value] of Object.entries(set)) this.#entries.set(entry, value);
    for (const entry of gone) this.#entries.delete(entry);
    this.#check(whole === true);
  }

  #check(isWhole: boolean): void {
    const { volume, number } = this.#place;
    const there = this.#truth.at(this.#channel, volume, number);
    if (number > this.#truth.length(this.#channel, volume))
      throw new Error(`${this.#client}: ${this.#channel}: there is no ${volume}:${number}`);
    for (const entry of new Set([...there.keys(), ...this.#entries.keys()])) {
      const [is, shown] = [there.get(entry), this.#entries.get(entry)].map((each) => JSON.stringify(each));
      if (is === shown) continue;
      // With `echo: false` the client misses its own changes, and that they replaced another client's value.
      if (!this.echo && !isWhole && this.#mayBeOwn(entry, there.get(entry))) continue;
      throw new Error(`${this.#client}: ${this.#channel}: ${entry} is ${is} at ${volume}:${number}, not ${shown}`);
    }
  }

  #mayBeOwn(entry: string, value: Json | undefined): boolean {
    if (value !== undefined) return (value as unknown as SetValue).by === this.#client;
    // Frames do not say who removed an entry.
    return this.#entries.has(entry);
  }
}

function placeOf(version: Cursor): Place {
  return parseCursor(version) as Place;
}
