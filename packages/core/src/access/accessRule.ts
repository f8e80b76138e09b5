import type { Json } from '@nine-bells/wire';
import type { Identity } from '../identity.js';

/**
 * Who may do something: plain data, without a language of its own.
 *
 * A value such as `:boat` stands for the channel pattern's parameter of that name; any other value for itself.
 */
export type AccessRule =
  | 'anyone'
  | 'signed-in'
  | 'nobody'
  /** Whoever has this role. */
  | { readonly role: string }
  /** This user. */
  | { readonly user: string }
  /** Whoever's claim is this value. */
  | { readonly claim: string; readonly is: string }
  /** Whoever's claim is a list with this value in it, or is this value. */
  | { readonly claim: string; readonly holds: string }
  | { readonly all: readonly AccessRule[] }
  | { readonly any: readonly AccessRule[] }
  | { readonly not: AccessRule };

export const accessWords = ['anyone', 'signed-in', 'nobody'] as const;

/** An access rule weighed against somebody: what it asks, whether it holds, and on which facts. */
export interface Weighed {
  /** What is asked, for people: `role committee`, `all of`. */
  readonly asks: string;
  readonly holds: boolean;
  /** What was found, where a fact was looked at. */
  readonly found?: string;
  readonly parts?: readonly Weighed[];
}

/** The values of the parameters of a channel's pattern. */
export type Parameters = Readonly<Record<string, string>>;

/**
 * What is wrong with an access rule for a pattern with these parameters; `undefined` if nothing is. A value that stands
 * for no parameter would match by chance, and an empty list of conditions would let everybody in.
 */
export function accessRuleFault(rule: AccessRule, parameters: readonly string[]): string | undefined {
  if (typeof rule === 'string') return undefined;
  if ('not' in rule) return accessRuleFault(rule.not, parameters);
  if ('all' in rule || 'any' in rule) {
    const parts = 'all' in rule ? rule.all : rule.any;
    if (parts.length === 0) return 'a list of conditions has at least one';
    return parts.map((part) => accessRuleFault(part, parameters)).find((fault) => fault !== undefined);
  }
  const { claim: _, ...values } = { claim: '', ...rule };
  const unknown = Object.values<string>(values).find(
    (each) => each.startsWith(':') && !parameters.includes(each.slice(1)),
  );
  return unknown === undefined ? undefined : `the pattern has no parameter ${unknown}`;
}

/** Weighs a rule against somebody. All parts are weighed, also when the first decides: the answer is read by people. */
export function weigh(rule: AccessRule, who: Identity, parameters: Parameters): Weighed {
  if (rule === 'anyone') return { asks: rule, holds: true };
  if (rule === 'nobody') return { asks: rule, holds: false };
  if (rule === 'signed-in') return { asks: rule, holds: !who.guest, found: who.guest ? 'a guest' : `user ${who.user}` };
  if ('role' in rule) {
    const role = meant(rule.role, parameters);
    return {
      asks: `role ${shown(rule.role, role)}`,
      holds: who.roles.includes(role),
      found: who.roles.length === 0 ? 'no roles' : `roles ${who.roles.join(', ')}`,
    };
  }
  if ('user' in rule) {
    const user = meant(rule.user, parameters);
    return {
      asks: `user ${shown(rule.user, user)}`,
      holds: !who.guest && who.user === user,
      found: `user ${who.user}`,
    };
  }
  if ('claim' in rule) return weighClaim(rule, who, parameters);
  if ('not' in rule) {
    const part = weigh(rule.not, who, parameters);
    return { asks: 'not', holds: !part.holds, parts: [part] };
  }
  if ('all' in rule) {
    const parts = rule.all.map((each) => weigh(each, who, parameters));
    return { asks: 'all of', holds: parts.every(({ holds }) => holds), parts };
  }
  const parts = rule.any.map((each) => weigh(each, who, parameters));
  return { asks: 'any of', holds: parts.some(({ holds }) => holds), parts };
}

function weighClaim(rule: Extract<AccessRule, { claim: string }>, who: Identity, parameters: Parameters): Weighed {
  const found = Object.hasOwn(who.claims, rule.claim) ? who.claims[rule.claim] : undefined;
  const has = found === undefined ? 'no such claim' : JSON.stringify(found);
  if ('is' in rule) {
    const value = meant(rule.is, parameters);
    return { asks: `claim ${rule.claim} is ${shown(rule.is, value)}`, holds: isSame(found, value), found: has };
  }
  const value = meant(rule.holds, parameters);
  const holds = Array.isArray(found) ? found.some((each) => isSame(each, value)) : isSame(found, value);
  return { asks: `claim ${rule.claim} holds ${shown(rule.holds, value)}`, holds, found: has };
}

/** Claims may be numbers or flags; the configuration and channel names write them as text. */
function isSame(claim: Json | undefined, value: string): boolean {
  return (
    (typeof claim === 'string' || typeof claim === 'number' || typeof claim === 'boolean') && String(claim) === value
  );
}

function meant(value: string, parameters: Parameters): string {
  // `accessRuleFault` has been asked before any rule is weighed: the parameter is there.
  return value.startsWith(':') ? (parameters[value.slice(1)] as string) : value;
}

function shown(written: string, value: string): string {
  return written === value ? value : `${value} (${written})`;
}
