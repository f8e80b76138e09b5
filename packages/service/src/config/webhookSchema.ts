import {
  type CallRule,
  type Condition,
  defaultCall,
  defaultHook,
  type EntryTemplate,
  type Hook,
  hookEvents,
  type Intake,
  isJsonPointer,
  type MessageTemplate,
  type NoticeTemplate,
  parametersOf,
  parsePattern,
  type Route,
  type Template,
  templateFault,
} from '@nine-bells/core';
import { channelNameFault, defined, messageTypePattern } from '@nine-bells/wire';
import {
  checkedText,
  duration,
  flag,
  json,
  listOf,
  mapOf,
  mapTo,
  oneOf,
  oneOrMore,
  optional,
  type Reader,
  rate,
  required,
  size,
  text,
  whole,
} from '@nine-bells/yaml';
import { isMap, isScalar } from 'yaml';
import { accessRule, applicationUrl, httpUrl } from './channelSchema.js';
import { mentionedPattern } from './ruleMentions.js';
import { askSecretFault } from './secrets.js';

/** A secret as it stands in the file, or the file in which it stands. */
export type WrittenSecret = string | { readonly file: string };

/** How an intake finds out who has sent a request. */
export type WrittenVerification =
  | { readonly type: 'none' }
  | { readonly type: 'standard'; readonly secrets: readonly WrittenSecret[]; readonly toleranceMs: number }
  | ({ readonly type: 'hmac'; readonly secrets: readonly WrittenSecret[] } & HmacScheme)
  | { readonly type: 'bearer'; readonly secrets: readonly WrittenSecret[] }
  | { readonly type: 'basic'; readonly user: string; readonly secrets: readonly WrittenSecret[] };

/** How a sender signs with an HMAC. */
export interface HmacScheme {
  /** The header with the signature. */
  readonly header: string;
  readonly algorithm: 'sha1' | 'sha256' | 'sha512';
  readonly encoding: 'hex' | 'base64';
  /** What stands before the signature, such as `sha256=`. */
  readonly prefix: string;
  /** What is signed: text in which `{body}`, `{timestamp}`, `{url}` and `{header:NAME}` stand for what was sent. */
  readonly signed: string;
  /** The header with the time of sending, in seconds or milliseconds since the epoch, or as RFC 3339 has it. */
  readonly timestamp?: string;
  /** By how much that may differ from the time of arrival, in milliseconds. */
  readonly toleranceMs: number;
}

/** Where the sender's own id of an event stands. */
export type EventIdPlace = { readonly header: string } | { readonly at: string };

/** An intake as the configuration has it. */
export interface WrittenIntake extends Intake {
  readonly verify: WrittenVerification;
  readonly maxBytes: number;
  /** Headers that are kept with an event, in lower case. */
  readonly headers: readonly string[];
  readonly eventId?: EventIdPlace;
  /** The member of the query that a GET is answered with, to prove the address. */
  readonly challenge?: string;
  /** Requests of one address. */
  readonly rate: { readonly count: number; readonly perMs: number };
}

/** A hook as the configuration has it. */
export interface WrittenHook extends Hook {
  readonly secrets: readonly WrittenSecret[];
}

export const webhookName = /^[a-z0-9][a-z0-9-]{0,39}$/;

function checkName(name: string): void {
  if (!webhookName.test(name))
    throw new RangeError(`a name has 1 to 40 of a-z, 0-9 and -, unlike ${JSON.stringify(name)}`);
}

