import type { ChannelName, Json } from '@nine-bells/wire';
import type { Hooks } from '../hooks/hooks.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { Relay } from '../ports/relay.js';
import type { Report } from '../ports/report.js';

export interface BoardEventsHost {
  readonly hooks: Hooks;
  readonly wheel: TimerWheel;
  readonly relay: Relay;
  readonly report: Report;
  /** A board as it is now. */
  readonly read: (channel: ChannelName) => Promise<object>;
}

/** Maximum number of changed boards that wait. */
const maxWaiting = 10_000;

/** Queues snapshots of changed boards for hooks, at the pace of the most frequent hook of the channel. */
export class BoardEvents {
  readonly #host: BoardEventsHost;
  /** Changed boards whose snapshot is due later. */
  readonly #waiting = new Set<ChannelName>();

  constructor(host: BoardEventsHost) {
    this.#host = host;
  }

  /** An entry was set or removed here. Hot where boards change often: a look into a map. */
  changed(channel: ChannelName): void {
    const { book } = this.#host.hooks;
    if (book.isEmpty || this.#waiting.has(channel)) return;
    const hooks = book.inChannel('board', channel);
    if (hooks.length === 0 || this.#waiting.size >= maxWaiting) return;
    this.#waiting.add(channel);
    const everyMs = Math.min(...hooks.map(({ boardEveryMs }) => boardEveryMs));
    this.#host.wheel.after(everyMs, () => {
      this.#waiting.delete(channel);
      void this.#tell(channel, everyMs);
    });
  }

  async #tell(channel: ChannelName, everyMs: number): Promise<void> {
    const { hooks, relay, read, report } = this.#host;
    try {
      // Of several instances where a board changes, one tells it in each stretch; the others look again in the next.
      const isFirst = await (relay.others?.claim(`board ${channel}`, everyMs) ?? true);
      if (isFirst) hooks.happened('board', (await read(channel)) as Json, channel);
      else this.changed(channel);
    } catch (error) {
      report(error, { event: 'board-event-failed', channel });
    }
  }
}
