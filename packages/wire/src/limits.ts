/** Limits that belong to the protocol itself. What an operator may set stands in the service's configuration. */
export const protocolLimits = {
  /** Longest channel name, in characters. */
  channelNameChars: 200,
  /** Longest message `type`, in characters. */
  typeChars: 64,
  /** Longest `key`, in characters. */
  keyChars: 128,
  /** Longest name of a board's entry, in characters. */
  entryChars: 128,
  /** Longest life of an entry that may be asked for, and slowest pace, in milliseconds. */
  entryLifeMs: 86_400_000,
  paceMs: 60_000,
  /** Deepest nesting of arrays and objects in `data`, `status` and `value`. */
  dataDepth: 64,
  /** Most messages that one `enter` with `last` or one `read` may ask for. */
  readCount: 1000,
  /** Most types, and most users, of a filter; most terms of its `where`; longest pointer and value, in characters. */
  filterNames: 20,
  filterTerms: 8,
  filterChars: 200,
  /** Longest reaction, in characters. */
  reactionChars: 32,
  /** Most channels in the `got` of one `pulse`. */
  gotCount: 200,
  /** Longest reason that a client may give, in characters. */
  reasonChars: 500,
  /** Longest ban or silence that has an end, in milliseconds: ten years. */
  banMs: 10 * 365 * 86_400_000,
  /** Longest name of a call, in characters. */
  callChars: 64,
  /** Most users who may accept one invitation. */
  invitationUses: 10_000,
  /** Longest search, in characters; most channels, types and authors that it names. */
  searchChars: 200,
  searchNames: 20,
  /** Most users, and most roles, that one message mentions. */
  mentionedUsers: 20,
  mentionedRoles: 5,
  /** Longest user id, in characters. */
  userChars: 128,
  /** Longest title of a notice, and longest role that one is for, in characters. */
  titleChars: 200,
  roleChars: 128,
} as const;

/** The subprotocol that a WebSocket to `/line` must offer (RFC 6455, section 1.9). */
export const LINE_SUBPROTOCOL = 'nine-bells.v1';

/** The path of the line on the service's port. */
export const LINE_PATH = '/line';

/** Every guest's user id begins with this, and no token's `sub` may. */
export const GUEST_PREFIX = 'guest:';
