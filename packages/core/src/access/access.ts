import { type Problem, problem } from '@nine-bells/wire';
import type { RuleMatch } from '../channel/channelRule.js';
import type { Identity } from '../identity.js';
import { type AccessRule, type Weighed, weigh } from './accessRule.js';

/** What one may or may not do in a channel. */
export type Act = 'enter' | 'read' | 'publish';

export const acts: readonly Act[] = ['enter', 'read', 'publish'];

/** The access rules of a channel rule. What is not said is refused; `read` is as `enter` where it is not said. */
export type Allow = Readonly<Partial<Record<Act, AccessRule>>>;

/** An access question decided. */
export interface Decision {
  /** How the rule was weighed. */
  readonly weighed: Weighed;
  /** Why it is refused, in words that are safe to show to the client; absent if it is allowed. */
  readonly problem?: Problem;
}

/** Decides whether `who` may do `act` in the channel that was matched. The one place where access is decided. */
export function decide(act: Act, { rule, parameters }: RuleMatch, who: Identity): Decision {
  if (who.oversight) return decideOversight(act);
  const access = accessRuleFor(rule.allow, act);
  const weighed = weigh(access, who, parameters);
  return weighed.holds
    ? { weighed }
    : { weighed, problem: problem('not-allowed', reason(act, access, rule.pattern, who)) };
}

/** The access rule that holds for an act. */
export function accessRuleFor(allow: Allow, act: Act): AccessRule {
  return allow[act] ?? (act === 'read' ? allow.enter : undefined) ?? 'nobody';
}

/** Each act as it stands before "channels". */
const doing: Readonly<Record<Act, string>> = { enter: 'enter', read: 'read in', publish: 'publish in' };

/** Says which rule refused, and no more of it than everybody may know. */
function reason(act: Act, access: AccessRule, pattern: string, who: Identity): string {
  const what = `${doing[act]} channels of the rule ${pattern}`;
  if (access === 'nobody')
    return act === 'publish'
      ? `no client may ${what}; applications publish over HTTP with an API key`
      : `nobody may ${what}`;
  if (access === 'signed-in') return `only signed-in users may ${what}, and this is a guest`;
  return `${who.guest ? 'this guest' : `user ${who.user}`} may not ${what}`;
}

function decideOversight(act: Act): Decision {
  const looks = act !== 'publish';
  const weighed = { asks: 'oversight may look, and no more', holds: looks, found: 'oversight' };
  return looks ? { weighed } : { weighed, problem: problem('not-allowed', `oversight may look, but not ${act}`) };
}
