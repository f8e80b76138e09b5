import type { AccessRule } from '@nine-bells/core';

/** Who has lost, and who has gained, a right. */
export interface AccessChange {
  /** A kind of users whom the earlier rule let do it and the later one does not, in words; absent: there is none. */
  readonly lost?: string;
  readonly gained?: string;
}

/** Most conditions that are tried in all combinations. */
const maxConditions = 10;

/** A condition that holds for a user or does not. */
interface Condition {
  readonly key: string;
  readonly words: string;
}

/** A kind of users: guests, or users for whom some conditions hold. */
interface Kind {
  readonly isGuest: boolean;
  readonly holds: ReadonlySet<string>;
}

/**
 * Compares two access rules by trying all combinations of the conditions in them.
 *
 * @param beforeNames - the parameters of the earlier pattern, in order: `:race` there may be `:id` in the later one
 */
export function accessChange(
  before: AccessRule,
  after: AccessRule,
  beforeNames: readonly string[] = [],
  afterNames: readonly string[] = [],
): AccessChange {
  const conditions = new Map<string, Condition>();
  for (const each of conditionsOf(before, beforeNames)) conditions.set(each.key, each);
  for (const each of conditionsOf(after, afterNames)) conditions.set(each.key, each);
  const all = [...conditions.values()];
  if (all.length > maxConditions) {
    const words = 'some users, perhaps: the rule has changed and has too many conditions to compare';
    return JSON.stringify(before) === JSON.stringify(after) ? {} : { lost: words };
  }
  let lost: Kind | undefined;
  let gained: Kind | undefined;
  for (const kind of kindsOf(all)) {
    const [was, is] = [isLet(before, kind, beforeNames), isLet(after, kind, afterNames)];
    if (was && !is) lost = simpler(lost, kind);
    if (!was && is) gained = simpler(gained, kind);
  }
  const words = (kind: Kind): string => inWords(kind, all);
  return { ...(lost && { lost: words(lost) }), ...(gained && { gained: words(gained) }) };
}

/** All kinds of users, those with the fewest conditions first. */
function kindsOf(conditions: readonly Condition[]): readonly Kind[] {
  const keys = conditions.map(({ key }) => key);
  const kinds: Kind[] = [];
  for (let bits = 0; bits < 2 ** keys.length; bits++) {
    const holds = new Set(keys.filter((_, index) => bits & (1 << index)));
    if (!isPossible(holds, keys)) continue;
    kinds.push({ isGuest: false, holds });
    // Guests have neither roles nor claims; an application may say yes to them.
    if ([...holds].every((key) => key.startsWith('ask '))) kinds.push({ isGuest: true, holds });
  }
  return kinds;
}

/** A claim that is a value holds it, too; and who may change a message for a time may do so when it is younger. */
function isPossible(holds: ReadonlySet<string>, keys: readonly string[]): boolean {
  const withins = keys.flatMap((key) =>
    key.startsWith('author ') ? [{ key, ms: Number(key.slice(7) || Number.POSITIVE_INFINITY) }] : [],
  );
  const shortest = Math.min(...withins.filter(({ key }) => holds.has(key)).map(({ ms }) => ms));
  if (withins.some(({ key, ms }) => ms > shortest && !holds.has(key))) return false;
  return [...holds].every((key) => {
    if (!key.startsWith('is ')) return true;
    const also = `holds ${key.slice(3)}`;
    return !keys.includes(also) || holds.has(also);
  });
}

function simpler(known: Kind | undefined, other: Kind): Kind {
  if (known === undefined) return other;
  const weight = ({ isGuest, holds }: Kind): number => holds.size * 2 + (isGuest ? 0 : 1);
  return weight(other) < weight(known) ? other : known;
}

function inWords({ isGuest, holds }: Kind, all: readonly Condition[]): string {
  const conditions = all.filter(({ key }) => holds.has(key)).map(({ words }) => words);
  const who = isGuest ? 'guests' : 'users';
  return conditions.length === 0 ? (isGuest ? who : 'signed-in users') : `${who} ${conditions.join(' and ')}`;
}

function isLet(rule: AccessRule, kind: Kind, names: readonly string[]): boolean {
  if (rule === 'anyone') return true;
  if (rule === 'nobody') return false;
  if (rule === 'signed-in') return !kind.isGuest;
  const own = conditionOf(rule, names);
  if (own !== undefined) return kind.holds.has(own.key);
  if (typeof rule !== 'object') return false;
  if ('all' in rule) return rule.all.every((each) => isLet(each, kind, names));
  if ('any' in rule) return rule.any.some((each) => isLet(each, kind, names));
  return 'not' in rule && !isLet(rule.not, kind, names);
}

function* conditionsOf(rule: AccessRule, names: readonly string[]): Iterable<Condition> {
  const own = conditionOf(rule, names);
  if (own !== undefined) yield own;
  if (typeof rule !== 'object') return;
  const parts = 'all' in rule ? rule.all : 'any' in rule ? rule.any : 'not' in rule ? [rule.not] : [];
  for (const each of parts) yield* conditionsOf(each, names);
}

function conditionOf(rule: AccessRule, names: readonly string[]): Condition | undefined {
  // Parameters count by their place in the pattern: they may have been renamed.
  const value = (text: string): string =>
    text.startsWith(':') && names.includes(text.slice(1)) ? `:${names.indexOf(text.slice(1))}` : text;
  if (typeof rule === 'function')
    return { key: `ask function ${rule.name}`, words: `that the function ${rule.name} lets` };
  if (rule === 'token-allows') return { key: 'token', words: 'whose token brings an access rule' };
  if (rule === 'invited') return { key: 'invited', words: 'who were invited' };
  if (typeof rule !== 'object') return undefined;
  if ('invited' in rule) return { key: `invited ${value(rule.invited)}`, words: `who were invited as ${rule.invited}` };
  if ('role' in rule) return { key: `role ${value(rule.role)}`, words: `with the role ${rule.role}` };
  if ('user' in rule) return { key: `user ${value(rule.user)}`, words: `called ${rule.user}` };
  if ('among' in rule) return { key: `among ${value(rule.among)}`, words: `among ${rule.among}` };
  if ('author' in rule) {
    const { withinMs } = rule.author;
    const when = withinMs === undefined ? 'always' : `for ${withinMs / 1_000} s`;
    return { key: `author ${withinMs ?? ''}`, words: `who are the message's author, ${when}` };
  }
  if ('ask' in rule) return { key: `ask ${rule.ask}`, words: `that ${rule.ask} lets` };
  if (!('claim' in rule)) return undefined;
  return 'is' in rule
    ? { key: `is ${rule.claim} ${value(rule.is)}`, words: `whose claim ${rule.claim} is ${rule.is}` }
    : { key: `holds ${rule.claim} ${value(rule.holds)}`, words: `whose claim ${rule.claim} holds ${rule.holds}` };
}
