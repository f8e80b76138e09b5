import {
  type AccessRule,
  accessWords,
  authorWithin,
  type BoardRule,
  type ChannelRule,
  ChannelRules,
  channelActs,
  defaultBoard,
  defaultLogBounds,
  defaultPresence,
  defaultReactions,
  directAllow,
  isJsonPointer,
  type Keeping,
  type PresenceRule,
  parametersOf,
  parsePattern,
  type ReactionRule,
  type Retention,
  type ReviewRule,
  slowestPaceMs,
} from '@nine-bells/core';
import { defined, messageTypePattern, protocolLimits } from '@nine-bells/wire';
import {
  checkedText,
  duration,
  flag,
  listOf,
  mapOf,
  mapTo,
  oneOf,
  optional,
  type Reader,
  required,
  size,
  text,
  whole,
} from '@nine-bells/yaml';
import { distance } from 'fastest-levenshtein';
import { isMap, isScalar, isSeq, type Node } from 'yaml';
import { contract, contractsByType } from '../contracts/contractReader.js';
import { rulePattern } from './ruleMentions.js';

// ------------------------------------------------------------------------------------- the file's grammar

/** A value of an access rule: text, or a parameter that the channel rule's pattern has. */
export function accessValue(parameters: readonly string[]): Reader<string> {
  return (node, at) => {
    const value = text(200)(node, at);
    if (value === undefined || !value.startsWith(':')) return value;
    return oneOf(parameters.map((name) => `:${name}`))(node, at);
  };
}

export const httpUrl = checkedText((value) => {
  if (!URL.canParse(value) || !/^https?:$/.test(new URL(value).protocol))
    throw new RangeError(`expected an http or https URL, found ${JSON.stringify(value)}`);
});

/** The application's URL. Requests to it are signed with the secret of `ask`. */
export const applicationUrl: Reader<string> = (node, at) => {
  const value = httpUrl(node, at);
  if (value !== undefined)
    at.afterwards(node, (document) =>
      (document as { ask?: object }).ask === undefined
        ? { fault: 'the application is asked, but `ask` is missing: it has the secret that signs the question' }
        : undefined,
    );
  return value;
};

/** For how long a message is its author's to change. */
const author: Reader<{ readonly withinMs?: number }> = (node, at) => {
  const value = checkedText((each) => void authorWithin(each))(node, at);
  return value === undefined ? undefined : authorWithin(value);
};

/** An access rule: a word, or a map with one condition. */
export function accessRule(parameters: readonly string[]): Reader<AccessRule> {
  const value = required(accessValue(parameters));
  const self: Reader<AccessRule> = (node, at) => condition(node, at);
  const list = required(listOf(self, 1));
  const conditions: Readonly<Record<string, Reader<unknown>>> = {
    role: mapOf({ role: value }),
    user: mapOf({ user: value }),
    among: mapOf({ among: value }),
    author: mapOf({ author: required(author) }),
    all: mapOf({ all: list }),
    any: mapOf({ any: list }),
    not: mapOf({ not: required(self) }),
    invited: mapOf({ invited: value }),
    ask: mapOf({ ask: required(applicationUrl) }),
  };
  const claim = { claim: required(text(100)) };
  const condition: Reader<AccessRule> = (node, at) => {
    if (!isMap(node)) return oneOf(accessWords)(node, at);
    if (node.has('claim'))
      return (node.has('is') ? mapOf({ ...claim, is: value }) : mapOf({ ...claim, holds: value }))(
        node,
        at,
      ) as AccessRule;
    const name = Object.keys(conditions).find((each) => node.has(each));
    if (name === undefined) {
      const [first] = node.items;
      const found = isScalar(first?.key) ? String(first.key.value) : '';
      const near = conditionNames.filter((each) => distance(each, found) <= 2)[0];
      const hint =
        near === undefined ? `there are ${conditionNames.join(', ')}` : `did you mean ${JSON.stringify(near)}?`;
      return at.fault(node, found === '' ? `expected one condition; ${hint}` : `there is no "${found}" here; ${hint}`);
    }
    return (conditions[name] as Reader<unknown>)(node, at) as AccessRule | undefined;
  };
  return condition;
}

export const conditionNames = ['role', 'user', 'among', 'author', 'invited', 'claim', 'all', 'any', 'not', 'ask'];

export const recentBounds = mapOf({ messages: optional(whole(1, 1_000_000)), for: optional(duration) });
export const recentMap = mapOf({ recent: required(recentBounds) });

