import type { DataFault, Json } from '@nine-bells/wire';

/**
 * What data of one kind looks like: agreed between those who publish it and those who listen.
 *
 * The core does not know schemas: who configures it says what fits.
 */
export interface Contract {
  /** One line for people. */
  readonly about?: string;
  /** A JSON Schema (2020-12), complete in itself, for descriptions; absent: any data fits. */
  readonly schema?: Json;
  readonly example?: Json;
  /** Who may publish it; absent: clients and applications. */
  readonly from?: Source;
  /** Whether data fits. Hot: once for each message. Absent: any does. */
  readonly fits?: (data: Json) => boolean;
  /**
   * What of data that does not fit is wrong; `where` is a pointer into the data.
   *
   * @param all - `false`: the first fault is enough, since the data is large
   */
  readonly faults?: (data: Json, all: boolean) => readonly DataFault[];
}

/** Who publishes. */
export type Source = 'clients' | 'applications';

/** Contracts by the name of a message type, or of a hail's. */
export type ContractsByType = Readonly<Record<string, Contract>>;

/** Most faults that a refusal lists. */
export const maxDataFaults = 20;
