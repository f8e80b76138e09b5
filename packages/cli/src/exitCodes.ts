/** What the command's exit code says. */
export const exitCodes = {
  done: 0,
  /** An unexpected error. */
  failed: 1,
  /** The command line or the configuration has a mistake. */
  usage: 2,
  /** The service refused: a key, a token, access, a name. */
  refused: 3,
  /** No service could be reached. */
  unreachable: 4,
  /** The service cannot right now; the same command may work later. */
  later: 5,
  /** A change of the configuration breaks those who publish or listen. */
  breaks: 6,
} as const;

/** Ends a command that has printed its answer, with an exit code other than 0. */
export class Exit extends Error {
  readonly exitCode: number;

  constructor(exitCode: number) {
    super(`exit code ${exitCode}`);
    this.name = 'Exit';
    this.exitCode = exitCode;
  }
}

/** A failure that the command tells in its own words, with what to do next. */
export class CommandError extends Error {
  readonly exitCode: number;
  readonly hint: string | undefined;

  constructor(exitCode: number, message: string, hint?: string) {
    super(message);
    this.name = 'CommandError';
    this.exitCode = exitCode;
    this.hint = hint;
  }
}
