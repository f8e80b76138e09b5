import type { Calls } from '../calls/calls.js';
import type { Hooks } from '../hooks/hooks.js';
import type { Intakes } from '../intakes/intakes.js';

/** Totals by name, since instances have started. */
export type Totals = Readonly<Record<string, Readonly<Record<string, number>>>>;

/** Totals of intakes, hooks and calls. */
export interface WebhookCounts {
  readonly intakes: Totals;
  readonly hooks: Totals;
  readonly calls: Totals;
}

/** The totals of this instance. */
export function webhookCountsOf(intakes: Intakes, hooks: Hooks, calls: Calls): WebhookCounts {
  return {
    intakes: Object.fromEntries(intakes.all.map(({ name }) => [name, { ...intakes.countsOf(name) }])),
    hooks: Object.fromEntries(hooks.all.flatMap(({ hook, counts }) => (counts ? [[hook.name, { ...counts }]] : []))),
    calls: Object.fromEntries([...calls.counts].map(([name, counts]) => [name, { ...counts }])),
  };
}

/** The sums of what several instances say. */
export function joinedCounts(all: readonly WebhookCounts[]): WebhookCounts {
  return {
    intakes: sums(all.map(({ intakes }) => intakes)),
    hooks: sums(all.map(({ hooks }) => hooks)),
    calls: sums(all.map(({ calls }) => calls)),
  };
}

function sums(all: readonly Totals[]): Totals {
  const sum = new Map<string, Map<string, number>>();
  for (const totals of all)
    for (const [name, counts] of Object.entries(totals)) {
      const known = sum.get(name) ?? new Map<string, number>();
      sum.set(name, known);
      for (const [what, count] of Object.entries(counts)) known.set(what, (known.get(what) ?? 0) + count);
    }
  return Object.fromEntries([...sum].map(([name, counts]) => [name, Object.fromEntries(counts)]));
}
