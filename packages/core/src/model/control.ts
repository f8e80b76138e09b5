import type { Measure } from './moderation.js';

/** What all instances must hear of, in one order. */
export type ControlEntry = MeasureTaken | Continuation | KeysChanged;

/** A measure with the number of its entry in the audit log; an instance of an older version does not say it. */
export type MeasureTaken = Measure & { readonly change?: number };

/** API keys were made or revoked. */
export interface KeysChanged {
  readonly did: 'keys-changed';
}

/**
 * A session goes on here that was on another instance: whoever still has a connection of it, of a generation before, ends
 * that.
 */
export interface Continuation {
  readonly did: 'continue';
  readonly session: string;
  readonly generation: number;
  /** The instance that has it now. */
  readonly by: string;
}
