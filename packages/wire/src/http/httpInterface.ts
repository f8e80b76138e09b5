import type { ChannelRulesInfo } from '../channelRules.js';
import type { CloudEvent } from '../cloudEvents.js';
import type { Cursor } from '../cursor.js';
import type { Json } from '../json.js';
import type { DataFault, Problem } from '../problems.js';
import type { Author, Block, BlockKind, Gap, Member, Message, Notice, PendingMessage } from '../records.js';
import type {
  Changed,
  InvitationsReply,
  Invited,
  LevelsReply,
  Marked,
  Published,
  ReactorsReply,
  ReactResult,
  Reported,
  RevisionsReply,
  SearchReply,
  ThreadsReply,
  Uninvited,
  Welcome,
} from '../replies.js';
import type { HelloRequest, Request } from '../requests.js';
import type {
  Admission,
  ApiKeyInfo,
  Asked,
  AuditEntry,
  Ban,
  BanWish,
  BoardAnswer,
  BoardDraft,
  BoardInfo,
  ChannelInfo,
  Digest,
  Draft,
  Effect,
  ErasureInfo,
  ErasureWish,
  ExampleUser,
  Explanation,
  Gathered,
  Hold,
  HoldWish,
  InstanceInfo,
  InvitationWish,
  KnownUser,
  LevelWish,
  MessageReport,
  NoticeWish,
  Notified,
  NumberedPending,
  Overview,
  PersonInfo,
  Pruning,
  ReactionWish,
  Reading,
  RefusalKind,
  RemovalWish,
  ReportWish,
  RevisionWish,
  SearchProgress,
  SessionInfo,
  SignOutWish,
  Silence,
  SilenceWish,
  Trace,
  Traffic,
  WithdrawalWish,
  WorkbenchWish,
} from './answers.js';
import type {
  ArrivalDetail,
  ArrivalInfo,
  ArrivalState,
  DeliveryDetail,
  DeliveryInfo,
  DeliveryState,
  FeedEvent,
  FeedInfo,
  FeedWish,
  ForwardedRequest,
  HookInfo,
  HookWish,
  IntakeInfo,
  IntakeTrial,
  IntakeTrialWish,
} from './webhooks.js';

/** Selects a page of a list. */
interface Page extends Limit {
  /** `next` of an earlier answer; absent: the first page. */
  readonly after?: string;
}

/** Continues a list. */
interface Next {
  /** Place of the next page: pass it as `after`. Absent from the last page. */
  readonly next?: string;
}

/** Maximum number of items in the answer. */
interface Limit {
  readonly limit?: number;
}

interface Named {
  readonly name: string;
}

interface Identified {
  readonly id: string;
}

/** A refusal or failure as the body of an answer (RFC 9457). */
export type HttpProblem = Omit<Problem, 'faults'> & {
  /** The code as a URI: `urn:nine-bells:problem:CODE`. */
  readonly type: string;
  readonly status: number;
  /** All faults of the body; `where` is the first one. */
  readonly faults?: readonly (DataFault | { readonly where: string; readonly detail: string })[];
};

/**
 * Every request of the HTTP interface: its path and query parameters, body, answer, and the problem codes specific to it.
 *
 * The service's routes, the SDK and the OpenAPI description derive from this.
 */
