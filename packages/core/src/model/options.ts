import type { Allow } from './access.js';
import type { CallRule } from './call.js';
import type { Contract } from './contract.js';
import type { Hook } from './hook.js';
import type { Intake } from './intake.js';
import type { Rate } from './rate.js';
import { defaultRecordRetention, type RecordRetention } from './retention.js';

/** What may wait for the store or the relay. */
export interface BacklogBounds {
  /** Messages of all channels. Default 50,000. */
  readonly messages: number;
  /** Bytes of their data as JSON text. Default 64 MiB. */
  readonly bytes: number;
  /** Messages of one channel. Default 10,000. */
  readonly perChannel: number;
}

export const defaultBacklogBounds: BacklogBounds = { messages: 50_000, bytes: 67_108_864, perChannel: 10_000 };

export interface WaitingBounds {
  /** Bytes that may wait for all connections together. */
  readonly totalBytes: number;
  /** Read timeout, in milliseconds. Transports that see only whole writes add the time of a write at `bytesPerS`. */
  readonly idleMs: number;
  /** Minimum rate of accepting one write, in bytes per second. */
  readonly bytesPerS: number;
}

export const defaultWaitingBounds: WaitingBounds = { totalBytes: 268_435_456, idleMs: 30_000, bytesPerS: 8_192 };

/** What an operator may set of the engine; each has a default. */
export interface EngineOptions {
  /** This instance's name, told to clients and in logs. Default `i1`. */
  readonly instance: string;
  /** Whether clients without a token are let in. Default `false`. */
  readonly guests: boolean;
  /** How often an idle connection hears from the service, and is asked for a sign of life. Default 20 s. */
  readonly pulseMs: number;
  /** How soon after connecting `hello` must come. Default 5 s. */
  readonly helloWithinMs: number;
  /** Largest frame from a client, in bytes. Default 64 KiB. */
  readonly frameBytes: number;
  /** Largest `data` of one message, in bytes of JSON text. Default 32 KiB. */
  readonly dataBytes: number;
  /** Most channels that one session may have entered. Default 200. */
  readonly channelsPerSession: number;
  /** Most connections of this instance. Default 50,000. */
  readonly connections: number;
  /** Most bytes of missed messages in one reply. Default 1 MiB. */
  readonly backlogBytes: number;
  /** Most bytes that may wait for one connection before it is cut off as too slow. Default 1 MiB. */
  readonly sendQueueBytes: number;
  /** What may wait for all connections together, and how long a connection may take nothing. */
  readonly waiting: WaitingBounds;
  /** Acts of one connection that may wait before the service stops reading from it. Default 64. */
  readonly actsWaiting: number;
  /** Publishes of one connection that may be under way at a time; later ones wait. Default 256. */
  readonly publishesUnderWay: number;
  /** How long a session that lost its connection is remembered. Default 10 min. */
  readonly sessionMemoryMs: number;
  /** How long a channel that all clients have left stays open. Default 30 s. */
  readonly channelLingerMs: number;
  /** Latest messages of an entered channel held ready for recovery, per instance. Default 256. */
  readonly tailMessages: number;
  /** The same, in characters of their texts. Default 1 Mi. */
  readonly tailChars: number;
  /** The same, of all channels together. Default 64 Mi. */
  readonly tailsChars: number;
  /** Most connections from one address. Default 5,000: a proxy may stand before many. */
  readonly connectionsPerAddress: number;
  /** Most connections of one user. Default 100. */
  readonly connectionsPerUser: number;
  /** How often an address may fail to say who it is before it is refused. Default 60 in a minute. */
  readonly failedHellos: Rate;
  /** New connections of an address. Default 10,000 in 100 s. */
  readonly newConnectionsPerAddress: Rate;
  /** Requests of one session; some count for several (`costs`). Default 500 in a second. */
  readonly requests: Rate;
  /** Publishes of one session. Default 200 in a second. */
  readonly publishes: Rate;
  /** Hails of one session. Default 20 in a second. */
  readonly hails: Rate;
  /** Changes of boards' entries of one session. Default 100 in a second. */
  readonly sets: Rate;
  /** How often boards that outlive a restart are saved. Default 5 s. */
  readonly boardSaveMs: number;
  /** Reports of messages by a session. Default 10 a minute. */
  readonly reports: Rate;
  /** Invitations that a session makes. */
  readonly invites: Rate;
  /** Codes of invitations that a session tries. */
  readonly accepts: Rate;
  /** Wrong codes of invitations from one address. */
  readonly wrongCodes: Rate;
  /** Messages whose reactions are read from the store at once, where they have changed. Default 500. */
  readonly reactionsAtOnce: number;
  /** Reactions by a session. Default 10 a second. */
  readonly reactions: Rate;
  /** Revisions and withdrawals by a session. Default 20 a second. */
  readonly changes: Rate;
  /** Channels that one session opens: no client of this instance was in them. Default 400 in 20 s. */
  readonly newChannels: Rate;
  /** The same of all clients of an address. Default 20,000 in 100 s. */
  readonly newChannelsPerAddress: Rate;
  /** Characters of large frames that one connection sends; it is read from more slowly above. Default 64 Ki in 1/128 s: 8 Mi in a second. */
  readonly received: Rate;
  /** Characters that are read for one session; it waits for more above. Default 16 MiB in 4 s. */
  readonly given: Rate;
  /** Time that holding the data of one session against contracts may take, in milliseconds; it waits above. Default 400 in 4 s. */
  readonly checking: Rate;
  /** What the data of notices looks like; absent: as applications like. */
  readonly notices?: Contract;
  /** Largest status, in bytes of JSON text. Default 2 KiB. */
  readonly statusBytes: number;
  /** What may wait for the store or the relay before publishers are told to wait. */
  readonly backlog: BacklogBounds;
  /** Most channels in which a user may have a mark. Default 1,000. */
  readonly marksPerUser: number;
  /** Searches of one session. */
  readonly searches: Rate;
  /** Most channels of which one user says how much it wants to hear. */
  readonly levelsPerUser: number;
  /** Users whom one session mentions; a role counts as ten. */
  readonly mentions: Rate;
  /** Most users that one user keeps away. */
  readonly blocksPerUser: number;
  /** Users in a channel beyond which the marks of others are hidden. Default 200. */
  readonly marksShown: number;
  /** How long the application, or an access function, may take to answer a question. Default 3 s. */
  readonly askWithinMs: number;
  /** Who may do what concerns another user; an act that is not named is refused. */
  readonly users: Allow;
  /** Whether it is remembered what became of messages, so that traces can be asked for. Default `true`. */
  readonly traces: boolean;
  /** Where events are sent to. */
  readonly hooks: readonly Hook[];
  /** What other systems may say. */
  readonly intakes: readonly Intake[];
  /** What clients may ask of the application. */
  readonly calls: readonly CallRule[];
  /** How long records beside messages are kept. */
  readonly records: RecordRetention;
  /** Unreadable or misplaced frames within ten seconds that end a connection with 1008. Default 10. */
  readonly violations: number;
}

