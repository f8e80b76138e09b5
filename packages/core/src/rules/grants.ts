import { type ChannelName, filterFault, type Json, type MessageFilter } from '@nine-bells/wire';
import { type AccessRule, accessWords, channelActs, type Grant, type Parameters } from '../model/access.js';
import { matchPattern, parametersOf, parsePattern } from '../model/pattern.js';
import { accessRuleFault } from './accessRule.js';
import { authorWithin } from './authorWithin.js';

/** Most grants in one token, and deepest nesting of conditions in one. */
const maxGrants = 100;
const deepest = 8;

/**
 * Reads the access rules that a token brings: a list of `{"pattern": ..., "allow": {"enter": ...}}`, in the grammar of
 * channel rules. What asks the application has no place in a token.
 *
 * @throws {RangeError} saying what is wrong
 */
export function readGrants(value: Json): readonly Grant[] {
  if (!Array.isArray(value)) throw new RangeError('a list of access rules is expected');
  if (value.length > maxGrants) throw new RangeError(`a token brings at most ${maxGrants} access rules`);
  return value.map((each) => {
    const { pattern: text, allow = {}, only, ...rest } = objectOf(each, 'an access rule');
    refuseOthers(rest);
    if (typeof text !== 'string') throw new RangeError('an access rule names its channels by `pattern`');
    const pattern = parsePattern(text);
    const read: Partial<Record<string, AccessRule>> = {};
    for (const [act, rule] of Object.entries(objectOf(allow, '`allow`'))) {
      const known = channelActs.find((name) => name === act);
      if (known === undefined) throw new RangeError(`there is no act ${JSON.stringify(act)}`);
      const accessRule = readRule(rule, deepest);
      const fault = accessRuleFault(accessRule, parametersOf(pattern), known);
      if (fault !== undefined) throw new RangeError(fault);
      read[act] = accessRule;
    }
    return { pattern, allow: read, ...(only === undefined ? {} : { only: readOnly(only, parametersOf(pattern)) }) };
  });
}

/**
 * What the access rules of a token let through of a channel's messages: what the rules with `only` that match say, all of them.
 * `undefined`: everything.
 */
export function grantedFilters(grants: readonly Grant[], channel: ChannelName): readonly MessageFilter[] | undefined {
  let found: MessageFilter[] | undefined;
  for (const { pattern, only } of grants) {
    const parameters = only === undefined ? undefined : matchPattern(pattern, channel);
    if (only === undefined || parameters === undefined) continue;
    found ??= [];
    found.push(meantBy(only, parameters));
  }
  return found;
}

/** A filter in which values such as `:boat` are those of the channel's name. */
function meantBy({ by, notBy, where, ...filter }: MessageFilter, parameters: Parameters): MessageFilter {
  const value = <T>(each: T): T | string =>
    typeof each === 'string' && each.startsWith(':') ? (parameters[each.slice(1)] ?? each) : each;
  return {
    ...filter,
    ...(by && { by: by.map(value) }),
    ...(notBy && { notBy: notBy.map(value) }),
    ...(where && { where: Object.fromEntries(Object.entries(where).map(([at, each]) => [at, value(each)])) }),
  };
}

function readOnly(value: Json, known: readonly string[]): MessageFilter {
  const fault = filterFault(value);
  if (fault !== undefined) throw new RangeError(`\`only\`: ${fault.detail}`);
  // It has the shape of one.
  const filter = value as MessageFilter;
  for (const each of [...(filter.by ?? []), ...(filter.notBy ?? []), ...Object.values(filter.where ?? {})])
    if (typeof each === 'string' && each.startsWith(':') && !known.includes(each.slice(1)))
      throw new RangeError(`\`only\`: there is no parameter ${each} in the pattern`);
  return filter;
}

function readRule(value: Json | undefined, depth: number): AccessRule {
  if (depth === 0) throw new RangeError(`conditions are nested at most ${deepest} deep`);
  if (typeof value === 'string') {
    const word = accessWords.find((each) => each === value);
    if (word === undefined || word === 'token-allows' || word === 'invited')
      throw new RangeError(`${JSON.stringify(value)} is no condition`);
    return word;
  }
  const { claim, ...rest } = objectOf(value, 'a condition');
  const [[name, inner] = ['', undefined], ...others] = Object.entries(rest);
  if (others.length > 0) refuseOthers(Object.fromEntries(others));
  if (claim !== undefined) {
    if (name === 'is') return { claim: textOf(claim), is: textOf(inner) };
    if (name === 'holds') return { claim: textOf(claim), holds: textOf(inner) };
    throw new RangeError('a claim goes with `is` or `holds`');
  }
  switch (name) {
    case 'role':
      return { role: textOf(inner) };
    case 'user':
      return { user: textOf(inner) };
    case 'author':
      return { author: authorWithin(textOf(inner)) };
    case 'not':
      return { not: readRule(inner, depth - 1) };
    case 'all':
      return { all: listOf(inner).map((each) => readRule(each, depth - 1)) };
    case 'any':
      return { any: listOf(inner).map((each) => readRule(each, depth - 1)) };
    default:
      throw new RangeError(`${JSON.stringify(name)} is no condition of a token`);
  }
}

function objectOf(value: Json | undefined, what: string): { readonly [member: string]: Json } {
  if (typeof value !== 'object' || value === null || Array.isArray(value)) throw new RangeError(`${what} is an object`);
  return value as { readonly [member: string]: Json };
}

function listOf(value: Json | undefined): readonly Json[] {
  if (!Array.isArray(value)) throw new RangeError('`all` and `any` have a list of conditions');
  return value;
}

function textOf(value: Json | undefined): string {
  if (typeof value !== 'string' || value === '') throw new RangeError('a value of a condition is text');
  return value;
}

function refuseOthers(rest: object): void {
  const [name] = Object.keys(rest);
  if (name !== undefined) throw new RangeError(`there is no ${JSON.stringify(name)} there`);
}
