import type { ChannelName } from '@nine-bells/wire';
import type { QueuedEvent } from './hook.js';

/** Who has done something: an application or an operator by its API key, a user over the line, or the service itself. */
export interface Actor {
  readonly kind: 'key' | 'user' | 'service';
  /** The key's id, or the user's. */
  readonly id: string;
  readonly name?: string;
  /** The id of the key with which an application acted in the user's name. */
  readonly through?: string;
}

interface Taken {
  readonly id: string;
  readonly by: Actor;
  readonly atMs: number;
  /** Told to whom it concerns. */
  readonly reason?: string;
}

/** Keeps a user or an address out: of one channel, or of the whole service. */
export interface Ban extends Taken {
  readonly type: 'ban';
  /** A user id, guests' ids too; or else an address. */
  readonly user?: string;
  readonly address?: string;
  /** Absent: of the whole service. */
  readonly channel?: ChannelName;
  /** When it ends by itself, in milliseconds since the epoch; absent: never. */
  readonly untilMs?: number;
}

/** Ends a ban before its time. */
export interface Unban extends Taken {
  readonly type: 'unban';
  readonly ban: string;
  readonly user?: string;
  readonly address?: string;
  readonly channel?: ChannelName;
}

/** Ends a user's stay in a channel. With `untilMs` it is also a ban from there. */
export interface Removal extends Taken {
  readonly type: 'remove';
  readonly user: string;
  readonly channel: ChannelName;
  readonly untilMs?: number;
}

/** Ends all sessions of a user and revokes earlier tokens. */
export interface SignOut extends Taken {
  readonly type: 'sign-out';
  readonly user: string;
}

/** Revokes tokens of a user issued before now; a user with a newer one may come back at once. */
export interface Revocation extends Taken {
  readonly type: 'revoke-tokens';
  readonly user: string;
  /** The user is erased: sessions are no longer shown, without grace. */
  readonly erases?: true;
}

/** Lets a user read and not write: in one channel, or in the whole service. */
export interface Silence extends Taken {
  readonly type: 'silence';
  readonly user: string;
  /** It may publish once in this time in each channel, in milliseconds; absent: not at all. */
  readonly everyMs?: number;
  /** Absent: in the whole service. */
  readonly channel?: ChannelName;
  /** When it ends by itself, in milliseconds since the epoch; absent: never. */
  readonly untilMs?: number;
}

/** Ends a silence before its time. */
export interface EndSilence extends Taken {
  readonly type: 'end-silence';
  readonly silence: string;
  readonly user: string;
  readonly channel?: ChannelName;
}

/** An act of moderation: it takes effect at once, on all instances, and outlives them. */
export type ModerationAction = Ban | Unban | Removal | Silence | EndSilence | SignOut | Revocation;

/** A moderation action that keeps a user or an address out. */
export type ActiveBan = Ban | (Removal & { readonly untilMs: number });

export function isActiveBan(action: ModerationAction): action is ActiveBan {
  return action.type === 'ban' || (action.type === 'remove' && action.untilMs !== undefined);
}

/** An action to commit together with its events for hooks. */
export interface Committing<M extends ModerationAction> {
  readonly action: M;
  readonly events: readonly QueuedEvent[];
}

/** Everything in force, as a store gives it back. */
export interface InForce {
  readonly bans: readonly ActiveBan[];
  readonly silences: readonly Silence[];
  /** Per user: tokens issued before are not taken, in milliseconds since the epoch. */
  readonly cutoffs: readonly { readonly user: string; readonly beforeMs: number }[];
}

/** One line of the audit log: who did what to whom, where, why and when. */
export interface AuditEntry {
  /** Rises with time. */
  readonly number: number;
  readonly atMs: number;
  /** The type of a moderation action, or another act such as `make-key`. */
  readonly type: string;
  readonly by: Actor;
  readonly user?: string;
  readonly address?: string;
  readonly channel?: ChannelName;
  readonly reason?: string;
  readonly untilMs?: number;
  /** What else belongs to it, such as the name of the key that was made. */
  readonly about?: string;
}

/** Whom to keep out, and from what. */
export interface BanWish {
  /** A user id, or else an address or a range of addresses. */
  readonly user?: string;
  readonly address?: string;
  /** Absent: from the whole service. */
  readonly channel?: ChannelName;
  /** For how long, in milliseconds; absent: until it is lifted. */
  readonly forMs?: number;
  readonly reason?: string;
}

/** Whom to silence, and where. */
export interface SilenceWish {
  readonly user: string;
  /** It may publish once in this time in each channel, in milliseconds; absent: not at all. */
  readonly everyMs?: number;
  /** Absent: in the whole service. */
  readonly channel?: ChannelName;
  /** For how long, in milliseconds; absent: until it is ended. */
  readonly forMs?: number;
  readonly reason?: string;
}

/** An action, and how many sessions it has reached at once. */
export interface Effect<M extends ModerationAction = ModerationAction> {
  readonly action: M;
  readonly sessions: number;
}

/** Whose stay in a channel is to end, and for how long it may not come back. */
export interface RemovalWish {
  readonly channel: ChannelName;
  readonly user: string;
  readonly reason?: string | undefined;
  readonly banMs?: number | undefined;
}
