import { useEffect, useRef } from 'react';
import UPlot from 'uplot';
import 'uplot/dist/uPlot.min.css';
import { type Light, palette } from './theme.js';
import type { Second } from './useOverview.js';

const height = 180;

/** Messages in and deliveries out per second, over the last minutes. */
export function RateChart({ seconds, light }: { readonly seconds: readonly Second[]; readonly light: Light }) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<UPlot | undefined>(undefined);

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
          // At least a minute, so that the first seconds do not look like a lot.
          x: { range: (_, first, last = Date.now() / 1000) => [Math.min(first ?? last, last - 60), last] },
          y: { range: (_, __, most) => [0, Math.max(1, most * 1.1)] },
        },
        axes: [
          {
            ...axis,
            size: 34,
            values: (_, splits) => splits.map((atS) => new Date(atS * 1000).toLocaleTimeString('en-GB')),
          },
          { ...axis, size: 56 },
        ],
        series: [
          {},
          { label: 'messages in per second', stroke: colors.tide, width: 2, points: { show: false } },
          {
            label: 'deliveries out per second',
            stroke: colors.brass,
            fill: `${colors.brass}22`,
            width: 2,
            points: { show: false },
          },
        ],
      },
      [[], [], []],
      element,
    );
    plot.current = made;
    const observer = new ResizeObserver(() => made.setSize({ width: element.clientWidth, height }));
    observer.observe(element);
    return () => {
      observer.disconnect();
      made.destroy();
    };
  }, [light]);

  useEffect(() => {
    // Also after the light has changed: then the plot is a new one.
    void light;
    plot.current?.setData([
      seconds.map(({ atS }) => atS),
      seconds.map(({ messagesIn }) => messagesIn),
      seconds.map(({ deliveries }) => deliveries),
    ]);
  }, [seconds, light]);

  return <div ref={box} className="chart" role="img" aria-label="Messages in and deliveries out per second" />;
}
