import {
  type AccessRule,
  type ChannelAct,
  type ChannelRule,
  type Contract,
  type ContractsByType,
  channelActs,
  compareSpecificity,
  defaultEngineOptions,
  isSameShape,
  type Pattern,
  parametersOf,
  parsePattern,
  type Rate,
  userActs,
} from '@nine-bells/core';
import type { Configuration } from '../config/types.js';
import { accessChange } from './accessChanges.js';
import { type Change, Changes, type Party } from './change.js';
import { schemaChanges } from './schemaChanges.js';

/** The party that is affected by the loss of an act. */
const concerned: Readonly<Record<ChannelAct, Party>> = {
  enter: 'listeners',
  read: 'listeners',
  publish: 'publishers',
  revise: 'publishers',
  withdraw: 'publishers',
  revisions: 'listeners',
  react: 'publishers',
  hail: 'publishers',
  set: 'publishers',
  invite: 'publishers',
  mention: 'publishers',
  moderate: 'publishers',
};

/** Lists the changes between two configurations that publishers or listeners notice. */
export function configurationChanges(before: Configuration, after: Configuration): readonly Change[] {
  return [
    ...serviceChanges(before, after),
    ...before.channels.flatMap((rule) => channelChanges(rule, after.channels, after)),
    ...after.channels
      .filter(({ pattern }) => !before.channels.some((rule) => isSame(rule.pattern, pattern)))
      .map(({ pattern }): Change => ({ breaks: [], where: pattern, what: 'is a new channel rule' })),
    ...doorChanges(before, after),
  ];
}

function isSame(one: string, other: string): boolean {
  return isSameShape(parsePattern(one), parsePattern(other));
}

// ------------------------------------------------------------------------------------------- the service

function serviceChanges(before: Configuration, after: Configuration): readonly Change[] {
  const changes = new Changes('service');
  const [old, now] = [before, after].map(({ engine }) => ({ ...defaultEngineOptions, ...engine })) as [
    typeof defaultEngineOptions,
    typeof defaultEngineOptions,
  ];
  if (old.guests && !now.guests) changes.add('guests are no longer let in', 'publishers', 'listeners');
  else if (!old.guests && now.guests) changes.add('guests are let in');
  for (const name of ['frameBytes', 'dataBytes', 'channelsPerSession', 'statusBytes'] as const)
    if (now[name] < old[name]) changes.add(`${limitNames[name]} was ${old[name]} and is ${now[name]}`, 'publishers');
  for (const name of ['requests', 'publishes', 'hails', 'sets'] as const)
    if (perSecond(now[name]) < perSecond(old[name]))
      changes.add(`limits.${name} was ${rateText(old[name])} and is ${rateText(now[name])}`, 'publishers');
  const users = new Changes('users');
  for (const act of userActs) {
    const change = accessChange(old.users[act] ?? 'nobody', now.users[act] ?? 'nobody');
    if (change.lost !== undefined)
      users.add(`${act}: no longer allowed to ${change.lost}`, act === 'watch' ? 'listeners' : 'publishers');
    if (change.gained !== undefined) users.add(`${act}: allowed to ${change.gained}`);
  }
  const notices = new Changes('notices');
  contractChanges(
    notices,
    '',
    now.notices === undefined && old.notices === undefined ? undefined : [old.notices, now.notices],
  );
  return [...changes.all, ...users.all, ...notices.all];
}

const limitNames = {
  frameBytes: 'limits.frame',
  dataBytes: 'limits.data',
  channelsPerSession: 'limits.channels',
  statusBytes: 'limits.status',
} as const;

function perSecond({ count, perMs }: Rate): number {
  return (count * 1_000) / perMs;
}

function rateText({ count, perMs }: Rate): string {
  return `${count} in ${perMs / 1_000} s`;
}

// ------------------------------------------------------------------------------------------ channel rules

function channelChanges(old: ChannelRule, rules: readonly ChannelRule[], after: Configuration): readonly Change[] {
  const changes = new Changes(old.pattern);
  const pattern = parsePattern(old.pattern);
  const now = ruleFor(pattern, rules);
  if (now === undefined) {
    changes.add('no channel rule matches these names now', 'publishers', 'listeners');
    return changes.all;
  }
  if (!isSameShape(pattern, parsePattern(now.pattern)))
    changes.add(`the rule is gone; ${now.pattern} holds for these names`);
  for (const compare of Object.values(memberChanges)) compare?.(changes, old, now, after);
  return changes.all;
}