export const defaultEngineOptions: EngineOptions = {
  instance: 'i1',
  guests: false,
  pulseMs: 20_000,
  helloWithinMs: 5_000,
  frameBytes: 65_536,
  dataBytes: 32_768,
  channelsPerSession: 200,
  connections: 50_000,
  backlogBytes: 1_048_576,
  sendQueueBytes: 1_048_576,
  waiting: defaultWaitingBounds,
  actsWaiting: 64,
  publishesUnderWay: 256,
  sessionMemoryMs: 600_000,
  channelLingerMs: 30_000,
  tailMessages: 256,
  tailChars: 1_048_576,
  tailsChars: 67_108_864,
  connectionsPerAddress: 5_000,
  connectionsPerUser: 100,
  failedHellos: { count: 60, perMs: 60_000 },
  newConnectionsPerAddress: { count: 10_000, perMs: 100_000 },
  requests: { count: 500, perMs: 1_000 },
  publishes: { count: 200, perMs: 1_000 },
  hails: { count: 20, perMs: 1_000 },
  sets: { count: 100, perMs: 1_000 },
  boardSaveMs: 5_000,
  reports: { count: 10, perMs: 60_000 },
  invites: { count: 20, perMs: 60_000 },
  accepts: { count: 10, perMs: 60_000 },
  wrongCodes: { count: 30, perMs: 60_000 },
  reactionsAtOnce: 500,
  reactions: { count: 20, perMs: 2_000 },
  changes: { count: 40, perMs: 2_000 },
  newChannels: { count: 400, perMs: 20_000 },
  newChannelsPerAddress: { count: 20_000, perMs: 100_000 },
  received: { count: 65_536, perMs: 7.8125 },
  given: { count: 16_777_216, perMs: 4_000 },
  checking: { count: 400, perMs: 4_000 },
  statusBytes: 2_048,
  backlog: defaultBacklogBounds,
  marksPerUser: 1_000,
  blocksPerUser: 200,
  searches: { count: 20, perMs: 10_000 },
  levelsPerUser: 1_000,
  mentions: { count: 120, perMs: 60_000 },
  marksShown: 200,
  askWithinMs: 3_000,
  users: {},
  traces: true,
  records: defaultRecordRetention,
  violations: 10,
  hooks: [],
  intakes: [],
  calls: [],
};

/** Bounds of a `recent` logbook where a channel rule does not say otherwise. */
export const defaultLogBounds = { messages: 1000, forMs: 600_000 } as const;

/** How long, and for how many, keys of a recent channel are remembered at least (both bounds hold). */
export const keyMemory = { ms: 600_000, keys: 1000 } as const;
