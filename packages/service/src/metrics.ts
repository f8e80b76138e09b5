import type { Engine } from '@nine-bells/core';
import { Counter, Gauge, type Metric, Registry } from 'prom-client';
import { CountedHistogram } from './countedHistogram.js';
import { serviceVersion } from './version.js';

/** Bounds of what is measured in seconds: half a millisecond to five seconds. */
const buckets = [0.0005, 0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5];

/** What an instance measures of itself, in the form that OpenMetrics gives. Names and labels stand in docs/metrics.md. */
export class Metrics {
  readonly #registry = new Registry<typeof Registry.OPENMETRICS_CONTENT_TYPE>();
  readonly #took: Readonly<Record<'relay' | 'commit', CountedHistogram>>;

  constructor() {
    this.#registry.setContentType(Registry.OPENMETRICS_CONTENT_TYPE);
    this.#took = {
      relay: this.#histogram('bells_relay_seconds', 'Until the relay had ordered a message of a recent channel'),
      commit: this.#histogram('bells_commit_seconds', 'Until a message of a kept channel was committed'),
    };
  }

  /** How long something took, in milliseconds. */
  readonly took = (what: 'relay' | 'commit', ms: number): void => this.#took[what].observe(ms / 1000);

  /** What is read when metrics are scraped. */
  watch(engine: Engine, loopDelayMs: () => number, failedCommits: () => number): void {
    const { counters } = engine;
    this.#gauge('bells_info', 'Always 1; what runs', ['instance', 'version'], (set) =>
      set(1, { instance: engine.options.instance, version: serviceVersion }),
    );
    this.#gauge('bells_connections', 'Connections that are open', ['transport'], (set) => {
      for (const [transport, count] of engine.stats.transports) set(count, { transport });
    });
    this.#gauge('bells_channels_entered', 'Channels that a client here has entered', [], (set) =>
      set(engine.stats.enteredChannels),
    );
    this.#gauge('bells_instances', 'Instances of the service, this one included', [], (set) =>
      set(engine.cluster.instances.length),
    );
    this.#gauge('bells_open', 'Whether new connections are let in', [], (set) => set(engine.isOpen ? 1 : 0));
    this.#gauge('bells_backlog_messages', 'Messages that wait to be given their place', [], (set) =>
      set(engine.stats.backlog),
    );
    this.#gauge('bells_send_queue_bytes', 'Bytes that wait for all connections together', [], (set) =>
      set(engine.stats.waitingBytes),
    );
    this.#gauge('bells_loop_delay_seconds', 'How late timers run: what 99 of 100 stay below', [], (set) =>
      set(loopDelayMs() / 1000),
    );
    this.#gauge('bells_warnings', 'What is not as it should be with the instance, or with what it needs', [], (set) =>
      set(engine.cluster.status.warnings?.length ?? 0),
    );
    this.#gauge('bells_native_writer', 'Whether frames are written by the native writer', [], (set) =>
      set(engine.cluster.status.writer === 'native' ? 1 : 0),
    );
    this.#gauge('bells_memory_bytes', 'Resident memory of the process', [], (set) => set(process.memoryUsage.rss()));

    this.#counter('bells_messages', 'Messages published; repeats by key do not count', [], (add) =>
      add(counters.messagesIn),
    );
    this.#counter('bells_changes', 'Messages revised and withdrawn; repeats by key do not count', ['what'], (add) => {
      for (const [what, count] of Object.entries(counters.changes)) add(count, { what });
    });
    this.#counter('bells_board_changes', 'Changes of entries of boards that were taken', [], (add) =>
      add(counters.boardChanges),
    );
    this.#counter('bells_commits_failed', 'Transactions that did not get through', [], (add) => add(failedCommits()));
    this.#counter('bells_deliveries', 'Messages handed to connections', [], (add) => add(counters.deliveries));
    this.#counter('bells_received_characters', 'Characters of frames that came in', [], (add) => add(counters.charsIn));
    this.#counter('bells_written_bytes', 'Bytes handed to connections', [], (add) => add(engine.stats.written.bytes));
    this.#counter('bells_relayed_texts', 'Texts that came from the relay', [], (add) =>
      add(engine.cluster.relayedTexts),
    );
    this.#counter('bells_refusals', 'What was refused, on the line and over HTTP, by problem', ['code'], (add) => {
      for (const [code, count] of counters.refusalsByCode) add(count, { code });
    });
    this.#counter('bells_misfits', 'Data that does not fit its contract', ['pattern', 'outcome'], (add) => {
      for (const [pattern, counts] of counters.misfits)
        for (const [outcome, count] of Object.entries(counts)) add(count, { pattern, outcome });
    });
    this.#counter('bells_pruned', 'Messages pruned from kept logbooks, and records forgotten', ['what'], (add) => {
      for (const [what, count] of Object.entries(counters.pruned)) add(count, { what });
    });
    this.#counter(
      'bells_reviews',
      'What the application said of messages before they were published',
      ['said'],
      (add) => {
        for (const [said, count] of Object.entries(counters.reviews)) add(count, { said });
      },
    );
    this.#counter('bells_access_decisions', 'Acts decided by the rules', ['act', 'outcome'], (add) => {
      for (const [act, { allowed, refused }] of engine.stats.decisions) {
        add(allowed, { act, outcome: 'allowed' });
        add(refused, { act, outcome: 'refused' });
      }
    });
    this.#counter('bells_hails_dropped', 'Hails that found no room in a send queue', [], (add) =>
      add(engine.stats.written.hailsDropped),
    );
    this.#counter('bells_cut_off', 'Connections cut off as too slow', [], (add) => add(counters.cutOff));
    this.#counter(
      'bells_recoveries',
      'Channels gone on in with a cursor, by where the record was read',
      ['source'],
      (add) => {
        for (const [source, count] of Object.entries(counters.recoveries)) add(count, { source });
      },
    );
    this.#counter('bells_recovered_messages', 'Messages given to those who came back', [], (add) =>
      add(counters.recovered),
    );
    this.#counter('bells_intake_events', 'Events at intakes, by what became of them', ['intake', 'outcome'], (add) => {
      for (const { name } of engine.intakes.all)
        for (const [outcome, count] of Object.entries(engine.intakes.countsOf(name)))
          add(count, { intake: name, outcome });
    });
    this.#counter('bells_hook_attempts', 'Attempts to deliver to hooks, by outcome', ['hook', 'outcome'], (add) => {
      for (const { hook, counts } of engine.hooks.all)
        for (const [outcome, count] of Object.entries({ ...counts })) add(count, { hook: hook.name, outcome });
    });
    this.#gauge(
      'bells_retention_late_seconds',
      'How much longer than its rule says the oldest message was kept, where this instance could not prune in time',
      [],
      (set) => set(engine.pruner.lateMs / 1_000, {}),
    );
    this.#gauge('bells_hook_waiting', 'Events that wait for a hook or in a feed, on all instances', ['hook'], (set) => {
      for (const { hook, waiting } of engine.hooks.all) set(waiting, { hook: hook.name });
    });
    this.#gauge('bells_hook_state', '1 for the state that a hook is in', ['hook', 'state'], (set) => {
      for (const { hook, state, isFull, isDown } of engine.hooks.all) {
        const name = state?.paused !== undefined ? 'paused' : isFull ? 'full' : isDown ? 'failing' : 'active';
        set(1, { hook: hook.name, state: name });
      }
    });
    this.#counter('bells_calls', 'Calls, by how they ended', ['call', 'outcome'], (add) => {
      for (const [call, counts] of engine.calls.counts)
        for (const [outcome, count] of Object.entries(counts)) add(count, { call, outcome });
    });
    this.#counter('bells_gaps', 'Gaps told, by why', ['why'], (add) => {
      for (const [why, count] of Object.entries(counters.gaps)) add(count, { why });
    });
  }

  get contentType(): string {
    return this.#registry.contentType;
  }

  text(): Promise<string> {
    return this.#registry.metrics();
  }

  #histogram(name: string, help: string): CountedHistogram {
    const histogram = new CountedHistogram(name, help, buckets);
    // The library asks a metric for no more than this one has; its types ask for the labels of its own classes.
    this.#registry.registerMetric(histogram as unknown as Metric);
    return histogram;
  }

  #gauge(name: string, help: string, labelNames: string[], look: (set: Set) => void): void {
    const gauge: Gauge = new Gauge({
      name,
      help,
      labelNames,
      registers: [this.#registry],
      collect: () => {
        gauge.reset();
        look((value, labels = {}) => gauge.set(labels, value));
      },
    });
  }

  #counter(name: string, help: string, labelNames: string[], look: (add: Set) => void): void {
    const counter: Counter = new Counter({
      name,
      help,
      labelNames,
      registers: [this.#registry],
      collect: () => {
        counter.reset();
        look((value, labels = {}) => counter.inc(labels, value));
      },
    });
  }
}

type Set = (value: number, labels?: Readonly<Record<string, string>>) => void;
