import { type ChannelName, type Problem, problem } from '@nine-bells/wire';
import type { ChannelRules } from '../channel/channelRule.js';
import type { Identity } from '../identity.js';
import { type Act, decide } from './access.js';
import type { Parameters, Weighed } from './accessRule.js';

/** An access question answered in full, for whoever may know the rules. */
export interface Explanation {
  readonly act: Act;
  readonly channel: ChannelName;
  readonly user: string;
  readonly allowed: boolean;
  /** What a client would be told. */
  readonly problem?: Problem;
  /** The channel rule that holds. */
  readonly rule?: { readonly pattern: string; readonly parameters: Parameters };
  /** The other channel rules, and why they do not hold. */
  readonly others: readonly { readonly pattern: string; readonly why: string }[];
  /** How the access rule was weighed. */
  readonly weighed?: Weighed;
}

/** Says which rule decides an access question, on which facts, by the very function that decides it for clients. */
export function explain(rules: ChannelRules, act: Act, channel: ChannelName, who: Identity): Explanation {
  const match = rules.match(channel);
  const about = { act, channel, user: who.user, others: rules.passedOver(channel) };
  if (match === undefined)
    return { ...about, allowed: false, problem: problem('no-such-channel', `no channel rule matches ${channel}`) };
  const { weighed, problem: refused } = decide(act, match, who);
  return {
    ...about,
    allowed: refused === undefined,
    ...(refused === undefined ? {} : { problem: refused }),
    rule: { pattern: match.rule.pattern, parameters: match.parameters },
    weighed,
  };
}
