import type { ChannelName } from '@nine-bells/wire';

/** What went through a channel, or a rule's channels, within some time. */
export interface Figures {
  /** Messages in. */
  readonly messages: number;
  /** Changes of entries of the board that were asked for. */
  readonly changes: number;
  /** Changes whose value was replaced before it was sent to a client. */
  readonly merged: number;
  /** Frames out: a message or a frame of the board to a client counts one. */
  readonly deliveries: number;
  /** Bytes of them, without what the transport adds. */
  readonly bytes: number;
}

/** Figures as they are counted, since the channel was opened on this instance. */
export class Flow implements Figures {
  messages = 0;
  changes = 0;
  merged = 0;
  deliveries = 0;
  bytes = 0;
}

/** What a board would save where there is none, computed from a channel's own messages. */
export interface BoardAdvice {
  /** The type of the messages that replace one another. */
  readonly type: string;
  /** Where `data` names what they are about, as a JSON Pointer. */
  readonly entry: string;
  /** How many of them there are in a second, and of how many entries. */
  readonly perS: number;
  readonly entries: number;
  /** Frames to each client in a second, as a board at its usual pace. */
  readonly framesPerS: number;
}

export interface ChannelTraffic extends Figures {
  readonly channel: ChannelName;
  readonly pattern: string;
  /** Clients that get the channel now. */
  readonly recipients: number;
  readonly advice?: BoardAdvice;
}

export interface RuleTraffic extends Figures {
  readonly pattern: string;
}

export interface MinuteTraffic extends Figures {
  /** When the minute began, in milliseconds since the epoch. */
  readonly atMs: number;
  /** How much of it the figures are of, in milliseconds. */
  readonly forMs: number;
}

/** What went through one instance, or all of them. */
export interface Traffic {
  /** The last minutes, up to an hour, the latest last. */
  readonly minutes: readonly MinuteTraffic[];
  /** How long that is, the present minute being as old as it is, in milliseconds. */
  readonly minutesForMs: number;
  /** Of these minutes together, by rule. */
  readonly rules: readonly RuleTraffic[];
  /** The busiest channels in the last minute or so, by bytes. */
  readonly channels: readonly ChannelTraffic[];
  /** For how long the figures of `channels` were counted, in milliseconds. */
  readonly channelsForMs: number;
  /** Frames handed to transports, and in how many writes, since the start. */
  readonly frames: number;
  readonly writes: number;
}

const names = ['messages', 'changes', 'merged', 'deliveries', 'bytes'] as const satisfies readonly (keyof Figures)[];

export function figuresOf({ messages, changes, merged, deliveries, bytes }: Figures): Figures {
  return { messages, changes, merged, deliveries, bytes };
}

/** What has come since earlier figures. */
export function since(now: Figures, earlier: Figures): Figures {
  return combined(now, earlier, (a, b) => a - b);
}

export function plus(a: Figures, b: Figures): Figures {
  return combined(a, b, (one, other) => one + other);
}

/**
 * Figures of two instances together. Each message passes every instance that has clients in its channel, and counts once;
 * what was delivered is added up.
 */
export function together(a: Figures, b: Figures): Figures {
  return { ...plus(a, b), messages: Math.max(a.messages, b.messages) };
}

function combined(a: Figures, b: Figures, join: (a: number, b: number) => number): Figures {
  return Object.fromEntries(names.map((name) => [name, join(a[name], b[name])])) as unknown as Figures;
}
