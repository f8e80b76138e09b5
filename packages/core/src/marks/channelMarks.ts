import type { ChannelName } from '@nine-bells/wire';
import type { FeatureChannel, FeatureSource } from '../channel/feature.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import type { MarkStore } from '../ports/stores.js';
import { ShownMarks } from './shownMarks.js';

export interface ChannelMarksHost {
  readonly wheel: TimerWheel;
  readonly store: MarkStore;
  /** Users in a channel beyond which no marks are shown. */
  readonly max: number;
}

/** How far users have read, in all channels that show it. */
export class ChannelMarks implements FeatureSource {
  readonly #host: ChannelMarksHost;
  readonly #all = new Map<ChannelName, ShownMarks>();

  constructor(host: ChannelMarksHost) {
    this.#host = host;
  }

  attach(channel: FeatureChannel): ShownMarks | undefined {
    if (!channel.match.rule.showsMarks) return undefined;
    const { wheel, store, max } = this.#host;
    const { name } = channel;
    const marks = new ShownMarks(name, max, {
      read: (limit) => store.marks(name, limit),
      after: (delayMs, act) => wheel.after(delayMs, act),
      tell: (frame) => channel.tell(frame),
      closed: () => this.#all.delete(name),
    });
    this.#all.set(name, marks);
    return marks;
  }

  /** The marks of an open channel; `undefined` where the channel's rule does not show them. */
  get(channel: ChannelName): ShownMarks | undefined {
    return this.#all.get(channel);
  }
}
