import type { ChannelName, Json } from '@nine-bells/wire';
import type { Fanout } from '../delivery/fanout.js';
import type { TimerWheel } from '../lib/timerWheel.js';
import { defaultBoard } from '../model/board.js';
import type { LoggedMessage } from '../model/message.js';
import {
  type BoardAdvice,
  type ChannelTraffic,
  type Figures,
  Flow,
  figuresOf,
  type MinuteTraffic,
  plus,
  since,
  type Traffic,
} from '../model/traffic.js';
import type { Clock } from '../ports/clock.js';
import type { Channel } from './channel.js';

export interface TrafficHost {
  readonly clock: Clock;
  readonly wheel: TimerWheel;
  readonly fanout: Fanout;
  readonly channels: Iterable<Channel>;
}

/** How often channels are looked at, in milliseconds, and how many of these times a channel's figures are of. */
const tickMs = 10_000;
const ticks = 6;
const minuteMs = 60_000;
const maxMinutes = 60;
/** Most channels in an answer. */
const maxChannels = 50;
/** Messages of a channel looked at for advice, and how often one must be replaced to be worth it, in a second. */
const sampleMessages = 200;
const leastPerS = 3;

/** Traffic by channel rule for an hour and by channel for a minute, from the channels' own counters, sampled every tick. */
export class TrafficLog {
  readonly #host: TrafficHost;
  /** Each channel's counters at the last ticks, the earliest first. */
  readonly #seen = new Map<ChannelName, { readonly channel: Channel; readonly looks: Figures[] }>();
  /** By the minute it began in, and by rule. */
  readonly #minutes = new Map<number, Map<string, Figures>>();
  #lookedAtMs: number[] = [];
  readonly #beganMs: number;

  constructor(host: TrafficHost) {
    this.#host = host;
    this.#lookedAtMs.push(host.clock.monotonic());
    this.#beganMs = host.clock.now();
    this.#lookLater();
  }

