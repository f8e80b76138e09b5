import type { ModerationAction } from './moderation.js';

/** What all instances must hear of, in one order. */
export type ControlEntry = ModerationTaken | Continuation | KeysChanged;

/** An action with the number of its entry in the audit log; an instance of an older version does not say it. */
export type ModerationTaken = ModerationAction & { readonly change?: number };

/** API keys were made or revoked. */
export interface KeysChanged {
  readonly type: 'keys-changed';
}

/**
 * A session continues on one instance after another: an instance that still has an older connection of it ends
 * that.
 */
export interface Continuation {
  readonly type: 'continue';
  readonly session: string;
  readonly generation: number;
  /** The instance that has it now. */
  readonly by: string;
}
