import type { ProblemCode } from '@nine-bells/wire';

/** Totals since the engine began. */
export class Counters {
  /** Messages published, over the line and by applications; repeats by key do not count. */
  messagesIn = 0;
  /** Messages changed; repeats by key do not count. */
  readonly changes = { revised: 0, withdrawn: 0 };
  /** Changes of boards' entries that were taken. */
  boardChanges = 0;
  /** Messages, and frames of boards, handed to connections. */
  deliveries = 0;
  /** Requests refused on the line. */
  refusals = 0;
  readonly refusalsByCode = new Map<ProblemCode, number>();
  /** Characters of frames that came in. */
  charsIn = 0;
  /** Connections cut off as too slow. */
  cutOff = 0;
  /** Sessions that came back with a cursor, by where what they had missed was found. */
  readonly recoveries = { memory: 0, log: 0 };
  /** Messages that they were given. */
  recovered = 0;
  /** Gaps told to clients, by reason. */
  readonly gaps = { expired: 0, 'new-volume': 0, lost: 0 };

  /** Messages pruned from kept logbooks, and records forgotten, by kind. */
  readonly pruned = {
    messages: 0,
    audit: 0,
    notices: 0,
    users: 0,
    bans: 0,
    keys: 0,
    reports: 0,
    pending: 0,
    invitations: 0,
  };

  /** Messages that the application saw before they were published, by what it said; `failed`: nothing that can be used. */
  readonly reviews = { allowed: 0, changed: 0, refused: 0, held: 0, failed: 0 };

  /** Data that does not fit its contract, by the pattern of the channel rule. */
  readonly misfits = new Map<string, { refused: number; reported: number }>();

  refused(code: ProblemCode): void {
    this.refusals += 1;
    this.refusalsByCode.set(code, (this.refusalsByCode.get(code) ?? 0) + 1);
  }

  /** @param outcome - `reported`: the rule only reports, and it was let pass */
  misfit(pattern: string, outcome: 'refused' | 'reported'): void {
    let counts = this.misfits.get(pattern);
    if (counts === undefined) {
      counts = { refused: 0, reported: 0 };
      this.misfits.set(pattern, counts);
    }
    counts[outcome] += 1;
  }
}