  get here(): Traffic {
    this.#look();
    const { clock, fanout } = this.#host;
    const rules = new Map<string, Figures>();
    const minutes: MinuteTraffic[] = [];
    for (const [minute, byRule] of this.#minutes) {
      let all: Figures = new Flow();
      for (const [pattern, figures] of byRule) {
        all = plus(all, figures);
        rules.set(pattern, plus(rules.get(pattern) ?? new Flow(), figures));
      }
      const atMs = minute * minuteMs;
      const forMs = Math.max(1, Math.min(clock.now(), atMs + minuteMs) - Math.max(atMs, this.#beganMs));
      minutes.push({ atMs, forMs, ...all });
    }
    const [first = clock.monotonic()] = this.#lookedAtMs;
    const channelsForMs = Math.max(1, clock.monotonic() - first);
    const firstMs = Math.max(this.#beganMs, minutes[0]?.atMs ?? 0);
    return {
      minutes,
      minutesForMs: Math.max(1, clock.now() - firstMs),
      rules: [...rules].map(([pattern, figures]) => ({ pattern, ...figures })),
      channels: this.#busiest(channelsForMs),
      channelsForMs,
      frames: fanout.framesOut,
      writes: fanout.writes,
    };
  }

  #busiest(forMs: number): readonly ChannelTraffic[] {
    const all: { channel: Channel; figures: Figures }[] = [];
    for (const { channel, looks } of this.#seen.values()) {
      const figures = since(channel.flow, looks[0] as Figures);
      if (figures.messages + figures.changes + figures.deliveries > 0) all.push({ channel, figures });
    }
    const busiest = all.sort((a, b) => b.figures.bytes - a.figures.bytes).slice(0, maxChannels);
    return busiest.map(({ channel, figures }) => {
      const advice = this.#adviceFor(channel, figures, forMs);
      const { name, match, recipients } = channel;
      return { channel: name, pattern: match.rule.pattern, recipients, ...figures, ...(advice && { advice }) };
    });
  }

  /** Adds what has come since the last look to the present minute. */
  #look(): void {
    const minute = Math.floor(this.#host.clock.now() / minuteMs);
    let byRule = this.#minutes.get(minute);
    if (byRule === undefined) {
      byRule = new Map();
      this.#minutes.set(minute, byRule);
      for (const oldest of [...this.#minutes.keys()].slice(0, -maxMinutes)) this.#minutes.delete(oldest);
    }
    for (const channel of this.#host.channels) {
      let seen = this.#seen.get(channel.name);
      if (seen?.channel !== channel) {
        seen = { channel, looks: [new Flow()] };
        this.#seen.set(channel.name, seen);
      }
      const { pattern } = channel.match.rule;
      const news = since(channel.flow, channel.counted);
      channel.counted = figuresOf(channel.flow);
      if (news.messages + news.changes + news.deliveries > 0)
        byRule.set(pattern, plus(byRule.get(pattern) ?? new Flow(), news));
    }
  }

  #lookLater(): void {
    this.#host.wheel.after(tickMs, () => {
      this.#look();
      const open = new Set(this.#host.channels);
      for (const [name, { channel, looks }] of this.#seen) {
        if (!open.has(channel)) this.#seen.delete(name);
        looks.push(figuresOf(channel.flow));
        if (looks.length > ticks) looks.shift();
      }
      this.#lookedAtMs.push(this.#host.clock.monotonic());
      if (this.#lookedAtMs.length > ticks) this.#lookedAtMs.shift();
      this.#lookLater();
    });
  }

  #adviceFor(channel: Channel, { messages }: Figures, forMs: number): BoardAdvice | undefined {
    if (messages < (leastPerS * forMs) / 1000 || channel.match.rule.board?.types !== undefined) return undefined;
    return adviceOf(channel.latest(sampleMessages));
  }
}

/** Detects messages of which only the latest counts: authors that publish the same members of `data` again and again. */
export function adviceOf(messages: readonly LoggedMessage[]): BoardAdvice | undefined {
  const [first, last] = [messages[0], messages.at(-1)];
  if (first === undefined || last === undefined) return undefined;
  const seconds = Math.max(0.5, (last.atMs - first.atMs) / 1000);
  const groups = new Map<string, { type: string; author: string; data: Readonly<Record<string, Json>>[] }>();
  for (const { message } of messages) {
    const { data, type, by } = message;
    if (typeof data !== 'object' || data === null || Array.isArray(data)) continue;
    const shaped = data as Readonly<Record<string, Json>>;
    const author = by?.user ?? '';
    const key = JSON.stringify([type, author, Object.keys(shaped).sort()]);
    const group = groups.get(key) ?? { type, author, data: [] };
    group.data.push(shaped);
    groups.set(key, group);
  }
  const busy = [...groups.values()].filter(({ data }) => data.length / seconds >= leastPerS);
  const type = busy[0]?.type;
  const same = busy.filter((each) => each.type === type);
  const entry =
    same[0] === undefined ? undefined : Object.keys(same[0].data[0] ?? {}).find((name) => names(name, same));
  if (type === undefined || entry === undefined) return undefined;
  const perS = same.reduce((sum, { data }) => sum + data.length, 0) / seconds;
  return {
    type,
    entry: `/${entry.replaceAll('~', '~0').replaceAll('/', '~1')}`,
    perS,
    entries: new Set(same.flatMap(({ data }) => data.map((each) => each[entry]))).size,
    framesPerS: Math.min(perS, 1000 / defaultBoard.everyMs),
  };
}

/** Whether a member of `data` can name the entry: text that is constant within each group and differs between groups. */
function names(
  member: string,
  groups: readonly { readonly data: readonly Readonly<Record<string, Json>>[] }[],
): boolean {
  const values = groups.map(({ data }) => new Set(data.map((each) => each[member])));
  if (values.some((each) => each.size !== 1 || typeof [...each][0] !== 'string')) return false;
  return new Set(values.map((each) => [...each][0])).size === groups.length;
}
