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
 * Time for which a member is still shown after a goodbye, in milliseconds, where the rule's grace is not shorter: a page
 * that is loaded again does not flicker.
 */
export const goodbyeGraceMs = 2_000;

export const defaultPresence: PresenceRule = { graceMs: 10_000, crowd: 200 };
