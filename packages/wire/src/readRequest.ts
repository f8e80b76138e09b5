import { channelNameFault } from './channelName.js';
import { parseCursor } from './cursor.js';
import { entryNameFault } from './entryName.js';
import { filterFault } from './filter.js';
import { isDeeperThan } from './json.js';
import { protocolLimits } from './limits.js';
import { type Problem, type ProblemCode, problem } from './problems.js';
import { levels } from './records.js';
import type { Request, Verb } from './requests.js';
import { unfitCharacter } from './text.js';

/** A request as read, or why it could not be; with its `id` where that much could be read, so that it can be answered. */
export type RequestReading =
  | { readonly ok: true; readonly request: Request }
  | { readonly ok: false; readonly problem: Problem; readonly id?: number };

/**
 * Reads one text frame of a client.
 *
 * Members that the protocol does not know are passed over, so that older services understand newer clients. The first
 * fault is reported with a code and, as a JSON Pointer, the place.
 */
export function readRequest(text: string): RequestReading {
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch (error) {
    return { ok: false, problem: problem('bad-frame', `the frame is not JSON: ${(error as Error).message}`) };
  }
  if (!isObject(value))
    return { ok: false, problem: problem('bad-frame', 'a frame is one JSON object', { where: '' }) };

  const { id } = value;
  if (id !== undefined && !(Number.isSafeInteger(id) && (id as number) > 0))
    return { ok: false, problem: problem('bad-frame', '`id` is a positive integer', { where: '/id' }) };
  const wrong = requestFault(value);
  // It has the shape of its verb.
  if (wrong === undefined) return { ok: true, request: value as unknown as Request };
  return { ok: false, problem: wrong, ...(id === undefined ? {} : { id: id as number }) };
}

function requestFault(value: Readonly<Record<string, unknown>>): Problem | undefined {
  const verb = value.do;
  if (typeof verb !== 'string') return fault('bad-frame', '`do` names the verb', '/do');
  if (!Object.hasOwn(shapes, verb)) return fault('unknown-verb', `the verbs are ${verbs.join(', ')}`, '/do');
  // Members are compared once each has the right type.
  return checkMembers(value, shapes[verb as Verb], '') ?? checkTogether(value as unknown as Request);
}

/** Returns the fault of the value at a JSON Pointer, if any. */
type Check = (value: unknown, where: string) => Problem | undefined;
interface Member {
  readonly check: Check;
  readonly required: boolean;
}
type Shape = Readonly<Record<string, Member>>;

const must = (check: Check): Member => ({ check, required: true });
const may = (check: Check): Member => ({ check, required: false });

const fault = (code: ProblemCode, detail: string, where: string): Problem => problem(code, detail, { where });

const channel: Check = (value, where) => {
  if (typeof value !== 'string') return fault('bad-name', 'a channel name is a string', where);
  const wrong = channelNameFault(value);
  return wrong === undefined ? undefined : fault('bad-name', wrong, where);
};

const cursor: Check = (value, where) =>
  typeof value === 'string' && parseCursor(value) !== undefined
    ? undefined
    : fault('bad-cursor', 'a cursor is written volume:number, as the service gave it', where);

const flag: Check = (value, where) =>
  typeof value === 'boolean' ? undefined : fault('bad-value', 'true or false is expected', where);

const words =
  (maxChars: number): Check =>
  (value, where) => {
    if (typeof value !== 'string' || value.length === 0)
      return fault('bad-value', 'a string of at least one character is expected', where);
    if (value.length > maxChars)
      return fault('bad-value', `at most ${maxChars} characters are expected, not ${value.length}`, where);
    if (unfitCharacter.test(value))
      return fault('bad-value', 'control characters and halves of surrogate pairs are not allowed', where);
    return undefined;
  };

const integer =
  (least: number, most: number): Check =>
  (value, where) =>
    Number.isSafeInteger(value) && (value as number) >= least && (value as number) <= most
      ? undefined
      : fault('bad-value', `a whole number from ${least} to ${most} is expected`, where);

const json: Check = (value, where) =>
  isDeeperThan(value, protocolLimits.dataDepth)
    ? fault('bad-value', `at most ${protocolLimits.dataDepth} levels of nesting are allowed`, where)
    : undefined;

const listOf =
  (check: Check, most: number): Check =>
  (value, where) => {
    if (!Array.isArray(value)) return fault('bad-value', 'a list is expected', where);
    if (value.length > most) return fault('bad-value', `at most ${most} elements are expected`, where);
    for (const [index, each] of value.entries()) {
      const wrong = check(each, `${where}/${index}`);
      if (wrong !== undefined) return wrong;
    }
    return undefined;
  };

const either =
  (literal: unknown, check: Check): Check =>
  (value, where) =>
    value === literal ? undefined : check(value, where);

const objectOf =
  (shape: Shape): Check =>
  (value, where) =>
    isObject(value) ? checkMembers(value, shape, where) : fault('bad-value', 'an object is expected', where);

