import type { EnterWish } from '@nine-bells/wire';
import type { Entry } from './entry.js';
import type { Stay } from './stay.js';

/** Entries of a channel that one request is for. */
export interface Asked {
  readonly stay: Stay;
  readonly entries: readonly Entry[];
}

/** The channels that a hello names. */
export interface Wishes {
  readonly asked: readonly Asked[];
  readonly wishes: readonly EnterWish[];
  /** Not all had room: the others follow by requests. */
  readonly isPartial: boolean;
}