/** Reports the changes of one member of a channel rule. */
type Compare = (changes: Changes, old: ChannelRule, now: ChannelRule, after: Configuration) => void;

/** Reports a member that is no longer set. */
function isLost(member: keyof ChannelRule, what: string, ...breaks: readonly Party[]): Compare {
  return (changes, old, now) => {
    if (old[member] && !now[member]) changes.add(what, ...breaks);
  };
}

/** Comparisons of all members of a channel rule, in the order of the report. */
const memberChanges: Readonly<Record<keyof ChannelRule, Compare | undefined>> = {
  // A rule is found by its pattern.
  pattern: undefined,
  about: undefined,
  allow: rightsChanges,
  logbook: logbookChanges,
  presence: presenceChanges,
  review: (changes, old, now) => {
    if (!old.review && now.review) changes.add('the application sees messages before they are published', 'publishers');
  },
  searched: isLost('searched', 'messages are no longer searchable', 'listeners'),
  hasReplies: isLost('hasReplies', 'messages are no longer replies', 'publishers', 'listeners'),
  hasMentions: isLost('hasMentions', 'messages no longer mention users', 'publishers'),
  reactions: reactionChanges,
  keepsRevisions: isLost('keepsRevisions', 'earlier contents of messages are no longer kept', 'listeners'),
  marksBlocked: isLost('marksBlocked', 'messages of blocked users are hidden, and no longer marked', 'listeners'),
  showsMarks: isLost('showsMarks', 'marks of others are no longer shown', 'listeners'),
  direct: (changes, old, now) => {
    if (Boolean(old.direct) !== Boolean(now.direct))
      changes.add(now.direct ? 'is a direct channel now' : 'is no longer a direct channel', 'publishers', 'listeners');
  },
  board: boardChanges,
  slowMs: (changes, old, now) => {
    if ((now.slowMs ?? 0) > (old.slowMs ?? 0))
      changes.add(`a user publishes once in ${(now.slowMs ?? 0) / 1_000} s`, 'publishers');
  },
  dataBytes: (changes, old, now, { engine }) => {
    const max = engine.dataBytes ?? defaultEngineOptions.dataBytes;
    if ((now.dataBytes ?? max) < (old.dataBytes ?? now.dataBytes ?? max))
      changes.add(`data was up to ${old.dataBytes} bytes and is up to ${now.dataBytes ?? max}`, 'publishers');
  },
  types: (changes, old, now) => typeChanges(changes, 'type', [old.types, now.types], [old, now]),
  hails: (changes, old, now) => typeChanges(changes, 'hail', [old.hails, now.hails], [old, now]),
  // With the types.
  open: undefined,
  status: (changes, old, now) => {
    if (old.status !== undefined || now.status !== undefined)
      contractChanges(changes, 'status: ', [old.status, now.status]);
  },
  reportOnly: (changes, old, now) => {
    if (old.reportOnly && !now.reportOnly)
      changes.add('data that does not fit is refused now, not only reported', 'publishers');
    if (!old.reportOnly && now.reportOnly)
      changes.add('data that does not fit is only reported, and not refused', 'listeners');
  },
};

/** Returns the rule for all names of a pattern: its own, or the most specific one that matches them all. */
function ruleFor(pattern: Pattern, rules: readonly ChannelRule[]): ChannelRule | undefined {
  return rules
    .map((rule) => ({ rule, own: parsePattern(rule.pattern) }))
    .filter(({ own }) => holdsForAll(own, pattern))
    .sort((a, b) => compareSpecificity(a.own, b.own))[0]?.rule;
}

function holdsForAll(own: Pattern, { segments }: Pattern): boolean {
  return (
    own.segments.length === segments.length &&
    own.segments.every((segment, index) => {
      const other = segments[index] as (typeof segments)[number];
      return 'parameter' in segment || ('literal' in other && other.literal === segment.literal);
    })
  );
}

