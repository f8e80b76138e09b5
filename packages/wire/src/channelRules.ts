import type { Json } from './json.js';

/** What data of one kind looks like, as `GET /v1/rules` tells it. */
export interface ContractInfo {
  readonly about?: string;
  /** Who may publish it; absent: clients and applications. */
  readonly from?: 'clients' | 'applications';
  /** A JSON Schema (2020-12), complete in itself; absent: any data fits. */
  readonly schema?: Json;
  readonly example?: Json;
}

/** A channel rule, as `GET /v1/rules` tells it. */
export interface ChannelRuleInfo {
  readonly pattern: string;
  readonly about?: string;
  readonly logbook: 'kept' | 'recent';
  /** How much of a kept logbook stays; absent: all of it. */
  readonly keep?: {
    /** In milliseconds. */
    readonly forMs?: number;
    readonly messages?: number;
    readonly bytes?: number;
  };
  /** Access rules by act, as the configuration has them; a function in code is `{ "function": NAME }`. */
  readonly allow: Readonly<Record<string, Json>>;
  readonly presence?: true;
  /** Members who come and go are noted by messages of the types `joined` and `left`. */
  readonly noted?: true;
  readonly marks?: 'shown';
  /** What messages held before they were revised is kept. */
  readonly revisions?: 'kept';
  /** What users may react with, and how much; absent: not at all. */
  readonly reactions?: {
    readonly kinds: number;
    readonly each: number;
    /** Absent: any short word or emoji. */
    readonly words?: readonly string[];
  };
  /** A user also gets messages of users that it has blocked or muted, for its client to mark; absent: it does not. */
  readonly blocked?: 'marked';
  /** Messages may answer others. */
  readonly replies?: true;
  /** Messages are found by what they say: by these members of `data`. */
  readonly search?: readonly string[];
  /** The application sees messages of clients before they are published: how long it may take, and what becomes of them then. */
  readonly review?: {
    readonly withinMs: number;
    readonly otherwise: 'refuse' | 'pass' | 'hold';
    /** Absent: messages of an author wait behind one that waits. */
    readonly order?: 'none';
  };
  /** Messages may mention users and roles. */
  readonly mentions?: true;
  readonly direct?: true;
  /** Largest `data` of a message, in bytes of JSON text. */
  readonly dataBytes: number;
  /** A user publishes once in this time, in milliseconds, unless it may moderate; absent: as it likes. */
  readonly slowMs?: number;
  /** What messages hold, by their type; absent: anything. */
  readonly types?: Readonly<Record<string, ContractInfo>>;
  readonly hails?: Readonly<Record<string, ContractInfo>>;
  readonly status?: ContractInfo;
  readonly board?: {
    readonly everyMs: number;
    readonly entries: number;
    readonly valueBytes: number;
    /** Message types that are entries: where in `data` the entry's name is, as a JSON Pointer. */
    readonly types?: Readonly<Record<string, { readonly entry: string }>>;
    readonly contract?: ContractInfo;
  };
  /** Messages and hails of types that are not named are let pass. */
  readonly open?: true;
  /** What does not fit is reported, and let pass. */
  readonly reportOnly?: true;
}

/** The answer of `GET /v1/rules`. */
export interface ChannelRulesInfo {
  /** The most specific first, as they are looked through. */
  readonly rules: readonly ChannelRuleInfo[];
  /** What the data of notices looks like. */
  readonly notices?: ContractInfo;
}
