import type { ChannelName, Invitation } from '@nine-bells/wire';
import { defined } from '@nine-bells/wire';
import type { Actor } from './moderation.js';

/** What is wished of an invitation. */
export interface InvitationWish {
  readonly channel: ChannelName;
  /** Only this user may accept it. */
  readonly user?: string;
  readonly role?: string;
  readonly uses?: number;
  readonly forMs?: number;
}

/** An invitation on its way into the store, with the digest of its code. */
export interface InvitationDraft {
  readonly id: string;
  readonly digest: string;
  readonly channel: ChannelName;
  readonly user?: string;
  readonly role?: string;
  readonly uses: number;
  readonly atMs: number;
  /** Until when it can be accepted, in milliseconds since the epoch. */
  readonly untilMs: number;
  readonly by: Actor;
}

/** An invitation as it is kept. */
export interface KeptInvitation extends Omit<InvitationDraft, 'digest'> {
  readonly used: number;
  readonly revokedAtMs?: number;
}

/** That a user is let into a channel. */
export interface Admission {
  readonly user: string;
  readonly channel: ChannelName;
  readonly role?: string;
  /** The id of the invitation. */
  readonly invitation: string;
  readonly atMs: number;
  /** In milliseconds since the epoch; absent: until it is ended. */
  readonly untilMs?: number;
}

/** A user accepts an invitation. */
export interface Acceptance {
  readonly digest: string;
  readonly user: string;
  readonly atMs: number;
  /** When the admission ends by itself. */
  readonly untilMs?: number;
  /** Into how many channels a user can be let at most. */
  readonly most: number;
}

/** Whether an admission still lets its user in. */
export function letsIn({ untilMs = Number.POSITIVE_INFINITY }: Admission, atMs: number): boolean {
  return untilMs > atMs;
}

/** Why an invitation cannot be accepted by a user; `undefined`: it can. */
export function whyOver(
  { revokedAtMs, untilMs, used, uses, user }: KeptInvitation,
  atMs: number,
  by?: string,
): NonNullable<Invitation['over']> | 'another' | undefined {
  if (revokedAtMs !== undefined) return 'revoked';
  if (untilMs <= atMs) return 'expired';
  if (by !== undefined && user !== undefined && user !== by) return 'another';
  return used >= uses ? 'used-up' : undefined;
}

/** An invitation as those see it who may invite. */
export function invitationShown(kept: KeptInvitation, nowMs: number): Invitation {
  const { id, channel, user, role, uses, used, atMs, untilMs, by } = kept;
  // Without a user that accepts it, it is over for no user in particular.
  const over = whyOver(kept, nowMs) as Invitation['over'];
  return {
    id,
    channel,
    ...(by.kind === 'user' && { by: { user: by.id, ...defined({ name: by.name }) } }),
    at: new Date(atMs).toISOString(),
    until: new Date(untilMs).toISOString(),
    uses,
    used,
    ...defined({ user, role, over }),
  };
}
