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

/** `GET /v1/rules`: what the channels of each rule keep, carry and allow. */
export function channelRules(engine: Engine): readonly Route[] {
  const rules: Serve<'GET /v1/rules'> = (_request, response, caller) => {
    const told = rulesOfEngine(engine);
    const isFor = ({ pattern }: ChannelRuleInfo): boolean => caller.rights.hasForPattern('read', parsePattern(pattern));
    response.json({ ...told, rules: told.rules.filter(isFor) });
  };
  return [route('GET /v1/rules', { right: { perChannel: 'read' } }, rules)];
}

/** The channel rules of an engine, as they are now. */
export function rulesOfEngine(engine: Engine): ChannelRulesInfo {
  return rulesInfo(engine.channels.rules.all, engine.options);
}

/** The channel rules of a configuration, as a service that runs it tells them. */
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

function ruleInfo(rule: ChannelRule, mostBytes: number): ChannelRuleInfo {
  const { pattern, about, logbook, allow, presence, showsMarks, direct, dataBytes, board, types, hails, status } = rule;
  return {
    pattern,
    ...defined({ about }),
    logbook: logbook.type,
    ...(logbook.type === 'kept' && logbook.retention !== undefined && { keep: logbook.retention }),
    allow: Object.fromEntries(Object.entries(allow).map(([act, each]) => [act, accessInfo(each as AccessRule)])),
    ...(presence && { presence: true }),
    ...(presence?.noted && { noted: true }),
    ...(showsMarks && { marks: 'shown' }),
    ...defined({ reactions: rule.reactions }),
    ...(rule.hasReplies && { replies: true }),
    ...(rule.hasMentions && { mentions: true }),
    ...(rule.review && { review: reviewInfo(rule.review) }),
    ...(rule.searched && { search: rule.searched }),
    ...(rule.keepsRevisions && { revisions: 'kept' }),
    ...(rule.marksBlocked && { blocked: 'marked' }),
    ...(direct && { direct: true }),
    dataBytes: dataBytes ?? mostBytes,
    ...(rule.slowMs !== undefined && { slowMs: rule.slowMs }),
    ...defined({
      types: types && byType(types),
      hails: hails && byType(hails),
      status: status && contractInfo(status),
      board: board && {
        everyMs: board.everyMs,
        entries: board.entries,
        valueBytes: board.valueBytes,
        ...defined({ types: board.types, contract: board.contract && contractInfo(board.contract) }),
      },
    }),
    ...(rule.open && { open: true }),
    ...(rule.reportOnly && { reportOnly: true }),
  };
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