const pointer = checkedText((value) => {
  if (!isJsonPointer(value))
    throw new RangeError(`expected a JSON Pointer such as /station, found ${JSON.stringify(value)}`);
});
const headerName = checkedText((value) => {
  if (!/^[A-Za-z0-9!#$%&'*+.^_`|~-]{1,100}$/.test(value))
    throw new RangeError(`expected the name of a header, found ${JSON.stringify(value)}`);
});

/** Text, or what the file `secretFile` would hold. */
const oneSecret: Reader<WrittenSecret> = (node, at) => {
  if (!isMap(node)) return text(500)(node, at);
  const found = mapOf({ file: required(text()) })(node, at);
  return found?.file === undefined ? undefined : { file: found.file };
};

/** One secret, or several of which each is good: so they can be changed one after another. */
const secrets = oneOrMore(oneSecret);

const standardSecrets: Reader<readonly WrittenSecret[]> = (node, at) => {
  const found = secrets(node, at);
  const fault = found
    ?.map((each) => (typeof each === 'string' ? askSecretFault(each) : undefined))
    .find((each) => each);
  return fault === undefined ? found : at.fault(node, fault);
};

const template: Reader<Template> = (node, at) => {
  const found = json(node, at);
  const fault = found === undefined ? undefined : templateFault(found);
  return fault === undefined ? found : at.fault(node, fault);
};

const scalar: Reader<string | number | boolean | null> = (node, at) => {
  const value = isScalar(node) ? node.value : node === null ? null : undefined;
  if (value === null || ['string', 'number', 'boolean'].includes(typeof value)) return value as string;
  return at.fault(node, 'expected text, a number, true, false or null');
};

const tests = ['is', 'oneOf', 'exists', 'matches'] as const;
const looks = ['at', 'header', 'method'] as const;

export const condition: Reader<Condition> = (node, at) => {
  if (!isMap(node)) return at.fault(node, 'expected a condition: one of at, header, method, all, any and not');
  const list = mapOf({
    all: optional(listOf(condition, 1)),
    any: optional(listOf(condition, 1)),
    not: optional(condition),
  });
  if (node.has('all') || node.has('any') || node.has('not')) {
    if (node.items.length !== 1) return at.fault(node, 'expected one of all, any and not');
    return list(node, at) as Condition | undefined;
  }
  if (looks.filter((name) => node.has(name)).length !== 1)
    return at.fault(node, 'expected one of `at` (a JSON Pointer), `header` and `method`');
  if (tests.filter((name) => node.has(name)).length !== 1)
    return at.fault(node, 'expected one test: is, oneOf, exists or matches');
  const found = mapOf({
    at: optional(pointer),
    header: optional(headerName),
    method: optional(flag),
    is: optional(scalar),
    oneOf: optional(listOf(scalar, 1)),
    exists: optional(flag),
    matches: optional(text(500)),
  })(node, at);
  return found === undefined ? undefined : (defined(found) as Condition);
};

/** A channel, in whose name segments such as `:station` stand for values. */
const channelTemplate = checkedText((value) => {
  const fault = channelNameFault(value.replaceAll(/(^|\/):[A-Za-z_][A-Za-z0-9_]*(?=\/|$)/g, '$1x'));
  if (fault !== undefined) throw new RangeError(fault);
});

const inChannel = { channel: required(mentionedPattern(channelTemplate)), with: optional(mapTo(template)) };

const message: Reader<MessageTemplate> = (node, at) => {
  const found = mapOf({
    ...inChannel,
    type: optional(template),
    data: optional(template),
    by: optional(template),
  })(node, at);
  if (found?.channel === undefined) return undefined;
  const { channel, with: values, ...rest } = found;
  if (typeof rest.type === 'string' && !rest.type.startsWith('/') && !messageTypePattern.test(rest.type))
    return at.fault(node, `${JSON.stringify(rest.type)} is no type of a message`);
  return { channel, with: values ?? {}, ...defined(rest) };
};

const notice: Reader<NoticeTemplate> = (node, at) => {
  const found = mapOf({
    users: optional(template),
    role: optional(template),
    title: required(template),
    data: optional(template),
    key: optional(template),
    for: optional(duration),
  })(node, at);
  if (found?.title === undefined) return undefined;
  if ((found.users === undefined) === (found.role === undefined))
    return at.fault(node, 'say whom by one of `users` and `role`');
  const { for: forMs, title, ...rest } = found;
  return { title, ...defined({ ...rest, forMs }) };
};

const entry: Reader<EntryTemplate> = (node, at) => {
  const found = mapOf({
    ...inChannel,
    entry: required(template),
    value: optional(template),
    for: optional(duration),
  })(node, at);
  if (found?.channel === undefined || found.entry === undefined) return undefined;
  const { channel, with: values, entry: name, for: forMs, value } = found;
  return { channel, with: values ?? {}, entry: name, ...defined({ value, forMs }) };
};

export const route: Reader<Route> = (node, at) => {
  const found = mapOf({
    when: optional(condition),
    message: optional(oneOrMore(message)),
    notice: optional(oneOrMore(notice)),
    entry: optional(oneOrMore(entry)),
    nothing: optional(flag),
  })(node, at);
  if (found === undefined) return undefined;
  const { when, message: messages = [], notice: notices = [], entry: entries = [], nothing } = found;
  const isEmpty = messages.length + notices.length + entries.length === 0;
  if (isEmpty !== (nothing === true))
    return at.fault(node, 'expected what becomes of it: `message`, `notice` or `entry`; or `nothing: true`');
  return { messages, notices, entries, ...defined({ when }) };
};

const hmacMembers = mapOf({
  header: required(headerName),
  secrets: required(secrets),
  algorithm: optional(oneOf(['sha1', 'sha256', 'sha512'] as const)),
  encoding: optional(oneOf(['hex', 'base64'] as const)),
  prefix: optional(text(100)),
  signed: optional(
    checkedText((value) => {
      if (!value.includes('{body}')) throw new RangeError('expected text with {body} in it: what is signed');
      const unknown = value.match(/\{(?!body\}|timestamp\}|url\}|header:[A-Za-z0-9-]+\})[^}]*\}?/)?.[0];
      if (unknown !== undefined)
        throw new RangeError(`${unknown} stands for nothing; there are {body}, {timestamp}, {url} and {header:NAME}`);
    }),
  ),
  timestamp: optional(headerName),
  tolerance: optional(duration),
});

