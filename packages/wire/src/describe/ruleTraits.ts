import type { ChannelRuleInfo } from '../channelRules.js';
import { amount, keepText, times } from './keepText.js';

/** Members that have a place of their own on a page. */
type Shown = 'pattern' | 'about' | 'allow' | 'types' | 'hails' | 'status' | 'dataBytes' | 'keep';
type Trait = Exclude<keyof ChannelRuleInfo, Shown>;

const withoutAnswer = { refuse: 'refused', pass: 'published', hold: 'waiting' } as const;

/** Texts of a rule's members, in display order. */
const texts: { readonly [T in Trait]-?: (value: NonNullable<ChannelRuleInfo[T]>, rule: ChannelRuleInfo) => string } = {
  logbook: (logbook, { keep }) =>
    logbook === 'recent'
      ? 'latest messages kept'
      : `messages kept${keep === undefined ? '' : ` for ${keepText(keep)}`}`,
  slowMs: (ms) => `one message per user in ${amount(ms, times, 'ms')}`,
  review: ({ withinMs, otherwise, order }) =>
    `reviewed by the application within ${amount(withinMs, times, 'ms')}, else ${withoutAnswer[otherwise]}${order === 'none' ? ', in any order' : ''}`,
  presence: () => 'members shown',
  noted: () => 'joining and leaving noted',
  marks: () => 'read marks shown',
  reactions: ({ words, kinds }) => `reactions ${words === undefined ? `of up to ${kinds} kinds` : words.join(' ')}`,
  replies: () => 'replies',
  mentions: () => 'mentions',
  search: (members) => `searchable by ${members.join(', ')}`,
  revisions: () => 'earlier revisions kept',
  blocked: () => 'messages of blocked users marked',
  direct: () => 'between the users in its name',
  board: ({ everyMs, entries }) => `board of up to ${entries} entries, at most every ${amount(everyMs, times, 'ms')}`,
  open: () => 'open to other types',
  reportOnly: () => 'contracts report only',
};

/** Lists the features and limits of a channel rule, without access and contracts, in a few words each. */
export function ruleTraits(rule: ChannelRuleInfo): readonly string[] {
  return (Object.keys(texts) as Trait[]).flatMap((name) => {
    const value = rule[name];
    return value === undefined ? [] : [(texts[name] as (value: unknown, rule: ChannelRuleInfo) => string)(value, rule)];
  });
}
