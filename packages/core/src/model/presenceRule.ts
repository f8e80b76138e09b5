/** Whether and how a channel shows who is in it. */
export interface PresenceRule {
  /** How long a session whose connection broke is still shown, in milliseconds. */
  readonly graceMs: number;
  /** Above so many members the list gives way to a count with a sample. */
  readonly crowd: number;
  /** Whether who comes and goes is noted in the logbook, as messages of the types `joined` and `left`. */
  readonly noted?: boolean;
}

/**
 * Grace after a goodbye, in milliseconds, unless the rule's grace is shorter. Keeps the list steady while a page reloads.
 */
export const goodbyeGraceMs = 2_000;

export const defaultPresence: PresenceRule = { graceMs: 10_000, crowd: 200 };