function rightsChanges(changes: Changes, old: ChannelRule, now: ChannelRule): void {
  const names = (rule: ChannelRule): readonly string[] => [...parametersOf(parsePattern(rule.pattern)), 'entry'];
  const ruleOf = ({ allow }: ChannelRule, act: ChannelAct): AccessRule =>
    (allow[act] ?? (act === 'read' ? allow.enter : undefined) ?? 'nobody') as AccessRule;
  for (const act of channelActs) {
    // Without a rule of its own it follows `enter`, which is reported.
    if (act === 'read' && old.allow.read === undefined && now.allow.read === undefined) continue;
    const change = accessChange(ruleOf(old, act), ruleOf(now, act), names(old), names(now));
    if (change.lost !== undefined) changes.add(`${act}: no longer allowed to ${change.lost}`, concerned[act]);
    if (change.gained !== undefined) changes.add(`${act}: allowed to ${change.gained}`);
  }
}

function logbookChanges(changes: Changes, old: ChannelRule, now: ChannelRule): void {
  if (old.logbook.type === 'kept' && now.logbook.type === 'recent')
    changes.add('messages are no longer kept: older ones, unread counts and marks end', 'listeners');
  else if (old.logbook.type === 'recent' && now.logbook.type === 'kept') changes.add('messages are kept');
  else if (old.logbook.type === 'recent' && now.logbook.type === 'recent') {
    const [was, is] = [old.logbook.bounds, now.logbook.bounds];
    if (is.messages < was.messages || is.forMs < was.forMs)
      changes.add(
        `fewer messages are recent: ${is.messages} for ${is.forMs / 1_000} s, not ${was.messages} for ${was.forMs / 1_000} s`,
        'listeners',
      );
  }
  if (old.logbook.type === 'kept' && now.logbook.type === 'kept') {
    const [was, is] = [old.logbook.retention ?? {}, now.logbook.retention ?? {}];
    for (const bound of ['forMs', 'messages', 'bytes'] as const)
      if ((is[bound] ?? Number.POSITIVE_INFINITY) < (was[bound] ?? Number.POSITIVE_INFINITY)) {
        changes.add('fewer messages are kept: older ones are pruned', 'listeners');
        break;
      }
  }
}

function presenceChanges(changes: Changes, { presence: old }: ChannelRule, { presence: now }: ChannelRule): void {
  if (old === undefined) return;
  if (now === undefined) changes.add('presence is no longer shown', 'listeners');
  else if (now.crowd < old.crowd)
    changes.add(`more than ${now.crowd} members are only counted; it was ${old.crowd}`, 'listeners');
  if (old.noted && !now?.noted) changes.add('joining and leaving is no longer noted', 'listeners');
}

function reactionChanges(changes: Changes, { reactions: old }: ChannelRule, { reactions: now }: ChannelRule): void {
  if (old === undefined) {
    if (now !== undefined) changes.add('users react to messages');
    return;
  }
  if (now === undefined) {
    changes.add('users no longer react to messages', 'publishers', 'listeners');
    return;
  }
  for (const bound of ['kinds', 'each'] as const)
    if (now[bound] < old[bound]) changes.add(`reactions.${bound} was ${old[bound]} and is ${now[bound]}`, 'publishers');
  const { words } = now;
  if (words === undefined) return;
  const gone = old.words?.filter((word) => !words.includes(word));
  if (gone === undefined) changes.add(`reactions other than ${words.join(' ')} are refused`, 'publishers');
  else if (gone.length > 0) changes.add(`reactions ${gone.join(' ')} are refused`, 'publishers');
}

