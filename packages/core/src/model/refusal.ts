import type { ChannelName, ProblemCode } from '@nine-bells/wire';

/** Something that was refused: to whom, for which act, and why. It holds no token, key or secret. */
export interface Refused {
  readonly code: ProblemCode;
  /** The verb that was refused, `connect`, or a method and a path. */
  readonly act: string;
  readonly detail?: string | undefined;
  readonly user?: string | undefined;
  readonly session?: string | undefined;
  readonly address?: string | undefined;
  readonly channel?: ChannelName | undefined;
  /** Of the page (RFC 6454). */
  readonly origin?: string | undefined;
  /** It was let pass: the channel rule only reports what does not fit its contracts. */
  readonly reportOnly?: true | undefined;
}

/** One of the latest refusals of a kind. */
export type RefusedOnce = Omit<Refused, 'code' | 'act' | 'reportOnly'> & { readonly atMs: number };

/** Refusals of one code for one act. */
export interface RefusalKind {
  readonly code: ProblemCode;
  readonly act: string;
  /** They were let pass: channel rules only report them. */
  readonly reportOnly?: true;
  /** Since the instance has started. */
  readonly count: number;
  readonly firstAtMs: number;
  readonly lastAtMs: number;
  /** The latest ones, oldest first. */
  readonly latest: readonly RefusedOnce[];
}
