import { shares } from '../format/drill.js';
import { refusedText, sumOf } from '../load/runLoad.js';
import type { LoadFigures, Percentiles, SecondFigures } from '../run/results.js';

const whole = new Intl.NumberFormat('en');
const timed = ['delivery', 'reply', 'connect', 'late'] as const;

/** What a load has measured, for a terminal; compared with an earlier one if there is one. */
export function loadLines(figures: LoadFigures, earlier?: LoadFigures): readonly string[] {
  const { clients, connected, connectMs, total, forMs, processes, seconds, doubts } = figures;
  const busiest = Math.max(0, ...seconds.map(({ generator: { cpu } }) => cpu));
  const memory = Math.max(0, ...seconds.map(({ generator: { memoryBytes } }) => memoryBytes));
  const lines = [
    `${whole.format(connected)} of ${whole.format(clients)} clients connected within ${(connectMs / 1000).toFixed(1)} s`,
    `${forMs / 1000} s: ${whole.format(total.sent)} requests, ${whole.format(total.received)} messages received (${whole.format(total.receivedPerS)}/s), ${total.lost} lost, refused or failed: ${refusedText(total)}`,
    `${''.padEnd(10)}${Object.keys(shares)
      .map((share) => share.padStart(10))
      .join('')}`,
  ];
  for (const name of timed) {
    const now = total[name];
    if (now === undefined) continue;
    lines.push(row(name, now));
    const before = earlier?.total[name];
    if (before !== undefined) lines.push(row('  before', before), ratioRow(now, before));
  }
  lines.push(
    `generator: ${processes === 1 ? '1 process' : `${processes} processes`}, the busiest ${Math.round(busiest * 100)}% of a core, ${Math.round(memory / 1_048_576)} MiB in all`,
    ...doubts.map((doubt) => `doubtful: ${doubt}`),
  );
  if (earlier !== undefined)
    lines.push(
      `before: ${earlier.at}, ${whole.format(earlier.total.receivedPerS)}/s received, ${earlier.total.lost} lost`,
    );
  return lines;
}

/** A second, as it passes. */
export function secondLine(
  { second, sent, received, delivery, refused, failed, unanswered, generator }: SecondFigures,
  forMs: number,
): string {
  const p99 = delivery === undefined ? '' : `, delivery p99 ${msText(delivery.p99)}`;
  const bad = sumOf(refused) + failed + unanswered;
  return `${second + 1} of ${Math.round(forMs / 1000)} s: ${whole.format(sent)} requests, ${whole.format(received)} received${p99}${bad === 0 ? '' : `, ${bad} refused or failed`}, generator ${Math.round(generator.cpu * 100)}%`;
}

function row(name: string, times: Percentiles): string {
  return `${name.padEnd(10)}${Object.keys(shares)
    .map((share) => msText(times[share as keyof Percentiles]).padStart(10))
    .join('')}`;
}

function ratioRow(now: Percentiles, before: Percentiles): string {
  const ratios = Object.keys(shares).map((share) => {
    const [a, b] = [now[share as keyof Percentiles], before[share as keyof Percentiles]];
    return (b > 0 ? `${(a / b).toFixed(2)}x` : '').padStart(10);
  });
  return `${''.padEnd(10)}${ratios.join('')}`;
}

function msText(ms: number): string {
  return ms < 10 ? `${ms.toFixed(2)} ms` : `${Math.round(ms)} ms`;
}
