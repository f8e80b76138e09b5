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