/** Checks the object and its size, not each cursor: the service reads only those of channels entered. */
const cursors: Check = (value, where) => {
  if (!isObject(value)) return fault('bad-value', 'an object of channel to cursor is expected', where);
  return Object.keys(value).length <= protocolLimits.gotCount
    ? undefined
    : fault('too-large', `at most ${protocolLimits.gotCount} channels are expected`, where);
};

/** A message's `type`: a short name that programs compare. */
export const messageTypePattern = /^[A-Za-z0-9][A-Za-z0-9._/-]*$/;

const messageType: Check = (value, where) =>
  words(protocolLimits.typeChars)(value, where) ??
  (messageTypePattern.test(value as string)
    ? undefined
    : fault('bad-value', 'a type holds letters, digits and . _ / - and begins with a letter or digit', where));

const entryName: Check = (value, where) => {
  if (typeof value !== 'string') return fault('bad-name', "an entry's name is a string", where);
  const wrong = entryNameFault(value);
  return wrong === undefined ? undefined : fault('bad-name', wrong, where);
};

const filter: Check = (value, where) => {
  const wrong = filterFault(value);
  return wrong === undefined ? undefined : fault('bad-filter', wrong.detail, where + wrong.where);
};

const blockKind: Check = (value, where) =>
  value === 'blocked' || value === 'muted' ? undefined : fault('bad-value', 'blocked or muted is expected', where);

const level: Check = (value, where) =>
  value === null || (levels as readonly unknown[]).includes(value)
    ? undefined
    : fault('bad-value', `${levels.join(', ')} or null is expected`, where);

const count = integer(1, protocolLimits.readCount);
const user = words(protocolLimits.userChars);
const token = words(16_384);

const wish: Shape = {
  channel: must(channel),
  after: may(cursor),
  last: may(integer(0, protocolLimits.readCount)),
  quiet: may(flag),
  pace: may(integer(0, protocolLimits.paceMs)),
  echo: may(flag),
  status: may(json),
  filter: may(filter),
  reactions: may(cursor),
};

/** Members of a change of a message. */
const changed: Shape = {
  channel: must(channel),
  cursor: must(cursor),
  message: may(words(64)),
  ifRevision: may(either(null, cursor)),
  key: may(words(protocolLimits.keyChars)),
};

const shapes: Readonly<Record<Verb, Shape>> = {
  hello: {
    token: may(token),
    session: may(words(64)),
    secret: may(words(256)),
    inbox: may(cursor),
    enter: may(listOf(objectOf(wish), 1000)),
    partial: may(flag),
    strict: may(flag),
  },
  enter: wish,
  leave: { channel: must(channel) },
  publish: {
    channel: must(channel),
    data: must(json),
    type: may(messageType),
    key: may(words(protocolLimits.keyChars)),
    echo: may(flag),
    replyTo: may(cursor),
    mentions: may(
      objectOf({
        users: may(listOf(user, protocolLimits.mentionedUsers)),
        roles: may(listOf(words(protocolLimits.userChars), protocolLimits.mentionedRoles)),
      }),
    ),
  },
  revise: { ...changed, data: must(json) },
  withdraw: { ...changed, reason: may(words(protocolLimits.reasonChars)) },
  revisions: { channel: must(channel), cursor: must(cursor), after: may(cursor), limit: may(count) },
  react: {
    channel: must(channel),
    cursor: must(cursor),
    word: must(words(protocolLimits.reactionChars)),
    on: may(flag),
  },
  reactors: {
    channel: must(channel),
    cursor: must(cursor),
    word: may(words(protocolLimits.reactionChars)),
    after: may(words(400)),
    limit: may(count),
  },
  hail: { channel: must(channel), type: must(messageType), data: may(json), to: may(listOf(user, 100)) },
  set: {
    channel: must(channel),
    entry: must(entryName),
    value: must(json),
    ifVersion: may(either(null, cursor)),
    forMs: may(integer(1, protocolLimits.entryLifeMs)),
    whileHere: may(flag),
  },
  call: {
    name: must(words(protocolLimits.callChars)),
    channel: may(channel),
    data: may(json),
    key: may(words(protocolLimits.keyChars)),
    again: may(flag),
  },
  read: { channel: must(channel), after: may(cursor), before: may(cursor), limit: may(count), filter: may(filter) },
  status: { status: may(json), channel: may(channel), looking: may(either(null, channel)) },
  mark: { channel: must(channel), cursor: must(either(null, cursor)), thread: may(cursor) },
  unread: {},
  threads: { channel: may(channel), limit: may(count), follow: may(flag) },
  search: {
    words: must(words(protocolLimits.searchChars)),
    in: may(listOf(words(protocolLimits.channelNameChars), protocolLimits.searchNames)),
    by: may(listOf(user, protocolLimits.searchNames)),
    types: may(listOf(messageType, protocolLimits.searchNames)),
    since: may(words(40)),
    until: may(words(40)),
    limit: may(integer(1, 100)),
    after: may(words(40)),
  },
  level: { channel: must(channel), level: must(level), forMs: may(integer(1_000, 365 * 86_400_000)) },
  levels: {},
  pending: { channel: may(channel) },
  'take-back': { pending: must(words(64)) },
  block: { user: must(user), as: may(blockKind) },
  unblock: { user: must(user) },
  blocks: {},
  watch: { user: must(user) },
  unwatch: { user: must(user) },
  inbox: { after: may(cursor), limit: may(count), done: may(either(true, listOf(words(64), 1000))) },
  remove: {
    channel: must(channel),
    user: must(user),
    reason: may(words(protocolLimits.reasonChars)),
    banMs: may(integer(0, protocolLimits.banMs)),
  },
  silence: {
    channel: must(channel),
    user: must(user),
    reason: may(words(protocolLimits.reasonChars)),
    everyMs: may(integer(1_000, 86_400_000)),
    forMs: may(integer(1, protocolLimits.banMs)),
  },
  report: { channel: must(channel), cursor: must(cursor), reason: may(words(protocolLimits.reasonChars)) },
  invite: {
    channel: must(channel),
    user: may(user),
    role: may(words(protocolLimits.userChars)),
    uses: may(integer(1, protocolLimits.invitationUses)),
    forMs: may(integer(1_000, 365 * 86_400_000)),
  },
  accept: { code: must(words(100)) },
  invitations: { channel: must(channel), after: may(words(64)), limit: may(count) },
  uninvite: { channel: must(channel), invitation: must(words(64)), admitted: may(flag) },
  refresh: { token: must(token) },
  pulse: { got: may(cursors) },
};