export const logbook: Reader<Keeping> = (node, at) => {
  if (isScalar(node) || node === null) {
    const word = oneOf(['recent', 'kept'] as const)(node, at);
    if (word === undefined) return undefined;
    return word === 'kept' ? { type: 'kept' } : { type: 'recent', bounds: defaultLogBounds };
  }
  const bounds = recentMap(node, at)?.recent;
  if (bounds === undefined) return undefined;
  return {
    type: 'recent',
    bounds: {
      messages: bounds.messages ?? defaultLogBounds.messages,
      forMs: bounds.for ?? defaultLogBounds.forMs,
    },
  };
};

export const keepMembers = mapOf({
  for: optional(duration),
  messages: optional(whole(1, 1_000_000_000_000)),
  bytes: optional(size),
});

/** How much of a kept logbook stays. */
export const keep: Reader<Retention> = (node, at) => {
  const found = keepMembers(node, at);
  if (found === undefined) return undefined;
  const { for: forMs, messages, bytes } = found;
  if (forMs === undefined && messages === undefined && bytes === undefined)
    return at.fault(node, 'expected at least one of `for`, `messages` and `bytes`');
  return defined({ forMs, messages, bytes });
};

export const presenceMembers = mapOf({
  grace: optional(duration),
  crowd: optional(whole(1, 10_000)),
  noted: optional(flag),
});

/** `true`, or overrides of the defaults; `false` disables it. */
export const presence: Reader<PresenceRule | false> = (node, at) => {
  if (isScalar(node) || node === null) return flag(node, at) ? defaultPresence : false;
  const found = presenceMembers(node, at);
  return found && { ...defaultPresence, ...defined({ graceMs: found.grace, crowd: found.crowd, noted: found.noted }) };
};

/** A length of time, or 0. */
const pace: Reader<number> = (node, at) => (isScalar(node) && node.value === 0 ? 0 : duration(node, at));

export const boardMembers = mapOf({
  every: optional(pace),
  entries: optional(whole(1, 10_000)),
  value: optional(size),
  size: optional(size),
  for: optional(duration),
  kept: optional(flag),
  contract: optional(contract),
  types: optional(
    mapTo(
      mapOf({
        entry: required(
          checkedText((value) => {
            if (!isJsonPointer(value) || value === '')
              throw new RangeError(`expected a JSON Pointer such as /boat, found ${JSON.stringify(value)}`);
          }),
        ),
      }),
      (name) => {
        if (!messageTypePattern.test(name)) throw new RangeError('expected the type of a message, such as position');
      },
    ),
  ),
});

/** `true`, or overrides of the defaults; `false` disables it. */
export const board: Reader<BoardRule | false> = (node, at) => {
  if (isScalar(node) || node === null) return flag(node, at) ? defaultBoard : false;
  const found = boardMembers(node, at);
  if (found === undefined) return undefined;
  const { every, entries, value, size: boardBytes, for: forMs, kept, types, contract: values } = found;
  if (every !== undefined && every > slowestPaceMs)
    return at.fault(node, `\`every\` is at most ${slowestPaceMs / 1000}s`);
  return {
    ...defaultBoard,
    ...defined({
      everyMs: every,
      entries,
      valueBytes: value,
      boardBytes,
      forMs,
      kept,
      contract: values,
      types: types as BoardRule['types'],
    }),
  };
};

export const reactionMembers = mapOf({
  kinds: optional(whole(1, 100)),
  each: optional(whole(1, 100)),
  words: optional(listOf(text(protocolLimits.reactionChars), 1)),
});

/** `true`, or overrides of the defaults; `false` disables it. */
export const reactions: Reader<ReactionRule | false> = (node, at) => {
  if (isScalar(node) || node === null) return flag(node, at) ? defaultReactions : false;
  const found = reactionMembers(node, at);
  return found && { ...defaultReactions, ...defined(found) };
};

const reviewMembers = mapOf({
  ask: required(applicationUrl),
  within: optional(duration),
  otherwise: optional(oneOf(['refuse', 'pass', 'hold'] as const)),
  order: optional(oneOf(['author', 'none'] as const)),
});

const review: Reader<ReviewRule> = (node, at) => {
  const found = reviewMembers(node, at);
  if (found?.ask === undefined) return undefined;
  const { ask, within: withinMs = 2_000, otherwise = 'refuse', order } = found;
  return { ask, withinMs, otherwise, ...defined({ order }) };
};