const fiveMinutesMs = 300_000;

const verification: Reader<WrittenVerification> = (node, at) => {
  if (isScalar(node)) return oneOf(['none'] as const)(node, at) && { type: 'none' };
  const found = mapOf({
    standard: optional(standardSecrets),
    tolerance: optional(duration),
    hmac: optional(hmacMembers),
    bearer: optional(secrets),
    basic: optional(mapOf({ user: required(text(200)), passwords: required(secrets) })),
  })(node, at);
  if (found === undefined) return undefined;
  const { standard, hmac, bearer, basic, tolerance } = found;
  if ([standard, hmac, bearer, basic].filter((each) => each !== undefined).length !== 1)
    return at.fault(node, 'expected one of `standard`, `hmac`, `bearer` and `basic`; or the word none');
  if (standard !== undefined) return { type: 'standard', secrets: standard, toleranceMs: tolerance ?? fiveMinutesMs };
  if (tolerance !== undefined) return at.fault(node, '`tolerance` is for `standard`; `hmac` has one of its own');
  if (bearer !== undefined) return { type: 'bearer', secrets: bearer };
  if (basic !== undefined)
    return { type: 'basic', user: basic.user as string, secrets: basic.passwords as readonly WrittenSecret[] };
  const { header, secrets: keys, algorithm, encoding, prefix, signed, timestamp } = hmac as NonNullable<typeof hmac>;
  const isTimed = signed?.includes('{timestamp}') ?? timestamp !== undefined;
  if (isTimed !== (timestamp !== undefined))
    return at.fault(node, '`timestamp` (a header) and {timestamp} in `signed` belong together');
  return {
    type: 'hmac',
    header: header as string,
    secrets: keys as readonly WrittenSecret[],
    algorithm: algorithm ?? 'sha256',
    encoding: encoding ?? 'hex',
    prefix: prefix ?? '',
    signed: signed ?? (timestamp === undefined ? '{body}' : '{timestamp}.{body}'),
    toleranceMs: hmac?.tolerance ?? fiveMinutesMs,
    ...defined({ timestamp }),
  };
};

const eventId: Reader<EventIdPlace> = (node, at) => {
  const found = mapOf({ header: optional(headerName), at: optional(pointer) })(node, at);
  if (found === undefined) return undefined;
  if ((found.header === undefined) === (found.at === undefined))
    return at.fault(node, 'expected one of `header` and `at` (a JSON Pointer)');
  return found.header === undefined ? { at: found.at as string } : { header: found.header };
};

const dayMs = 86_400_000;

