import type { ChannelName } from '@nine-bells/wire';
import type { InstanceAnswers } from '../model/instance.js';
import type { Table, TableChange, TableEntry, TableWord } from '../model/memberTable.js';

export interface TablesHost {
  /** This instance and its incarnation. */
  self(): string;
  /** A number from which to begin, higher than all of this instance's tables of the channel before. */
  base(): number;
  /** Tells all instances that have the channel. */
  publish(word: TableWord): void;
  /** Asks all other instances for their tables. */
  ask(): Promise<InstanceAnswers<Table | null>>;
  /** Calls back at the end of the turn. */
  soon(act: () => void): void;
  after(delayMs: number, act: () => void): () => void;
  /** What this instance shows. */
  own(): readonly TableEntry[];
  take(home: string, change: TableChange): void;
  /** Everything that an instance shows. */
  replace(home: string, entries: readonly TableEntry[]): void;
}

/** How long to wait before a table that could not be had is asked for again, in milliseconds. */
const againMs = 500;
/** After how many looks at which nothing was heard of a table it is asked for. */
const quietLooks = 9;
/** Most words kept while the table that they follow is being asked for. */
const maxStashed = 10_000;

/**
 * Who is in a channel on which instance: each owns a table of its own sessions and tells its changes, numbered. Whoever
 * sees a hole in the numbers, or a table that it does not know, asks for it whole.
 */
export class Tables {
  readonly #channel: ChannelName;
  readonly #host: TablesHost;
  readonly #base: number;
  #number: number;
  #changes: TableChange[] = [];
  readonly #known = new Map<string, number>();
  /** Looks since something was heard of a table. */
  readonly #quiet = new Map<string, number>();
  #stash: TableWord[] = [];
  #pulling: Promise<void> | undefined;
  /** Instances that have ended since the others were asked: their answers are discarded. */
  #goneSince = new Set<string>();
  #isWhole = false;
  #cancelAgain: (() => void) | undefined;

  constructor(channel: ChannelName, host: TablesHost) {
    this.#channel = channel;
    this.#host = host;
    this.#base = host.base();
    this.#number = this.#base;
  }

  /** Resolves when the tables of those who answer are known. */
  ready(): Promise<void> | undefined {
    return this.#isWhole ? undefined : this.pull();
  }

  /** This instance shows something else. */
  changed(change: TableChange): void {
    if (this.#changes.push(change) === 1) this.#host.soon(() => this.#tell());
  }

  /** This instance's table. */
  get own(): Table {
    this.#tell();
    return { number: this.#number, entries: this.#host.own() };
  }

  /** Tells the others the number of this instance's table: one that missed the last change notices. */
  remind(): void {
    if (this.#number === this.#base) return;
    this.#tell();
    this.#publish([]);
  }

  /** Reminds the others, if it is time to, and asks those of whom nothing was heard for long. */
  look(reminds: boolean): void {
    if (reminds) this.remind();
    for (const [instanceId] of this.#known) {
      const looks = (this.#quiet.get(instanceId) ?? 0) + 1;
      this.#quiet.set(instanceId, looks);
      if (looks % quietLooks === 0) void this.pull();
    }
  }

  hear(word: TableWord): void {
    if (word.table === this.#host.self()) return;
    this.#quiet.delete(word.table);
    if (this.#take(word)) return;
    if (this.#stash.length < maxStashed) this.#stash.push(word);
    void this.pull();
  }

  /** Another instance has ended. */
  forget(instanceId: string): void {
    this.#goneSince.add(instanceId);
    this.#known.delete(instanceId);
    this.#quiet.delete(instanceId);
    this.#stash = this.#stash.filter(({ table }) => table !== instanceId);
  }

  /** Asks all instances for their tables. */
  pull(): Promise<void> {
    this.#pulling ??= this.#pull().finally(() => {
      this.#pulling = undefined;
    });
    return this.#pulling;
  }

  close(): void {
    this.#cancelAgain?.();
    this.#changes = [];
  }

  /** Applies a word if it follows; `false` if something is missing before it. */
  #take({ table, number, base, changes }: TableWord): boolean {
    const known = this.#known.get(table) ?? -1;
    if (number <= known) return true;
    const begins = known < base && number === base + changes.length;
    if (begins) this.#host.replace(table, []);
    else if (known < base || number > known + changes.length) return false;
    const fresh = begins ? changes : changes.slice(changes.length - (number - known));
    for (const change of fresh) this.#host.take(table, change);
    this.#known.set(table, number);
    return true;
  }

  async #pull(): Promise<void> {
    this.#goneSince = new Set();
    const { answers, missing } = await this.#host.ask();
    for (const { instanceId, answer } of answers) {
      if (this.#goneSince.has(instanceId)) continue;
      if (answer === null) {
        this.forget(instanceId);
        this.#host.replace(instanceId, []);
      } else if (answer.number >= (this.#known.get(instanceId) ?? 0)) {
        this.#known.set(instanceId, answer.number);
        this.#host.replace(instanceId, answer.entries);
      }
    }
    this.#isWhole = true;
    const stash = this.#stash.sort((a, b) => a.number - b.number);
    this.#stash = [];
    const unfit = stash.filter((word) => !this.#take(word));
    if (unfit.length === 0 && missing.length === 0) return;
    this.#stash = unfit;
    this.#cancelAgain?.();
    this.#cancelAgain = this.#host.after(againMs, () => {
      this.#cancelAgain = undefined;
      void this.pull();
    });
  }

  #tell(): void {
    if (this.#changes.length === 0) return;
    const changes = this.#changes;
    this.#changes = [];
    this.#number += changes.length;
    this.#publish(changes);
  }

  #publish(changes: readonly TableChange[]): void {
    const { self, publish } = this.#host;
    publish({ channel: this.#channel, table: self(), number: this.#number, base: this.#base, changes });
  }
}
