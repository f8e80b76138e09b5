import { type Problem, problem } from '@nine-bells/wire';
import type { ChannelRule } from '../channel/channelRule.js';
import type { Identity } from '../identity.js';

/** Who may do something in a channel. */
export type AccessRule = 'anyone' | 'signed-in' | 'nobody';

/** What one may or may not do in a channel. */
export type Act = 'enter' | 'read' | 'publish';

export const accessRules: readonly AccessRule[] = ['anyone', 'signed-in', 'nobody'];
export const acts: readonly Act[] = ['enter', 'read', 'publish'];

/** The access rules of a channel rule. What is not said is refused; `read` is as `enter` where it is not said. */
export type Allow = Readonly<Partial<Record<Act, AccessRule>>>;

/** The access rule that holds for an act. */
export function accessRuleFor(allow: Allow, act: Act): AccessRule {
  return allow[act] ?? (act === 'read' ? allow.enter : undefined) ?? 'nobody';
}

/** Decides whether `who` may do `act`; a refusal says why in words that are safe to show to the client. */
export function decide(act: Act, rule: ChannelRule, who: Identity): Problem | undefined {
  if (who.oversight && act !== 'publish') return undefined;
  const place = `channels of the rule ${rule.pattern}`;
  switch (accessRuleFor(rule.allow, act)) {
    case 'anyone':
      return who.oversight ? problem('not-allowed', `oversight may look, but not ${act}`) : undefined;
    case 'signed-in':
      if (!who.guest && !who.oversight) return undefined;
      return problem('not-allowed', `only signed-in users may ${act} in ${place}, and this is a guest`);
    case 'nobody':
      return problem(
        'not-allowed',
        act === 'publish'
          ? `no client may publish in ${place}; applications publish over HTTP with an API key`
          : `nobody may ${act} in ${place}`,
      );
  }
}
