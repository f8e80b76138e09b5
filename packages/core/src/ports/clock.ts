/** Time, as the core sees it. The service passes the real one, the simulator a virtual one. */
export interface Clock {
  /** Milliseconds since the Unix epoch; may jump when the machine's clock is set. */
  now(): number;
  /**
   * Milliseconds since the Unix epoch that have certainly passed: a jump of the clock ahead counts only once it has stood for ten
   * minutes (`SettledTime`). For what cannot be undone.
   */
  settled(): number;
  /** Milliseconds since some moment; never jumps. For how long something takes, and when it is due. */
  monotonic(): number;
  /** Calls `act` once, `delayMs` from now, unless the returned function is called before. */
  setTimer(delayMs: number, act: () => void): () => void;
  /** Calls `act` at the end of the present turn of the event loop, after what came in with it. */
  endOfTurn(act: () => void): void;
}