const intakeMembers = mapOf({
  verify: required(verification),
  body: optional(oneOf(['json', 'form', 'raw'] as const)),
  size: optional(size),
  headers: optional(listOf(headerName)),
  eventId: optional(eventId),
  challenge: optional(text(100)),
  rate: optional(rate),
  drop: optional(listOf(pointer)),
  keep: optional(duration),
  keepIds: optional(duration),
  routes: optional(listOf(route, 1)),
});

/** Intakes by name. Those without routes need a function in code. */
export const intakes: Reader<readonly WrittenIntake[]> = (node, at) => {
  const found = mapTo(intakeMembers, checkName)(node, at);
  if (found === undefined) return undefined;
  return Object.entries(found).map(([name, each]) => {
    const {
      verify,
      body,
      size: maxBytes,
      headers,
      eventId: id,
      challenge,
      rate: most,
      drop,
      keep,
      keepIds,
      routes,
    } = each;
    return {
      name,
      verify: verify as WrittenVerification,
      body: body ?? 'json',
      maxBytes: maxBytes ?? 262_144,
      headers: (headers ?? []).map((header) => header.toLowerCase()),
      rate: most ?? { count: 5_000, perMs: 1_000 },
      drop: drop ?? [],
      keepMs: keep ?? 7 * dayMs,
      ...defined({ keepIdsMs: keepIds }),
      routes: routes ?? [],
      ...defined({
        challenge,
        // Standard Webhooks: the id stays the same when a request is sent again.
        eventId: id ?? (verify?.type === 'standard' ? { header: 'webhook-id' } : undefined),
      }),
    };
  });
};

const pattern = mentionedPattern(checkedText((value) => void parsePattern(value)));

const hookMembers = {
  url: required(httpUrl),
  events: optional(listOf(oneOf(hookEvents), 1)),
  channels: optional(listOf(pattern, 1)),
  types: optional(
    listOf(
      checkedText((value) => {
        if (!messageTypePattern.test(value)) throw new RangeError('expected the type of a message, such as finish');
      }),
      1,
    ),
  ),
  when: optional(condition),
  data: optional(template),
  drop: optional(listOf(pointer)),
  order: optional(oneOf(['channel', 'none'] as const)),
  atOnce: optional(whole(1, 100)),
  rate: optional(rate),
  batch: optional(mapOf({ most: required(whole(2, 500)), within: optional(duration) })),
  within: optional(duration),
  retry: optional(mapOf({ first: optional(duration), most: optional(duration), for: optional(duration) })),
  pauseAfter: optional(duration),
  boardEvery: optional(duration),
  keep: optional(duration),
  most: optional(whole(1_000, 100_000_000)),
  maxBytes: optional(size),
};
const namedHook = mapOf({ ...hookMembers, secrets: required(standardSecrets) });
/** The longest time that a receiver may take, in milliseconds. */
const longestAnswerMs = 60_000;

export const hook: Reader<Omit<WrittenHook, 'name'>> = (node, at) => {
  const found = namedHook(node, at);
  if (found?.url === undefined || found.secrets === undefined) return undefined;
  const { url, secrets: keys, events, channels, types, when, data, drop, order, atOnce, batch, retry } = found;
  if (found.within !== undefined && found.within > longestAnswerMs)
    return at.fault(node, `\`within\` is at most ${longestAnswerMs / 1000}s`);
  return {
    url,
    secrets: keys,
    events: events ?? defaultHook.events,
    ordered: order === 'channel',
    atOnce: atOnce ?? defaultHook.atOnce,
    withinMs: found.within ?? defaultHook.withinMs,
    retry: {
      firstMs: retry?.first ?? defaultHook.retry.firstMs,
      mostMs: retry?.most ?? defaultHook.retry.mostMs,
    },
    giveUpMs: retry?.for ?? defaultHook.giveUpMs,
    pauseMs: found.pauseAfter ?? defaultHook.pauseMs,
    keepMs: found.keep ?? defaultHook.keepMs,
    boardEveryMs: found.boardEvery ?? defaultHook.boardEveryMs,
    most: found.most ?? defaultHook.most,
    maxBytes: found.maxBytes ?? defaultHook.maxBytes,
    ...defined({ channels, types, when, data, drop, rate: found.rate }),
    ...(batch?.most === undefined ? {} : { batch: { most: batch.most, withinMs: batch.within ?? 1_000 } }),
  };
};

