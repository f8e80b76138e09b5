/**
 * A histogram that counts into an array, for what is measured with each message; the metrics library is handed the counts
 * when they are scraped. Its own way takes as long as all else that is done for a message outside of the database.
 */
export class CountedHistogram {
  readonly name: string;
  readonly help: string;
  readonly type = 'histogram';
  readonly aggregator = 'sum';
  readonly #bounds: readonly number[];
  /** How many were within each bound and above the one before; the last ones are above all. */
  readonly #counts: Float64Array;
  #sum = 0;

  /** @param bounds - ascending, in the unit of what is observed */
  constructor(name: string, help: string, bounds: readonly number[]) {
    this.name = name;
    this.help = help;
    this.#bounds = bounds;
    this.#counts = new Float64Array(bounds.length + 1);
  }

  /** Hot: once per publish. */
  observe(value: number): void {
    const bounds = this.#bounds;
    let at = 0;
    while (at < bounds.length && value > (bounds[at] as number)) at += 1;
    this.#counts[at] = (this.#counts[at] as number) + 1;
    this.#sum += value;
  }

  /** As the library asks a metric. */
  async get(): Promise<object> {
    const { name, help, type, aggregator } = this;
    const values: object[] = [];
    let count = 0;
    for (const [at, some] of this.#counts.entries()) {
      count += some;
      values.push({ metricName: `${name}_bucket`, labels: { le: this.#bounds[at] ?? '+Inf' }, value: count });
    }
    values.push({ metricName: `${name}_sum`, labels: {}, value: this.#sum });
    values.push({ metricName: `${name}_count`, labels: {}, value: count });
    return { name, help, type, aggregator, values };
  }

  reset(): void {
    this.#counts.fill(0);
    this.#sum = 0;
  }
}
