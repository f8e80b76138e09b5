import {
  type AccessRule,
  type ChannelRule,
  ChannelRules,
  type Contract,
  type ContractsByType,
  defaultEngineOptions,
  type Engine,
  parsePattern,
  type ReviewRule,
} from '@nine-bells/core';
import { type ChannelRuleInfo, type ChannelRulesInfo, type ContractInfo, defined, type Json } from '@nine-bells/wire';
import type { Configuration } from '../config/types.js';
import { type Route, route, type Serve } from './route.js';

/** `GET /v1/rules`: logbooks, features and access of each channel rule. */
export function channelRules(engine: Engine): readonly Route[] {
  const rules: Serve<'GET /v1/rules'> = (_request, response, caller) => {
    const told = rulesOfEngine(engine);
    const isFor = ({ pattern }: ChannelRuleInfo): boolean => caller.rights.hasForPattern('read', parsePattern(pattern));
    response.json({ ...told, rules: told.rules.filter(isFor) });
  };
  return [route('GET /v1/rules', { right: { perChannel: 'read' } }, rules)];
}

/** Returns the current channel rules of an engine. */
export function rulesOfEngine(engine: Engine): ChannelRulesInfo {
  return rulesInfo(engine.channels.rules.all, engine.options);
}

/** Returns the channel rules of a configuration, as a service with it would. */
export function channelRulesOf({ channels, engine }: Configuration): ChannelRulesInfo {
  return rulesInfo(new ChannelRules(channels).all, { ...defaultEngineOptions, ...engine });
}

function rulesInfo(
  rules: readonly ChannelRule[],
  { dataBytes, notices }: { readonly dataBytes: number; readonly notices?: Contract | undefined },
): ChannelRulesInfo {
  return {
    rules: rules.map((rule) => ruleInfo(rule, dataBytes)),
    ...defined({ notices: notices && contractInfo(notices) }),
  };
}

/** Returns what a set member of a rule adds to the answer. */
type Shown<M extends keyof ChannelRule> = (value: NonNullable<ChannelRule[M]>) => Partial<ChannelRuleInfo>;

/** The answer's members by the members of a rule, in their order. */
const shown: { readonly [M in keyof ChannelRule]-?: Shown<M> } = {
  pattern: (pattern) => ({ pattern }),
  about: (about) => ({ about }),
  logbook: (logbook) => ({
    logbook: logbook.type,
    ...(logbook.type === 'kept' && logbook.retention !== undefined && { keep: logbook.retention }),
  }),
  allow: (allow) => ({
    allow: Object.fromEntries(Object.entries(allow).map(([act, rule]) => [act, accessInfo(rule as AccessRule)])),
  }),
  presence: ({ noted }) => ({ presence: true, ...(noted && { noted: true }) }),
  showsMarks: () => ({ marks: 'shown' }),
  reactions: (reactions) => ({ reactions }),
  hasReplies: () => ({ replies: true }),
  hasMentions: () => ({ mentions: true }),
  review: (review) => ({ review: reviewInfo(review) }),
  searched: (search) => ({ search }),
  keepsRevisions: () => ({ revisions: 'kept' }),
  marksBlocked: () => ({ blocked: 'marked' }),
  direct: () => ({ direct: true }),
  dataBytes: (dataBytes) => ({ dataBytes }),
  slowMs: (slowMs) => ({ slowMs }),
  types: (types) => ({ types: byType(types) }),
  hails: (hails) => ({ hails: byType(hails) }),
  status: (status) => ({ status: contractInfo(status) }),
  board: ({ everyMs, entries, valueBytes, types, contract }) => ({
    board: { everyMs, entries, valueBytes, ...defined({ types, contract: contract && contractInfo(contract) }) },
  }),
  open: () => ({ open: true }),
  reportOnly: () => ({ reportOnly: true }),
};

function ruleInfo(rule: ChannelRule, dataBytes: number): ChannelRuleInfo {
  const complete: ChannelRule = { dataBytes, ...rule };
  const parts = (Object.keys(shown) as (keyof ChannelRule)[]).map((name) => {
    const value = complete[name];
    return value === undefined || value === false ? {} : (shown[name] as (value: unknown) => object)(value);
  });
  // Members that the answer requires are set in every rule.
  return Object.assign({}, ...parts) as ChannelRuleInfo;
}

function reviewInfo({ withinMs, otherwise, order }: ReviewRule): NonNullable<ChannelRuleInfo['review']> {
  return { withinMs, otherwise, ...(order === 'none' ? { order } : {}) };
}

function byType(all: ContractsByType): Readonly<Record<string, ContractInfo>> {
  return Object.fromEntries(Object.entries(all).map(([type, each]) => [type, contractInfo(each)]));
}

function contractInfo({ about, from, schema, example }: Contract): ContractInfo {
  return defined({ about, from, schema, example });
}

function accessInfo(rule: AccessRule): Json {
  return JSON.parse(
    JSON.stringify(rule, (_, value) => (typeof value === 'function' ? { function: value.name } : value)),
  ) as Json;
}
