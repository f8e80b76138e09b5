import type { Backend, Traffic } from '@nine-bells/client/backend';
import { LineChart } from './LineChart.js';
import { useAnswer } from './queries.js';
import type { Light } from './theme.js';
import type { Second } from './useOverview.js';

/** Rates over a span of time. */
type Span = Pick<Second, 'atS' | 'messagesIn' | 'deliveries'>;

/** Length of the spans into which seconds are grouped, in seconds: single seconds jump between nothing and much. */
const spanS = 10;

export interface RateChartProps {
  readonly backend: Backend;
  readonly seconds: readonly Second[];
  readonly light: Light;
}

/** Messages in and deliveries out per second, over the last hour: by the service's minutes, and since the page is open live. */
export function RateChart({ backend, seconds, light }: RateChartProps) {
  const { data } = useAnswer(['traffic'], () => backend.traffic(), 30_000);
  const spans = lastHour(data?.minutes ?? [], seconds);
  return (
    <LineChart
      label="Messages in and deliveries out per second, in the last hour"
      atS={spans.map(({ atS }) => atS)}
      leastS={600}
      series={[
        { label: 'messages in per second', color: 'tide', values: spans.map(({ messagesIn }) => messagesIn) },
        {
          label: 'deliveries out per second',
          color: 'brass',
          isFilled: true,
          values: spans.map(({ deliveries }) => deliveries),
        },
      ]}
      light={light}
    />
  );
}

function lastHour(minutes: Traffic['minutes'], seconds: readonly Second[]): readonly Span[] {
  const live = grouped(seconds);
  const liveFromS = live[0]?.atS ?? Number.POSITIVE_INFINITY;
  const before = minutes.map(({ at, forMs, messages, deliveries }) => ({
    // In the middle of the minute; the first and the last one may be shorter.
    atS: Date.parse(at) / 1000 + forMs / 2000,
    messagesIn: (messages * 1000) / forMs,
    deliveries: (deliveries * 1000) / forMs,
  }));
  return [...before.filter(({ atS }) => atS < liveFromS), ...live];
}

function grouped(seconds: readonly Second[]): readonly Span[] {
  const groups = new Map<number, Second[]>();
  for (const each of seconds) {
    const span = Math.floor(each.atS / spanS);
    groups.set(span, [...(groups.get(span) ?? []), each]);
  }
  return [...groups.values()].map((all) => ({
    atS: all.at(-1)?.atS ?? 0,
    messagesIn: meanOf(all.map(({ messagesIn }) => messagesIn)),
    deliveries: meanOf(all.map(({ deliveries }) => deliveries)),
  }));
}

function meanOf(values: readonly number[]): number {
  return values.reduce((sum, each) => sum + each, 0) / Math.max(1, values.length);
}
