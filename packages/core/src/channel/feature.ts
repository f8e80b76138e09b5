import type { ChannelName } from '@nine-bells/wire';
import type { Frame } from '../model/frame.js';
import type { Signal } from '../model/signal.js';
import type { Flow } from '../model/traffic.js';
import type { RuleMatch } from '../rules/channelRule.js';

/**
 * Something that hangs on a channel beside its messages, such as who is there or how far users have read.
 *
 * A feature is attached when a channel opens, if the channel's rule uses it: it costs nothing elsewhere.
 */
export interface ChannelFeature {
  /** The feature shows something that needs the channel to stay open. */
  readonly keepsOpen: boolean;
  /** Resolves when the feature knows what it shows to a client that enters; `undefined` if it knows that now. */
  ready(): Promise<void> | undefined;
  /** Takes a signal from the relay; signals of other features come too. */
  receive(signal: Signal): void;
  /** The relay has handed over nothing for a while: what changed meanwhile must be asked for. */
  signalsMissed(): void;
  /** Another instance has ended. */
  instanceGone(instanceId: string): void;
  close(): void;
}

/** A channel, as its features see it. */
export interface FeatureChannel {
  readonly name: ChannelName;
  readonly match: RuleMatch;
  /** What has gone through the channel here. */
  readonly flow: Flow;
  /** Pushes a frame to all clients in the channel. */
  tell(frame: Frame): void;
}

/** Attaches a feature to channels. */
export interface FeatureSource {
  /** Gives the feature of a channel that opens; `undefined` if the channel's rule does not use it. */
  attach(channel: FeatureChannel): ChannelFeature | undefined;
}