/** `true`: by `text` and `title` of the data; or by the members that are named. */
const search: Reader<readonly string[] | false> = (node, at) => {
  if (isScalar(node) || node === null) return flag(node, at) ? ['/text', '/title'] : false;
  return listOf(checkedText(checkPointer), 1)(node, at);
};

function checkPointer(value: string): void {
  if (value === '' || !isJsonPointer(value)) throw new Error('a JSON Pointer such as /text is expected');
}

export const marksWords = oneOf(['own', 'shown'] as const);

export const channel: Reader<ChannelRule> = (node, at) => {
  const parameters = parametersIn(node);
  const access = optional(accessRule(parameters));
  const ofEntries = optional(accessRule([...parameters, 'entry']));
  const found = mapOf({
    pattern: required(rulePattern(checkedText((value) => void parsePattern(value)))),
    about: optional(text(200)),
    logbook: optional(logbook),
    keep: optional(keep),
    allow: optional(mapOf(Object.fromEntries(channelActs.map((act) => [act, act === 'set' ? ofEntries : access])))),
    presence: optional(presence),
    marks: optional(marksWords),
    revisions: optional(oneOf(['kept'] as const)),
    blocked: optional(oneOf(['hidden', 'marked'] as const)),
    reactions: optional(reactions),
    replies: optional(flag),
    mentions: optional(flag),
    review: optional(review),
    search: optional(search),
    board: optional(board),
    direct: optional(flag),
    data: optional(size),
    slow: optional(duration),
    types: optional(contractsByType),
    hails: optional(contractsByType),
    status: optional(contract),
    open: optional(flag),
    'report-only': optional(flag),
  })(node, at);
  if (found?.pattern === undefined) return undefined;
  const { keep: retention, logbook: keeping = { type: 'recent', bounds: defaultLogBounds } } = found;
  if (retention !== undefined && keeping.type !== 'kept') {
    const place = isMap(node) ? ((node.get('keep', true) ?? null) as Node | null) : null;
    return at
      .member('keep', place)
      .fault(place, 'only a kept logbook is pruned: `logbook: kept`; the bounds of a recent one stand in `logbook`');
  }
  if (found.review?.otherwise === 'hold' && keeping.type !== 'kept') {
    const place = isMap(node) ? ((node.get('review', true) ?? null) as Node | null) : null;
    return at.member('review', place).fault(place, 'messages wait for a moderator only where `logbook: kept`');
  }
  return {
    pattern: found.pattern,
    logbook: keeping.type === 'kept' && retention !== undefined ? { ...keeping, retention } : keeping,
    allow: {
      ...(found.direct ? directAllow(parametersIn(node)[0] ?? '') : {}),
      ...(defined(found.allow ?? {}) as ChannelRule['allow']),
    },
    ...(found.direct ? { direct: true } : {}),
    ...defined({ about: found.about }),
    ...(found.presence ? { presence: found.presence } : {}),
    ...(found.board ? { board: found.board } : {}),
    ...(found.marks === 'shown' ? { showsMarks: true } : {}),
    ...(found.reactions ? { reactions: found.reactions } : {}),
    ...(found.replies ? { hasReplies: true } : {}),
    ...(found.mentions ? { hasMentions: true } : {}),
    ...(found.review ? { review: found.review } : {}),
    ...(found.search ? { searched: found.search } : {}),
    ...(found.revisions === 'kept' ? { keepsRevisions: true } : {}),
    ...(found.blocked === 'marked' ? { marksBlocked: true } : {}),
    ...defined({
      dataBytes: found.data,
      slowMs: found.slow,
      types: found.types,
      hails: found.hails,
      status: found.status,
    }),
    ...(found.open ? { open: true } : {}),
    ...(found['report-only'] ? { reportOnly: true } : {}),
  };
};

/** The parameters of a channel rule's pattern; none if the pattern has a mistake, which is reported where it stands. */
export function parametersIn(node: Node | null): readonly string[] {
  try {
    return isMap(node) ? parametersOf(parsePattern(String(node.get('pattern')))) : [];
  } catch {
    return [];
  }
}

/** The list of channel rules; that no two match the same names is said where the second one stands. */
export const channels: Reader<ChannelRule[]> = (node, at) => {
  const rules = listOf(channel)(node, at);
  if (rules === undefined) return undefined;
  for (const index of rules.keys()) {
    try {
      new ChannelRules(rules.slice(0, index + 1));
    } catch (error) {
      const place = isSeq<Node>(node) ? (node.items[index] ?? null) : null;
      return at.element(index, place).fault(place, (error as Error).message);
    }
  }
  return rules;
};