export interface HttpInterface {
  /**
   * Publishes a message, or up to 1,000.
   *
   * Answers when the channel's promise holds (kept: after the commit). `201`, or `200` with `repeated` if the key was known.
   * A list: `200` and a list of results in the same order; with one mistake in it nothing is published.
   */
  'POST /v1/messages': {
    /** @examples [{"channel":"race/3/chat","data":{"text":"Well sailed, Petrel."},"by":{"user":"mira","name":"Mira Holt"}}] */
    body: Draft | readonly Draft[];
    /** CloudEvents 1.0; `subject` is the channel. In binary mode, `ce-` headers hold the attributes. */
    otherBodies: {
      'application/cloudevents+json': CloudEvent;
      'application/cloudevents-batch+json': readonly CloudEvent[];
    };
    /** @examples [{"id":"01JZX4T9QK0V5R8M2N3P4Q5R6S","cursor":"k3f:12"}] */
    answer: Published | readonly (Published | { readonly problem: Problem })[];
    problems: 'bad-name' | 'no-such-channel' | 'bad-data' | 'no-such-type' | 'busy';
  };
  /** Reads in a channel's record: the last messages, those before or those after a cursor; the oldest first. */
  'GET /v1/messages': {
    query: {
      readonly channel: string;
      readonly after?: string;
      readonly before?: string;
      /** Only the thread that begins with this message. */
      readonly thread?: string;
    } & Limit;
    answer: Reading;
    problems: 'bad-name' | 'bad-cursor' | 'no-such-channel' | 'busy';
  };
  /** Replaces what a message holds: a change with a place of its own in the channel's order. */
  'POST /v1/revisions': {
    /** @examples [{"channel":"race/3/chat","cursor":"k3f:12","data":{"text":"Well sailed, Knot."},"by":{"user":"mira"}}] */
    body: RevisionWish;
    /** @examples [{"id":"01JZX4T9QK0V5R8M2N3P4Q5R6S","cursor":"k3f:15"}] */
    answer: Changed;
    problems:
      | 'bad-name'
      | 'bad-cursor'
      | 'no-such-channel'
      | 'no-such-message'
      | 'withdrawn'
      | 'conflict'
      | 'bad-data'
      | 'busy';
  };
  /** Takes a message back: what it held is gone. */
  'POST /v1/withdrawals': {
    /** @examples [{"channel":"race/3/chat","cursor":"k3f:12","reason":"an insult","by":{"user":"mira"}}] */
    body: WithdrawalWish;
    answer: Changed;
    problems: 'bad-name' | 'bad-cursor' | 'no-such-channel' | 'no-such-message' | 'withdrawn' | 'conflict' | 'busy';
  };
  /** Returns earlier contents of a message, if its rule keeps them: oldest first, behind the revision `after`. */
  'GET /v1/revisions': {
    query: { readonly channel: string; readonly cursor: string } & Page;
    answer: RevisionsReply;
    problems: 'bad-name' | 'bad-cursor' | 'no-such-channel' | 'no-such-message';
  };
  /** Reacts to a message in a user's name, or takes that back. Idempotent. */
  'POST /v1/reactions': {
    /** @examples [{"channel":"race/3/chat","cursor":"k3f:12","word":"⛵","by":{"user":"pia","name":"Pia Lund"}}] */
    body: ReactionWish;
    answer: ReactResult;
    problems:
      | 'bad-name'
      | 'bad-cursor'
      | 'no-such-channel'
      | 'no-such-message'
      | 'withdrawn'
      | 'too-many-reactions'
      | 'busy';
  };
  /** Lists reactions to a message by word, then by user; those behind `after`. */
  'GET /v1/reactions': {
    query: {
      readonly channel: string;
      readonly cursor: string;
      readonly word?: string;
      readonly after?: string;
    } & Limit;
    answer: ReactorsReply;
    problems: 'bad-name' | 'bad-cursor' | 'no-such-channel' | 'no-such-message';
  };
  /** Begins to erase a user: ends their sessions, and deletes their records in small batches everywhere. */
  'POST /v1/erasures': {
    /** @examples [{"user":"pia","messages":"withdraw","by":{"user":"mira"}}] */
    body: ErasureWish;
    answer: ErasureInfo;
  };
  /** The last erasures, the latest first. */
  'GET /v1/erasures': { query: Limit; answer: { readonly erasures: readonly ErasureInfo[] } };
  /** Returns the progress of an erasure. */
  'GET /v1/erasures/:id': { params: Identified; answer: ErasureInfo; problems: 'no-such-id' };
  /** Exports all records about a user, in parts. The first part is recorded in the audit log. */
  'GET /v1/persons': {
    query: { readonly user: string; readonly after?: string } & Limit;
    answer: PersonInfo;
  };
  /** The channel rules that the key may read: what they keep, carry and allow, with their contracts. */
  'GET /v1/rules': { answer: ChannelRulesInfo };
  /** Sets entries of a channel's board, or of several; `null` removes. Each entry counts as a request. */
  'POST /v1/boards': {
    /** @examples [{"channel":"race/3/positions","set":{"petrel":{"x":310,"y":120},"knot":null}}] */
    body: BoardDraft | readonly BoardDraft[];
    answer: BoardAnswer | readonly BoardAnswer[];
    problems: 'bad-name' | 'bad-cursor' | 'no-such-channel' | 'bad-data' | 'conflict' | 'board-full' | 'busy';
  };
  /** A channel's board as it is now. */
  'GET /v1/boards': {
    query: { readonly channel: string };
    answer: BoardInfo;
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Lists channels by name, those with the text `find` in their names, or one. */
  'GET /v1/channels': {
    query: { readonly find?: string; readonly channel?: string } & Page;
    answer: { readonly channels: readonly ChannelInfo[] } & Next;
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Lists connected sessions. The first page has the latest ones; within a page, the latest is last. */
  'GET /v1/sessions': {
    query: { readonly user?: string; readonly find?: string } & Page;
    answer: Gathered & { readonly sessions: readonly SessionInfo[] } & Next;
  };
  /** Lists the members of a channel, or the channels of a user. */
  'GET /v1/members': {
    query: { readonly channel?: string; readonly user?: string } & Page;
    answer: Gathered &
      Next &
      (
        | { readonly channel: string; readonly members: readonly Member[]; readonly count: number }
        | { readonly user: string; readonly channels: readonly { readonly channel: string; readonly member: Member }[] }
      );
    problems: 'bad-name' | 'no-such-channel';
  };
  /** The instances of the service, as the one that is asked knows them. */
  'GET /v1/instances': { answer: { readonly instances: readonly InstanceInfo[] } };
  /** Returns the traffic of the last hour by rule, and of the last minute by channel. */
  'GET /v1/traffic': { answer: Traffic };
  /** Lists refusals since the instances started, by kind, latest first. */
  'GET /v1/refusals': {
    query: { readonly code?: string };
    answer: Gathered & { readonly refusals: readonly RefusalKind[] };
  };
  /** The service in numbers. */
  'GET /v1/overview': { answer: Overview };
  /** Explains an access decision: the deciding rule and its facts. */
  'POST /v1/explain': {
    /** @examples [{"act":"publish","channel":"crew/petrel","user":"ines","claims":{"boats":["turnstone"]}}] */
    body: { readonly act: string; readonly channel?: string; readonly whom?: string; readonly call?: string } & Asked;
    answer: Explanation;
    problems:
      | 'bad-name'
      | 'no-such-channel'
      | 'no-such-call'
      | 'no-such-id'
      | 'token-invalid'
      | 'token-ended'
      | 'ask-failed';
  };
  /** Bans a user or an address, from a channel or from the service. Connected clients are removed at once. */
  'POST /v1/bans': {
    /** @examples [{"user":"ines","channel":"protest/7","forMs":600000,"reason":"interrupting"}] */
    body: BanWish;
    answer: Effect;
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Lists bans in force, latest first; with `find`, those with this text in a user id, address, channel or reason. */
  'GET /v1/bans': {
    query: { readonly user?: string; readonly channel?: string; readonly find?: string } & Page;
    answer: { readonly bans: readonly Ban[] } & Next;
  };
  /** Ends a ban before its time. */
  'DELETE /v1/bans/:id': {
    params: Identified;
    query: { readonly reason?: string };
    answer: Effect;
    problems: 'no-such-id';
  };
  /** Ends a user's stay in a channel. */
  'POST /v1/removals': {
    /** @examples [{"channel":"protest/7","user":"ines","reason":"interrupting","banMs":600000}] */
    body: RemovalWish;
    answer: Effect;
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Lets a user read and not write, in a channel or in the whole service. */
  'POST /v1/silences': {
    /** @examples [{"user":"pia","channel":"race/3/chat","forMs":600000,"reason":"shouting"}] */
    body: SilenceWish;
    answer: Effect;
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Silences in force, the latest first. */
  'GET /v1/silences': {
    query: { readonly user?: string; readonly channel?: string } & Page;
    answer: { readonly silences: readonly Silence[] } & Next;
  };
  /** Ends a silence before its time. */
  'DELETE /v1/silences/:id': {
    params: Identified;
    query: { readonly reason?: string };
    answer: Effect;
    problems: 'no-such-id';
  };
  /** Reports a message to the moderators, in the name of a user. */
  'POST /v1/reports': {
    /** @examples [{"channel":"race/3/chat","cursor":"k3f:12","reason":"an insult","by":{"user":"pia"}}] */
    body: ReportWish;
    answer: Reported;
    problems: 'bad-name' | 'no-such-channel' | 'bad-cursor' | 'busy';
  };
  /** Lists reported messages: open ones oldest first, or ended ones latest first. */
  'GET /v1/reports': {
    query: { readonly state?: 'open' | 'ended'; readonly channel?: string } & Page;
    answer: { readonly reports: readonly MessageReport[] } & Next;
  };
  /** Ends a report: something was done, or nothing is to be done. */
  'POST /v1/reports/:id/end': {
    params: Identified;
    /** @examples [{"note":"removed for ten minutes"}] */
    body: { readonly note?: string; readonly by?: { readonly user: string; readonly name?: string } };
    answer: MessageReport;
    problems: 'no-such-id';
  };
  /** Lists messages that wait for a moderator (oldest first) or were refused (latest first). */
  'GET /v1/pending': {
    query: {
      readonly state?: 'waiting' | 'refused';
      readonly channel?: string;
      readonly user?: string;
    } & Page;
    answer: { readonly pending: readonly NumberedPending[] } & Next;
  };
  /** Approves a waiting message. It is published at once, or after the earlier messages of its author are decided. */
  'POST /v1/pending/:id/approve': {
    params: Identified;
    /** @examples [{}] */
    body: { readonly by?: { readonly user: string; readonly name?: string } };
    answer: PendingMessage;
    problems: 'no-such-id';
  };
  /** Rejects a waiting message; its author gets the reason. */
  'POST /v1/pending/:id/reject': {
    params: Identified;
    /** @examples [{"reason":"mind your tongue"}] */
    body: { readonly reason?: string; readonly by?: { readonly user: string; readonly name?: string } };
    answer: PendingMessage;
    problems: 'no-such-id';
  };
  /** Ends all sessions of a user and revokes tokens issued until now. */
  'POST /v1/sign-outs': { body: SignOutWish; answer: Effect };
  /** Takes no token of a user any more that was issued until now. */
  'POST /v1/token-revocations': { body: SignOutWish; answer: Effect };
  /** Lists entries of the audit log, or those about a user, latest first. */
  'GET /v1/audit': {
    query: { readonly user?: string } & Page;
    answer: { readonly entries: readonly AuditEntry[] } & Next;
  };
  /** Prunes kept logbooks and old records now, or only reports what it would prune. */
  'POST /v1/prune': {
    /** @examples [{"dryRun":true}] */
    body: { readonly dryRun?: boolean };
    answer: Pruning;
  };
  /** Lists channels that are exempted from pruning, by name. */
  'GET /v1/holds': {
    query: Page;
    answer: { readonly holds: readonly Hold[] } & Next;
  };
  /** Exempts a channel from pruning, until that is ended. */
  'POST /v1/holds': {
    /** @examples [{"channel":"protest/7","reason":"an appeal is pending"}] */
    body: HoldWish;
    answer: Hold;
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Ends the exemption of a channel from pruning. */
  'DELETE /v1/holds': {
    query: { readonly channel: string; readonly reason?: string };
    answer: Hold;
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Puts a notice into inboxes, and tells those who are connected. */
  'POST /v1/notices': {
    /** @examples [{"users":["ines"],"title":"Your protest is heard at 17:30","key":"protest-7"}] */
    body: NoticeWish;
    answer: Notified;
    problems: 'bad-name' | 'no-such-channel' | 'bad-data' | 'too-large' | 'busy';
  };
  /** Lists a user's inbox, oldest first, behind `after`. */
  'GET /v1/notices': {
    query: { readonly user: string; readonly after?: string } & Limit;
    answer: {
      readonly user: string;
      readonly notices: readonly Notice[];
      readonly more: boolean;
      readonly unread: number;
      readonly cursor: Cursor;
    };
    problems: 'bad-cursor';
  };
  /** Takes notices out of a user's inbox: these, or all. */
  'POST /v1/notices/done': {
    body: { readonly user: string; readonly done: readonly string[] | true };
    answer: { readonly user: string; readonly unread: number };
  };
  /** A user as last seen. */
  'GET /v1/users': { query: { readonly user: string }; answer: KnownUser; problems: 'no-such-user' };
  /** Lists unread counts of a user, in each channel with a read mark. */
  'GET /v1/unread': {
    query: { readonly user: string };
    answer: { readonly user: string; readonly unread: number; readonly channels: readonly Marked[] };
  };
  /** Lists a user's threads with unread counts, the one with the latest reply first. */
  'GET /v1/threads': {
    query: { readonly user: string; readonly channel?: string } & Limit;
    answer: { readonly user: string } & ThreadsReply;
    problems: 'bad-name';
  };
  /** Lists read marks in a channel, by user id. */
  'GET /v1/marks': {
    query: { readonly channel: string } & Page;
    answer: {
      readonly channel: string;
      readonly marks: readonly { readonly user: string; readonly cursor: Cursor }[];
    } & Next;
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Moves a user's mark in a kept channel forward; with `null` takes it away. */
  'POST /v1/marks': {
    body: {
      readonly user: string;
      readonly channel: string;
      readonly cursor: string | null;
      /** Only in this thread. */
      readonly thread?: string;
    };
    answer: { readonly user: string } & Marked;
    problems: 'bad-name' | 'bad-cursor' | 'no-such-channel';
  };
  /** Makes an invitation into a channel. Its code is in no later answer. */
  'POST /v1/invitations': {
    /** @examples [{"channel":"protest/7","role":"witness","uses":2,"forMs":86400000,"by":{"user":"mira"}}] */
    body: InvitationWish;
    answer: Invited;
    problems: 'bad-name' | 'no-such-channel' | 'too-many-invitations';
  };
  /** Lists the invitations into a channel, latest first. */
  'GET /v1/invitations': {
    query: { readonly channel: string } & Page;
    answer: InvitationsReply;
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Ends an invitation; with `admitted`, those who have accepted it are no longer let in. */
  'POST /v1/invitations/:id/end': {
    params: Identified;
    body: { readonly admitted?: boolean; readonly by?: Author };
    answer: Uninvited;
    problems: 'no-such-invitation';
  };
  /** Lists users admitted to a channel by an invitation, by user id. */
  'GET /v1/admissions': {
    query: { readonly channel: string } & Page;
    answer: { readonly channel: string; readonly admissions: readonly Admission[] } & Next;
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Ends a user's admission to a channel. */
  'POST /v1/admissions/end': {
    body: { readonly channel: string; readonly user: string; readonly by?: Author };
    answer: { readonly channel: string; readonly user: string; readonly ended: boolean };
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Messages that are found by their words, in channels whose rule has `search`; the best first. */
  'GET /v1/search': {
    query: {
      readonly words: string;
      readonly in?: string;
      readonly by?: string;
      readonly type?: string;
      readonly since?: string;
      readonly until?: string;
      readonly after?: string;
    } & Limit;
    answer: SearchReply;
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Returns the progress of the search index. */
  'GET /v1/search/progress': { answer: SearchProgress };
  /** Lists a user's notification levels. */
  'GET /v1/levels': {
    query: { readonly user: string };
    answer: { readonly user: string } & LevelsReply;
  };
  /** Sets a user's notification level for a channel, on all their devices. Idempotent. */
  'POST /v1/levels': {
    /** @examples [{"user":"pia","channel":"race/3/chat","level":"mentions","forMs":28800000}] */
    body: LevelWish;
    answer: { readonly user: string } & LevelsReply;
    problems: 'bad-name' | 'no-such-channel' | 'too-many-levels';
  };
  /**
   * Returns what a user has missed in the channels they may enter: counts, mentions and first lines; those with the last message
   * come first. With `since`, only of channels that have had a message since then.
   */
  'GET /v1/digest': {
    query: { readonly user: string; readonly since?: string; readonly lines?: string } & Limit;
    answer: Digest;
  };
  /** Lists users that a user has blocked or muted. */
  'GET /v1/blocks': {
    query: { readonly user: string };
    answer: { readonly user: string; readonly blocks: readonly Block[] };
  };
  /** Blocks or mutes a user for another, or with `as` null no longer. Idempotent. */
  'POST /v1/blocks': {
    /** @examples [{"user":"pia","blocks":"jory","as":"muted"}] */
    body: { readonly user: string; readonly blocks: string; readonly as?: BlockKind | null };
    answer: { readonly user: string; readonly blocks: readonly Block[] };
    problems: 'too-many-blocks';
  };
  /** Traces a message; with `user`, also the deliveries to that user. */
  'GET /v1/traces/:id': {
    params: Identified;
    query: { readonly user?: string };
    answer: Trace;
    problems: 'no-trace';
  };
  /** Lists intakes: endpoints where other systems post events. */
  'GET /v1/intakes': { answer: Gathered & { readonly intakes: readonly IntakeInfo[] } };
  /** Shows what an intake would make of an event. Publishes nothing. */
  'POST /v1/intakes/:name/test': {
    params: Named;
    body: IntakeTrialWish;
    answer: IntakeTrial;
    problems: 'no-such-intake' | 'no-such-event';
  };
  /** Lists arrivals, latest first. */
  'GET /v1/arrivals': {
    query: { readonly intake?: string; readonly state?: ArrivalState } & Page;
    answer: { readonly arrivals: readonly ArrivalInfo[] } & Next;
    problems: 'no-such-intake';
  };
  /** Returns an arrival with its headers and its body. */
  'GET /v1/arrivals/:id': { params: Identified; answer: ArrivalDetail; problems: 'no-such-event' };
  /** Runs an event again that has failed or was ignored, by the routes of now. */
  'POST /v1/arrivals/:id/again': { params: Identified; answer: ArrivalInfo; problems: 'no-such-event' };
  /** Registers a hook, or replaces the one of this name. `secrets` in the answer sign its requests. */
  'POST /v1/hooks': {
    /** @examples [{"name":"bureau-2","url":"https://bureau.example/finishes","channels":["race/:race/signals"],"types":["finish"]}] */
    body: HookWish;
    answer: HookInfo & { readonly secrets: readonly string[] };
    problems: 'conflict' | 'too-large' | 'busy';
  };
  /** Lists hooks. */
  'GET /v1/hooks': { answer: Gathered & { readonly hooks: readonly HookInfo[] } };
  /** Returns a hook. */
  'GET /v1/hooks/:name': { params: Named; answer: HookInfo | FeedInfo; problems: 'no-such-hook' };
  /** Removes a hook that was registered, and its queue. */
  'DELETE /v1/hooks/:name': {
    params: Named;
    answer: { readonly name: string; readonly removed: boolean };
    problems: 'no-such-hook';
  };
  /** Sends nothing to a hook until it is resumed; events wait meanwhile. */
  'POST /v1/hooks/:name/pause': { params: Named; answer: HookInfo | FeedInfo; problems: 'no-such-hook' };
  /** Sends to a hook again. */
  'POST /v1/hooks/:name/resume': { params: Named; answer: HookInfo | FeedInfo; problems: 'no-such-hook' };
  /** Lists deliveries to hooks and feeds, latest first. */
  'GET /v1/deliveries': {
    query: {
      readonly hook?: string;
      readonly state?: DeliveryState;
      readonly failed?: 'true';
    } & Page;
    answer: { readonly deliveries: readonly DeliveryInfo[] } & Next;
    problems: 'no-such-hook';
  };
  /** A delivery with its data and its attempts. */
  'GET /v1/deliveries/:id': { params: Identified; answer: DeliveryDetail; problems: 'no-such-event' };
  /** Sends deliveries again: these, or all of a hook since a time (RFC 3339). */
  'POST /v1/deliveries/resend': {
    body:
      | { readonly ids: readonly string[] }
      | { readonly hook: string; readonly since: string; readonly state?: 'dead' | 'delivered' };
    answer: { readonly resent: number };
    problems: 'no-such-hook' | 'no-such-event';
  };
  /** Copies of what passes an intake, goes to a hook or is called, behind the number `after`; waits up to `wait` seconds. */
  'GET /v1/forward/:name': {
    params: Named;
    query: { readonly after?: number; readonly wait?: number };
    answer: { readonly after: number; readonly requests: readonly ForwardedRequest[] };
    problems: 'no-such-hook';
  };
  /** Reports the outcome of a copy, which the delivery lists among its attempts. */
  'POST /v1/forward/:name/report': {
    params: Named;
    body: { readonly id: string; readonly status?: number; readonly tookMs: number; readonly answer?: string };
    answer: { readonly id: string };
    problems: 'no-such-hook' | 'no-such-event';
  };
  /** Makes a feed, or replaces the one of this name. */
  'POST /v1/feeds': { body: FeedWish; answer: FeedInfo; problems: 'conflict' | 'too-large' | 'busy' };
  /** Queues whose events are fetched. */
  'GET /v1/feeds': { answer: { readonly feeds: readonly FeedInfo[] } };
  /** Removes a feed that was registered, and its queue. */
  'DELETE /v1/feeds/:name': {
    params: Named;
    answer: { readonly name: string; readonly removed: boolean };
    problems: 'no-such-hook';
  };
  /** The next events of a feed; waits up to `wait` seconds. With `Accept: text/event-stream` a stream. */
  'GET /v1/feeds/:name': {
    params: Named;
    query: { readonly most?: number; readonly wait?: number };
    answer: { readonly feed: string; readonly events: readonly FeedEvent[] };
    problems: 'no-such-hook';
  };
  /** Acknowledges events of a feed, so that they are not delivered again. */
  'POST /v1/feeds/:name/ack': {
    params: Named;
    body: { readonly ids: readonly string[] };
    answer: { readonly acknowledged: number };
    problems: 'no-such-hook';
  };
  /** Gives events since a time (RFC 3339) again. */
  'POST /v1/feeds/:name/rewind': {
    params: Named;
    /** @examples [{"since":"2031-06-14T12:00:00Z"}] */
    body: { readonly since: string };
    answer: { readonly again: number };
    problems: 'no-such-hook';
  };
  /** Ends the instance, after its clients had time to go elsewhere; by default as its configuration says. */
  'POST /v1/drain': {
    body?: { readonly withinMs?: number };
    answer: { readonly withinMs?: number; readonly connections: number };
  };
  /** Makes an API key; `key` in the answer is its text, which cannot be read again. */
  'POST /v1/keys': {
    /** @examples [{"name":"results","rights":["read","publish:race/:race/signals"]}] */
    body: { readonly name: string; readonly rights: readonly string[]; readonly forMs?: number };
    answer: ApiKeyInfo & { readonly key: string };
  };
  /** All API keys, the latest first; those that are over too. */
  'GET /v1/keys': { answer: { readonly keys: readonly ApiKeyInfo[] } };
  /** Ends an API key's life at once. */
  'DELETE /v1/keys/:id': { params: Identified; answer: ApiKeyInfo; problems: 'no-such-id' };
  /** Makes a token for a made-up user, for tests. Recorded in the audit log. */
  'POST /v1/workbench/tokens': { body: WorkbenchWish; answer: TokenInfo };
  /** A user to be made up who may do something in a channel, worked out from the access rule; or why there is none. */
  'POST /v1/workbench/example-user': {
    body: { readonly act: string; readonly channel: string };
    answer: ExampleUser | { readonly why: string };
    problems: 'bad-name' | 'no-such-channel';
  };
  /** Makes a link that signs in to the console once; with `looksOnly`, for looking only. */
  'POST /v1/sign-in-links': {
    body?: { readonly looksOnly?: boolean };
    answer: { readonly url: string; readonly validMs: number };
  };
  /** Makes a token that reads every channel over a line, unseen. */
  'POST /v1/observer-tokens': { answer: TokenInfo };

  /** Messages of channels as Server-Sent Events: what `EventSource` opens. A user's token is the bearer; guests have none. */
  'GET /line/listen': {
    query: {
      readonly channel: readonly string[];
      /** First so many earlier messages. */
      readonly last?: number;
      /** Only messages of these types, or of these users. */
      readonly type?: readonly string[];
      readonly by?: readonly string[];
      /** Only where a member of `data` has a value: `/boat:petrel`. */
      readonly where?: readonly string[];
      readonly format?: 'frames' | 'cloudevents';
    };
    answer: Message | Gap | CloudEvent;
    problems: LineProblem | 'bad-name' | 'no-such-channel' | 'bad-filter' | 'not-allowed' | 'ask-failed';
  };
  /** Opens a session over HTTP by the request `hello`. */
  'POST /line/sessions': {
    /** @examples [{"do":"hello","id":1,"enter":[{"channel":"race/3/chat","last":20}]}] */
    body: HelloRequest;
    answer: Welcome & { readonly re?: number };
    problems: LineProblem;
  };
  /** Returns the frames for a session: as a stream, or with `Accept: application/json` the waiting ones in one answer. */
  'GET /line/sessions/:id/stream': {
    params: Identified;
    answer: { readonly [member: string]: Json };
    problems: 'token-ended';
  };
  /** Requests of a session, in an array that is counted from 1. They are answered on the stream. */
  'POST /line/sessions/:id/frames': {
    params: Identified;
    /** @examples [{"number":1,"requests":[{"do":"publish","id":2,"channel":"race/3/chat","data":{"text":"Well sailed."}}]}] */
    body: { readonly number: number; readonly requests: readonly Request[] };
    answer: { readonly number: number };
    problems: 'token-ended' | 'too-large';
  };
  /** Ends a session: it has left. */
  'DELETE /line/sessions/:id': { params: Identified; answer: null; problems: 'token-ended' };
  /** Posts an event to an intake. */
  'POST /in/:name': {
    params: Named;
    body: Json;
    answer: { readonly id: string; readonly repeated?: true };
    problems: 'no-such-intake' | 'signature-invalid' | 'too-large' | 'busy';
  };
  /** Returns whether the process is alive. */
  'GET /healthz': { answer: { readonly status: 'ok' } };
  /** Returns whether the instance accepts new clients; otherwise `503` with the same members. */
  'GET /readyz': {
    answer: { readonly status: 'ready' | 'draining' | 'degraded'; readonly warnings: readonly string[] };
  };
}

/** With what a line may be refused. */
type LineProblem =
  | 'bad-frame'
  | 'token-invalid'
  | 'token-ended'
  | 'no-guests'
  | 'bad-origin'
  | 'banned'
  | 'too-many-connections'
  | 'busy'
  | 'draining';

export interface TokenInfo {
  readonly token: string;
  readonly expiresAt: string;
}

/** The name of a request: its method and its path. */
export type HttpName = keyof HttpInterface;

/** The name of a request below `/v1`, for applications. */
export type RouteName = Extract<HttpName, `${string} /v1/${string}`>;

type Part<K extends HttpName, P extends string, Otherwise> = HttpInterface[K] extends { readonly [M in P]?: infer T }
  ? T
  : Otherwise;

/** Path parameters, query parameters, body and answer of a request. */
export type ParamsOf<K extends HttpName> = HttpInterface[K] extends { readonly params: infer T } ? T : undefined;
export type QueryOf<K extends HttpName> = HttpInterface[K] extends { readonly query: infer T } ? T : undefined;
export type BodyOf<K extends HttpName> = Part<K, 'body', undefined>;
export type AnswerOf<K extends HttpName> = HttpInterface[K]['answer'];