/**
 * A member that the protocol does not know, as a problem; `undefined` if there is none. For clients that ask for it (`strict`):
 * it is most often a known one mistyped.
 */
export function unknownMember(request: Request): Problem | undefined {
  const found = unknownIn(request, ['do', 'id', ...Object.keys(shapes[request.do])], '');
  if (found !== undefined || request.do !== 'hello') return found;
  return firstFault(request.enter ?? [], (each, index) => unknownIn(each, Object.keys(wish), `/enter/${index}`));
}

/** Names of members of hello that the protocol does not know. */
export function unknownHelloMembers(request: object): readonly string[] {
  return Object.keys(request).filter((each) => each !== 'do' && each !== 'id' && !Object.hasOwn(shapes.hello, each));
}

function unknownIn(value: object, known: readonly string[], where: string): Problem | undefined {
  const name = Object.keys(value).find((each) => !known.includes(each));
  if (name === undefined) return undefined;
  const place = `${where}/${name.slice(0, 100).replaceAll('~', '~0').replaceAll('/', '~1')}`;
  return fault('bad-value', `there is no such member; there are ${known.join(', ')}`, place);
}

/** Every verb that can be read. */
export const verbs = Object.keys(shapes) as readonly Verb[];

/** The members that a verb knows, beside `do` and `id`. */
export function requestMembers(verb: Verb): readonly string[] {
  return Object.keys(shapes[verb]);
}

/** Faults that lie in how members go together. */
function checkTogether(request: Request): Problem | undefined {
  switch (request.do) {
    case 'hello':
      if ((request.session === undefined) !== (request.secret === undefined))
        return fault('bad-value', '`session` and `secret` go together', request.session ? '/secret' : '/session');
      return firstFault(request.enter ?? [], (each, index) => afterOrLast(each, `/enter/${index}`));
    case 'enter':
      return afterOrLast(request, '');
    case 'read':
      if (request.after !== undefined && request.before !== undefined)
        return fault('bad-value', '`after` or `before`, not both', '/before');
      return undefined;
    default:
      return undefined;
  }
}

function afterOrLast(wish: { after?: unknown; last?: unknown }, where: string): Problem | undefined {
  return wish.after !== undefined && wish.last !== undefined
    ? fault('bad-value', '`after` or `last`, not both', `${where}/last`)
    : undefined;
}

function checkMembers(value: Readonly<Record<string, unknown>>, shape: Shape, where: string): Problem | undefined {
  for (const name in shape) {
    const { check, required } = shape[name] as Member;
    const member = value[name];
    if (member === undefined) {
      if (required) return fault('bad-value', `\`${name}\` is missing`, `${where}/${name}`);
      // The place is computed for faults only.
    } else if (check(member, '') !== undefined) return check(member, `${where}/${name}`);
  }
  return undefined;
}

function firstFault<T>(all: readonly T[], check: (each: T, index: number) => Problem | undefined): Problem | undefined {
  for (const [index, each] of all.entries()) {
    const wrong = check(each, index);
    if (wrong !== undefined) return wrong;
  }
  return undefined;
}

function isObject(value: unknown): value is Record<string, unknown> {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}
