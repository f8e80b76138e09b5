/** How often something may be done: `count` times within `perMs` milliseconds, all at once or spread out. */
export interface Rate {
  readonly count: number;
  readonly perMs: number;
}
