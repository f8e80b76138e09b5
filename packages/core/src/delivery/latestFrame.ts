import type { ChannelName } from '@nine-bells/wire';
import { Frame } from '../model/frame.js';

/** How to join what was said earlier with what is said later, of the same thing. */
export type Merge<T> = (earlier: T, later: T) => T;

/**
 * A frame that counts only in its latest form: where a connection is slow, it is joined with an earlier one of the same
 * thing that still waits.
 */
export class LatestFrame<T extends object = object> extends Frame {
  /** What it is about: those with the same are joined. */
  readonly about: string;
  readonly #content: T;
  readonly #merge: Merge<T>;

  constructor(about: string, content: T, merge: Merge<T>, shared: boolean, channel?: ChannelName) {
    super(JSON.stringify(content), shared, channel);
    this.about = about;
    this.#content = content;
    this.#merge = merge;
  }

  /** Both in one, for one connection. The earlier one must be about the same. */
  after(earlier: LatestFrame): Frame & { readonly about: string } {
    // Frames about the same are made in one place, with contents of one type.
    const content = this.#merge((earlier as unknown as LatestFrame<T>).#content, this.#content);
    return new LatestFrame(this.about, content, this.#merge, false, this.channel);
  }
}

/** Joins frames that are about the same, each at the place of its latest. */
export function joined(frames: readonly Frame[]): readonly Frame[] {
  const latest = new Map<string, LatestFrame>();
  for (const frame of frames) {
    if (!(frame instanceof LatestFrame)) continue;
    const earlier = latest.get(frame.about);
    // Deleted first, so that the map is in the order of the latest.
    latest.delete(frame.about);
    latest.set(frame.about, earlier === undefined ? frame : (frame.after(earlier) as LatestFrame));
  }
  if (latest.size === 0) return frames;
  const last = new Map<string, number>();
  for (const [index, frame] of frames.entries()) if (frame instanceof LatestFrame) last.set(frame.about, index);
  return frames.flatMap((frame, index) => {
    if (!(frame instanceof LatestFrame)) return [frame];
    return last.get(frame.about) === index ? [latest.get(frame.about) as Frame] : [];
  });
}
