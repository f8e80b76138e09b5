import { build, decodeFromCompressedBase64, encodeIntoCompressedBase64, type Histogram } from 'hdr-histogram-js';
import type { Counts } from '../run/results.js';

/** Times in microseconds, up to two minutes, with three significant digits (an HDR histogram). */
export function timesHistogram(): Histogram {
  return build({ lowestDiscernibleValue: 1, highestTrackableValue: 120_000_000, numberOfSignificantValueDigits: 3 });
}

/** Records a time in milliseconds. */
export function record(histogram: Histogram, ms: number): void {
  histogram.recordValue(Math.min(120_000_000, Math.max(1, Math.round(ms * 1000))));
}

export const noCounts = (): Counts => ({ sent: 0, received: 0, refused: {}, failed: 0, unanswered: 0 });

export function addCounts(into: Counts, { sent, received, refused, failed, unanswered }: Counts): void {
  into.sent += sent;
  into.received += received;
  into.failed += failed;
  into.unanswered += unanswered;
  for (const [code, count] of Object.entries(refused)) into.refused[code] = (into.refused[code] ?? 0) + count;
}

export const timesOf = ['delivery', 'reply', 'connect', 'late'] as const;
export type Times = (typeof timesOf)[number];

/** Counts and times, in this process. */
export class Tally {
  counts = noCounts();
  readonly times: Readonly<Record<Times, Histogram>>;

  constructor() {
    this.times = {
      delivery: timesHistogram(),
      reply: timesHistogram(),
      connect: timesHistogram(),
      late: timesHistogram(),
    };
  }

  refused(code: string): void {
    this.counts.refused[code] = (this.counts.refused[code] ?? 0) + 1;
  }

  /** Takes what there is, as it is sent to another process. */
  take(): TallyText {
    const times: Partial<Record<Times, string>> = {};
    for (const name of timesOf) {
      const histogram = this.times[name];
      if (histogram.totalCount === 0) continue;
      times[name] = encodeIntoCompressedBase64(histogram);
      histogram.reset();
    }
    const { counts } = this;
    this.counts = noCounts();
    return { counts, times };
  }

  /** Adds what another process has taken. */
  add({ counts, times }: TallyText): void {
    addCounts(this.counts, counts);
    for (const name of timesOf) {
      const text = times[name];
      if (text !== undefined) this.times[name].add(decodeFromCompressedBase64(text));
    }
  }

  /** A time in milliseconds below which this share lies, in percent; `undefined` if there is none. */
  ms(name: Times, percent: number): number | undefined {
    const histogram = this.times[name];
    if (histogram.totalCount === 0) return undefined;
    return (percent === 100 ? histogram.maxValue : histogram.getValueAtPercentile(percent)) / 1000;
  }
}

export interface TallyText {
  readonly counts: Counts;
  readonly times: Partial<Record<Times, string>>;
}