/** Members that say which events, for hooks and feeds. */
const feedMembers = mapOf({
  events: hookMembers.events,
  channels: hookMembers.channels,
  types: hookMembers.types,
  when: hookMembers.when,
  data: hookMembers.data,
  drop: hookMembers.drop,
  lease: optional(duration),
  for: optional(duration),
  boardEvery: hookMembers.boardEvery,
  keep: hookMembers.keep,
  most: hookMembers.most,
  maxBytes: hookMembers.maxBytes,
});

const defaultLeaseMs = 60_000;
const longestLeaseMs = 86_400_000;

/** A feed: a hook without a receiver. */
export const feed: Reader<Omit<WrittenHook, 'name'>> = (node, at) => {
  const found = feedMembers(node, at);
  if (found === undefined) return undefined;
  const { events, channels, types, when, data, drop, lease, boardEvery, keep, most, maxBytes } = found;
  if (lease !== undefined && lease > longestLeaseMs) return at.fault(node, '`lease` is at most 24h');
  return {
    url: '',
    secrets: [],
    leaseMs: lease ?? defaultLeaseMs,
    events: events ?? defaultHook.events,
    ordered: false,
    atOnce: defaultHook.atOnce,
    withinMs: defaultHook.withinMs,
    retry: defaultHook.retry,
    giveUpMs: found.for ?? 7 * dayMs,
    pauseMs: defaultHook.pauseMs,
    keepMs: keep ?? 7 * dayMs,
    boardEveryMs: boardEvery ?? defaultHook.boardEveryMs,
    most: most ?? defaultHook.most,
    maxBytes: maxBytes ?? defaultHook.maxBytes,
    ...defined({ channels, types, when, data, drop }),
  };
};

/** Feeds by name. */
export const feeds: Reader<readonly WrittenHook[]> = (node, at) => {
  const found = mapTo(feed, checkName)(node, at);
  return found && Object.entries(found).map(([name, each]) => ({ name, ...each }));
};

/** Hooks by name. */
export const hooks: Reader<readonly WrittenHook[]> = (node, at) => {
  const found = mapTo(hook, checkName)(node, at);
  return found && Object.entries(found).map(([name, each]) => ({ name, ...each }));
};

const callName = /^[A-Za-z0-9][A-Za-z0-9._/-]{0,63}$/;

function checkCallName(name: string): void {
  if (!callName.test(name))
    throw new RangeError(`a call has 1 to 64 letters, digits and . _ / -, unlike ${JSON.stringify(name)}`);
}

/** What clients may call. */
const call: Reader<WrittenCall> = (node, at) => {
  const parameters = parametersAt(isMap(node) ? node.get('channel') : undefined);
  const found = mapOf({
    url: optional(applicationUrl),
    allow: required(accessRule(parameters)),
    channel: optional(pattern),
    within: optional(duration),
    size: optional(size),
    answer: optional(size),
    rate: optional(rate),
    publishes: optional(listOf(pattern)),
  })(node, at);
  if (found?.allow === undefined) return undefined;
  if (found.within !== undefined && found.within > longestAnswerMs)
    return at.fault(node, `\`within\` is at most ${longestAnswerMs / 1000}s`);
  const { allow, channel, url } = found;
  return {
    allow,
    withinMs: found.within ?? defaultCall.withinMs,
    dataBytes: found.size ?? defaultCall.dataBytes,
    answerBytes: found.answer ?? defaultCall.answerBytes,
    rate: found.rate ?? defaultCall.rate,
    publishes: found.publishes ?? defaultCall.publishes,
    ...defined({ channel, url }),
  };
};

/** A call as the configuration has it; without a URL it needs a function in code. */
export interface WrittenCall extends Omit<CallRule, 'name' | 'answerer'> {
  readonly url?: string;
}

function parametersAt(found: unknown): readonly string[] {
  try {
    return typeof found === 'string' ? parametersOf(parsePattern(found)) : [];
  } catch {
    return [];
  }
}

/** Calls by name. */
export const calls: Reader<readonly (WrittenCall & { readonly name: string })[]> = (node, at) => {
  const found = mapTo(call, checkCallName)(node, at);
  return found && Object.entries(found).map(([name, each]) => ({ name, ...each }));
};
