import type { AccessRule, Act, Allow, Identity } from '../model/access.js';
import type { Pattern } from '../model/pattern.js';
import { accessRuleFor, verdictOf } from './accessRule.js';

/** Whether it holds in every channel of a pattern, in some perhaps, or in none. */
type Extent = 'all' | 'some' | 'none';

/**
 * Whether a user may do something in some channel of a pattern. What depends on the channel's name, and what only the
 * application or a function knows, counts as perhaps.
 */
export function mayHold(allow: Allow, act: Act, who: Identity, pattern: Pattern): boolean {
  if (who.observer) return act === 'enter' || act === 'read';
  return extentOf(accessRuleFor(allow, act), act, who, pattern) !== 'none';
}

function extentOf(rule: AccessRule, act: Act, who: Identity, pattern: Pattern): Extent {
  if (typeof rule === 'function' || rule === 'invited') return 'some';
  if (rule === 'token-allows')
    return who.grants?.some((grant) => overlap(grant.pattern, pattern) && mayHold(grant.allow, act, who, pattern))
      ? 'some'
      : 'none';
  if (typeof rule !== 'string') {
    const parts = (rules: readonly AccessRule[]): Extent[] => rules.map((each) => extentOf(each, act, who, pattern));
    if ('any' in rule) return strongest(parts(rule.any), 'all', 'none');
    if ('all' in rule) return strongest(parts(rule.all), 'none', 'all');
    if ('not' in rule) {
      const extent = extentOf(rule.not, act, who, pattern);
      return extent === 'all' ? 'none' : extent === 'none' ? 'all' : 'some';
    }
    if ('ask' in rule || 'invited' in rule) return 'some';
    if (Object.values(rule).some((each) => typeof each === 'string' && each.startsWith(':'))) {
      if ('role' in rule) return someIf(who.roles.length > 0);
      if ('claim' in rule) return someIf(Object.hasOwn(who.claims, rule.claim) && !isEmpty(who.claims[rule.claim]));
      return someIf(!who.guest);
    }
  }
  return verdictOf(rule, { who, act, parameters: {} }) === 'yes' ? 'all' : 'none';
}

/** `decides` if one part is so, else perhaps if one part may be, else `otherwise`. */
function strongest(parts: readonly Extent[], decides: Extent, otherwise: Extent): Extent {
  if (parts.includes(decides)) return decides;
  return parts.includes('some') ? 'some' : otherwise;
}

function someIf(holds: boolean): Extent {
  return holds ? 'some' : 'none';
}

function isEmpty(claim: unknown): boolean {
  return Array.isArray(claim) && claim.length === 0;
}

/** Whether there is a name that both patterns match. */
function overlap(one: Pattern, other: Pattern): boolean {
  return (
    one.segments.length === other.segments.length &&
    one.segments.every((segment, index) => {
      const beside = other.segments[index];
      return (
        beside === undefined || !('literal' in segment && 'literal' in beside) || segment.literal === beside.literal
      );
    })
  );
}
