import type { Json } from '@nine-bells/wire';
import { type AccessRule, accessWords, channelActs, type Grant } from '../model/access.js';
import { parametersOf, parsePattern } from '../model/pattern.js';
import { accessRuleFault } from './accessRule.js';

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
    const { pattern: text, allow, ...rest } = objectOf(each, 'an access rule');
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
    return { pattern, allow: read };
  });
}

function readRule(value: Json | undefined, depth: number): AccessRule {
  if (depth === 0) throw new RangeError(`conditions are nested at most ${deepest} deep`);
  if (typeof value === 'string') {
    const word = accessWords.find((each) => each === value);
    if (word === undefined || word === 'token-allows') throw new RangeError(`${JSON.stringify(value)} is no condition`);
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