function boardChanges(changes: Changes, { board: old }: ChannelRule, { board: now }: ChannelRule): void {
  if (old === undefined) {
    if (now !== undefined) changes.add('has a board');
    return;
  }
  if (now === undefined) {
    changes.add('no longer has a board', 'publishers', 'listeners');
    return;
  }
  if (old.kept && !now.kept) changes.add('boards no longer outlive a restart', 'listeners');
  for (const [name, key] of [
    ['entries', 'entries'],
    ['value', 'valueBytes'],
    ['size', 'boardBytes'],
  ] as const)
    if (now[key] < old[key]) changes.add(`board.${name} was ${old[key]} and is ${now[key]}`, 'publishers');
  for (const type of Object.keys(old.types ?? {}))
    if (now.types?.[type] === undefined)
      changes.add(`messages of the type ${type} are no longer entries`, 'publishers', 'listeners');
  for (const type of Object.keys(now.types ?? {}))
    if (old.types?.[type] === undefined)
      changes.add(`messages of the type ${type} are entries now, and no messages`, 'publishers', 'listeners');
  if (old.contract !== undefined || now.contract !== undefined)
    contractChanges(changes, 'entries: ', [old.contract, now.contract]);
}

function typeChanges(
  changes: Changes,
  what: 'type' | 'hail',
  [old, now]: readonly [ContractsByType | undefined, ContractsByType | undefined],
  [oldRule, nowRule]: readonly [ChannelRule, ChannelRule],
): void {
  if (old === undefined && now === undefined) return;
  const isClosed = (types: ContractsByType | undefined, rule: ChannelRule): boolean =>
    types !== undefined && !rule.open;
  if (isClosed(now, nowRule) && !isClosed(old, oldRule))
    changes.add(`${what}s that are not named are refused now`, 'publishers');
  for (const [name, contract] of Object.entries(old ?? {})) {
    const later = now?.[name];
    if (later !== undefined) contractChanges(changes, `${what} ${name}: `, [contract, later]);
    else if (isClosed(now, nowRule)) changes.add(`${what} ${name} is refused now`, 'publishers', 'listeners');
    else changes.add(`${what} ${name} no longer has a contract`, 'listeners');
  }
  for (const [name, contract] of Object.entries(now ?? {})) {
    if (old?.[name] !== undefined) continue;
    if (isClosed(old, oldRule)) changes.add(`${what} ${name} is new`);
    else contractChanges(changes, `${what} ${name}: `, [undefined, contract]);
  }
}

function contractChanges(
  changes: Changes,
  prefix: string,
  pair: readonly [Contract | undefined, Contract | undefined] | undefined,
): void {
  if (pair === undefined) return;
  const [old, now] = pair;
  if (now?.from !== undefined && now.from !== old?.from)
    changes.add(`${prefix}only ${now.from} publish it now`, 'publishers');
  else if (now?.from === undefined && old?.from !== undefined) changes.add(`${prefix}not only ${old.from} publish it`);
  for (const { where, what, breaks } of schemaChanges(old?.schema, now?.schema))
    changes.add(`${prefix}${where === '' ? 'the data' : where} ${what}`, ...breaks);
}

// --------------------------------------------------------------------------------- intakes, hooks, calls

function doorChanges(old: Configuration, after: Configuration): readonly Change[] {
  const all: Change[] = [];
  for (const { name } of old.intakes)
    if (!after.intakes.some((each) => each.name === name))
      all.push({ breaks: ['publishers'], where: `intake ${name}`, what: 'is gone' });
  for (const hook of old.hooks) {
    const changes = new Changes(`${hook.url === '' ? 'feed' : 'hook'} ${hook.name}`);
    const now = after.hooks.find(({ name }) => name === hook.name);
    if (now === undefined) changes.add('is gone', 'listeners');
    else
      for (const member of ['events', 'channels', 'types'] as const) {
        const [earlier, later] = [hook[member], now[member]];
        if (later === undefined) continue;
        const gone =
          earlier === undefined
            ? ['others']
            : (earlier as readonly string[]).filter((each) => !(later as readonly string[]).includes(each));
        if (gone.length > 0) changes.add(`${member}: no longer ${gone.join(', ')}`, 'listeners');
      }
    all.push(...changes.all);
  }
  for (const call of old.calls) {
    const changes = new Changes(`call ${call.name}`);
    const now = after.calls.find(({ name }) => name === call.name);
    if (now === undefined) changes.add('is gone', 'publishers');
    else {
      const change = accessChange(call.allow, now.allow);
      if (change.lost !== undefined) changes.add(`no longer allowed to ${change.lost}`, 'publishers');
      if (call.channel !== now.channel) changes.add('is about other channels', 'publishers');
    }
    all.push(...changes.all);
  }
  return all;
}
