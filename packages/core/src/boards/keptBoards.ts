import type { ChannelName } from '@nine-bells/wire';
import type { TimerWheel } from '../lib/timerWheel.js';
import { type BoardChange, type BoardSnapshot, bytesOf } from '../model/board.js';
import type { Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { BoardStore } from '../ports/stores.js';

export interface KeptBoardsHost {
  readonly relay: Relay;
  readonly wheel: TimerWheel;
  readonly store: BoardStore;
  readonly report: Report;
  /** How often boards that have changed are saved, in milliseconds. */
  readonly saveMs: number;
}

/** The boards that outlive a restart: saved now and then where they have changed, each whole or not at all. */
export class KeptBoards {
  readonly #host: KeptBoardsHost;
  /** Boards changed here since they were saved. */
  #changed = new Set<ChannelName>();
  #isScheduled = false;
  #saving: Promise<void> = Promise.resolve();

  constructor(host: KeptBoardsHost) {
    this.#host = host;
  }

  /** A board has changed here. */
  changed(channel: ChannelName): void {
    this.#changed.add(channel);
    this.#saveLater();
  }

  /** Makes a board as it was saved, or empty, where there is none. */
  async restore(channel: ChannelName): Promise<void> {
    const { store, relay } = this.#host;
    const saved = await store.board(channel);
    const left = saved === undefined ? [] : saved.records.filter(({ forMs }) => forMs === undefined || forMs > 0);
    const changes: BoardChange[] = left.map(({ number: _, ...record }) => ({ record, bytes: bytesOf(record) }));
    await relay.boards.restore(channel, changes);
  }

  /** Saves what has changed. */
  async stop(): Promise<void> {
    await this.#save();
  }

  #saveLater(): void {
    if (this.#isScheduled) return;
    this.#isScheduled = true;
    this.#host.wheel.after(this.#host.saveMs, () => {
      this.#isScheduled = false;
      void this.#save();
    });
  }

  /** One save after the other: an older one must not overwrite a newer one. */
  #save(): Promise<void> {
    this.#saving = this.#saving.then(() => this.#saveNow());
    return this.#saving;
  }

  async #saveNow(): Promise<void> {
    const { relay, store, report } = this.#host;
    const channels = this.#changed;
    this.#changed = new Set();
    for (const channel of channels)
      try {
        const board: BoardSnapshot | undefined = await relay.boards.read(channel);
        if (board !== undefined) await store.saveBoard(channel, board);
      } catch (error) {
        report(error, { event: 'board-unsaved', channel });
        this.changed(channel);
      }
  }
}
