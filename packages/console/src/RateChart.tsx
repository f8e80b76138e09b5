import { LineChart } from './LineChart.js';
import type { Light } from './theme.js';
import type { Second } from './useOverview.js';

/** Messages in and deliveries out per second, over the last minutes. */
export function RateChart({ seconds, light }: { readonly seconds: readonly Second[]; readonly light: Light }) {
  return (
    <LineChart
      label="Messages in and deliveries out per second"
      atS={seconds.map(({ atS }) => atS)}
      series={[
        { label: 'messages in per second', color: 'tide', values: seconds.map(({ messagesIn }) => messagesIn) },
        {
          label: 'deliveries out per second',
          color: 'brass',
          isFilled: true,
          values: seconds.map(({ deliveries }) => deliveries),
        },
      ]}
      light={light}
    />
  );
}
