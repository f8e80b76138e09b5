import { useEffect, useRef } from 'react';
import UPlot from 'uplot';
import 'uplot/dist/uPlot.min.css';
import { type Light, palette } from './theme.js';

const height = 180;

/** A line of a chart. */
export interface Series {
  readonly label: string;
  readonly color: 'tide' | 'brass';
  readonly isFilled?: boolean;
  readonly values: readonly number[];
}

export interface LineChartProps {
  /** What it shows, for those who do not see it. */
  readonly label: string;
  /** Seconds since the Unix epoch. */
  readonly atS: readonly number[];
  /** As many, and called the same, as long as the chart is shown. */
  readonly series: readonly Series[];
  /** The shortest time that is shown, in seconds, so that the first ones do not look like a lot. */
  readonly leastS?: number;
  readonly light: Light;
}

/** The time that is shown, in seconds since the Unix epoch; `first` is absent without values. */
function rangeOf(first: number | null | undefined, last: number, leastS: number): [number, number] {
  return [Math.min(first ?? last, last - leastS), last];
}

/** The time at a tick; to the minute where minutes are shown, and then only at whole ones. */
function tickText(atS: number, leastS: number): string {
  const text = new Date(atS * 1000).toLocaleTimeString('en-GB');
  if (leastS < 600) return text;
  return atS % 60 === 0 ? text.slice(0, 5) : '';
}

/** Lines over time. */
export function LineChart({ label, atS, series, leastS = 60, light }: LineChartProps) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<UPlot | undefined>(undefined);
  // How the lines look does not change, only their values.
  const looks = useRef(series);

  useEffect(() => {
    const element = box.current as HTMLDivElement;
    const colors = palette[light];
    const axis = { stroke: colors.faint, grid: { stroke: colors.line, width: 1 }, ticks: { show: false } };
    const made = new UPlot(
      {
        width: element.clientWidth,
        height,
        cursor: { drag: { x: false, y: false } },
        legend: { live: false },
        scales: {
          x: { range: (_, first, last) => rangeOf(first, last ?? Date.now() / 1000, leastS) },
          y: { range: (_, __, most) => [0, Math.max(1, most * 1.1)] },
        },
        axes: [
          {
            ...axis,
            size: 34,
            values: (_, splits) => splits.map((at) => tickText(at, leastS)),
          },
          { ...axis, size: 56 },
        ],
        series: [
          {},
          ...looks.current.map(({ label: name, color, isFilled }) => ({
            label: name,
            stroke: colors[color],
            width: 2,
            points: { show: false },
            ...(isFilled ? { fill: `${colors[color]}22` } : {}),
          })),
        ],
      },
      [[], ...looks.current.map(() => [])],
      element,
    );
    plot.current = made;
    const observer = new ResizeObserver(() => made.setSize({ width: element.clientWidth, height }));
    observer.observe(element);
    return () => {
      observer.disconnect();
      made.destroy();
    };
  }, [light, leastS]);

  useEffect(() => {
    // Also after the light has changed: then the plot is a new one.
    void light;
    plot.current?.setData([[...atS], ...series.map(({ values }) => [...values])]);
  }, [atS, series, light]);

  return <div ref={box} className="chart" role="img" aria-label={label} />;
}
