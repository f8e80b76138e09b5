import { type ChannelName, refusal, usersOfDirect } from '@nine-bells/wire';
import { BoundedMap } from '../lib/boundedMap.js';
import { isJsonPointer } from '../lib/jsonPointer.js';
import type { AccessRule, Allow, ChannelAct } from '../model/access.js';
import type { BoardRule } from '../model/board.js';
import type { Contract, ContractsByType } from '../model/contract.js';
import { countsAsUnread } from '../model/mark.js';
import type { Keeping } from '../model/message.js';
import {
  compareSpecificity,
  isSameShape,
  mismatch,
  type Pattern,
  parametersOf,
  parsePattern,
} from '../model/pattern.js';
import type { PresenceRule } from '../model/presenceRule.js';
import type { ReactionRule } from '../model/reaction.js';
import type { ReviewRule } from '../model/review.js';
import { accessRuleFault } from './accessRule.js';

/** What all channels whose names match a pattern keep, carry and allow. */
export interface ChannelRule {
  readonly pattern: string;
  /** One line for people: what these channels are for. */
  readonly about?: string;
  readonly logbook: Keeping;
  readonly allow: Pick<Allow, ChannelAct>;
  /**
   * Channels between users, of which the pattern's only parameter, its last segment, names all. Only they get in; who may
   * begin one with whom, the access rule of the act `direct` says.
   */
  readonly direct?: boolean;
  /** Whether it shows who is there; absent: it does not. */
  readonly presence?: PresenceRule;
  /** Whether those who have entered see how far others have read. Only with a kept logbook. */
  readonly showsMarks?: boolean;
  /** Each channel has a board of entries; absent: none. */
  readonly board?: BoardRule;
  /** Largest `data` of a message here, in bytes of JSON text; the service's limit if absent. */
  readonly dataBytes?: number;
  /** A user publishes here once in this time, in milliseconds, unless it may moderate; absent: as the rates of sessions allow. */
  readonly slowMs?: number;
  /** What messages held before they were revised is kept; who may read it, the act `revisions` says. Only with a kept logbook. */
  readonly keepsRevisions?: boolean;
  /** Messages may answer others; absent: they do not. Only with a kept logbook. */
  readonly hasReplies?: boolean;
  /** The application sees what clients publish and revise, before that is done; absent: it does not. */
  readonly review?: ReviewRule;
  /** Messages are found by their words: by the texts at these places of their data (JSON Pointers). Only with a kept logbook. */
  readonly searched?: readonly string[];
  /** Messages may mention users, and roles where the act `mention` allows it; absent: they do not. */
  readonly hasMentions?: boolean;
  /** Users react to messages; absent: they do not. Only with a kept logbook. */
  readonly reactions?: ReactionRule;
  /** A user also gets messages of users that it has blocked or muted, for its client to mark; absent: it does not. */
  readonly marksBlocked?: boolean;
  /** The types that messages have here; absent: any. */
  readonly types?: ContractsByType;
  /** The same of hails. */
  readonly hails?: ContractsByType;
  /** Messages and hails of types that are not named are let pass. */
  readonly open?: boolean;
  /** What the status of a member looks like; absent: as the application likes. */
  readonly status?: Contract;
  /** What does not fit is counted and reported, and let pass. */
  readonly reportOnly?: boolean;
}

/** The rule that holds for a channel, and the values of its pattern's parameters. */
export interface RuleMatch {
  readonly channel: ChannelName;
  readonly rule: ChannelRule;
  readonly parameters: Readonly<Record<string, string>>;
  /** Whether the rule has contracts that data is held against. */
  readonly hasContracts: boolean;
}

/** The parameters of a pattern, by name: `ParametersOf<'race/:race/chat'>` is `{ readonly race: string }`. */
export type ParametersOf<P extends string> = P extends `${infer First}/${infer Rest}`
  ? ParametersOf<First> & ParametersOf<Rest>
  : P extends `:${infer Name}`
    ? { readonly [K in Name]: string }
    : unknown;

/**
 * A channel rule written in code: a function in it is given the very parameters that its pattern has.
 *
 * @example
 * channelRule({
 *   pattern: 'crew/:boat',
 *   logbook: { type: 'kept' },
 *   allow: { enter: async ({ who, parameters }) => (await crewOf(parameters.boat)).includes(who.user) },
 * });
 */
export function channelRule<const P extends string>(
  rule: Omit<ChannelRule, 'pattern' | 'allow'> & {
    readonly pattern: P;
    readonly allow: Pick<Allow<ParametersOf<P>>, ChannelAct>;
  },
): ChannelRule {
  // The engine calls a rule's functions with the parameters of the rule's own pattern, and with no others.
  return rule as unknown as ChannelRule;
}

/** The access rules of direct channels: only their users, and each may change its own messages. */
export function directAllow(parameter: string): ChannelRule['allow'] {
  const users = { among: `:${parameter}` };
  const own = { all: [users, { author: {} }] };
  return { enter: users, publish: users, hail: users, react: users, revise: own, withdraw: own };
}

/** The users of a direct channel. */
export function usersOf({ rule, parameters }: RuleMatch): readonly string[] | undefined {
  if (!rule.direct) return undefined;
  return usersOfDirect(Object.values(parameters)[0] ?? '');
}

/** Patterns as a tree: one step for each segment of a name. */
interface Branch {
  readonly fixed: Map<string, Branch>;
  parameter: Branch | undefined;
  ending: { readonly rule: ChannelRule; readonly names: readonly (string | undefined)[] } | undefined;
}

const branch = (): Branch => ({ fixed: new Map(), parameter: undefined, ending: undefined });

/** Most names remembered with their rule. */
const maxMatches = 10_000;

/** All channel rules of a service. The most specific one that matches a name holds for it. */
export class ChannelRules {
  readonly #rules: readonly { readonly pattern: Pattern; readonly rule: ChannelRule }[];
  readonly #tree = branch();
  /** Names that were matched before. */
  readonly #matches = new BoundedMap<ChannelName, RuleMatch>(maxMatches);

  /** @throws {RangeError} for a malformed pattern or access rule, or two patterns that match the same names */
  constructor(rules: readonly ChannelRule[]) {
    const parsed = rules.map((rule) => ({ pattern: parsePattern(rule.pattern), rule }));
    for (const { pattern, rule } of parsed) {
      const parameters = parametersOf(pattern);
      if (rule.reactions && rule.logbook.type !== 'kept')
        throw new RangeError(`${pattern.text}: only channels with a kept logbook have reactions`);
      if (rule.searched !== undefined && rule.logbook.type !== 'kept')
        throw new RangeError(`${pattern.text}: only channels with a kept logbook are searched`);
      const misplaced = rule.searched?.find((place) => !isJsonPointer(place));
      if (misplaced !== undefined) throw new RangeError(`${pattern.text}: ${misplaced} is no JSON Pointer`);
      if (rule.hasReplies && rule.logbook.type !== 'kept')
        throw new RangeError(`${pattern.text}: only channels with a kept logbook have replies`);
      if (rule.keepsRevisions && rule.logbook.type !== 'kept')
        throw new RangeError(`${pattern.text}: only channels with a kept logbook keep earlier revisions`);
      if (rule.showsMarks && rule.logbook.type !== 'kept')
        throw new RangeError(`${pattern.text}: only channels with a kept logbook have read marks to show`);
      if (rule.direct && (parameters.length !== 1 || !pattern.text.endsWith(`/:${parameters[0]}`)))
        throw new RangeError(`${pattern.text}: a direct channel's pattern has one parameter, as its last segment`);
      if (rule.board !== undefined && parameters.includes('entry'))
        throw new RangeError(`${pattern.text}: \`:entry\` is the name of a board's entry, and no parameter beside`);
      const misled = Object.entries(rule.board?.types ?? {}).find(([, { entry }]) => !isJsonPointer(entry));
      if (misled !== undefined)
        throw new RangeError(`${pattern.text}: \`entry\` of the type ${misled[0]} is no JSON Pointer, such as /boat`);
      const ownNote = Object.keys(rule.types ?? {}).find((type) => !countsAsUnread(type));
      if (ownNote !== undefined)
        throw new RangeError(`${pattern.text}: messages of the type ${ownNote} are the service's own notes`);
    }
    for (const { pattern, rule } of parsed)
      for (const [act, access] of Object.entries<AccessRule>(rule.allow)) {
        const known = act === 'set' ? [...parametersOf(pattern), 'entry'] : parametersOf(pattern);
        const fault = accessRuleFault(access, known, act as ChannelAct);
        if (fault !== undefined) throw new RangeError(`${pattern.text}: ${fault}`);
      }
    for (const [index, { pattern }] of parsed.entries())
      for (const other of parsed.slice(0, index))
        if (isSameShape(pattern, other.pattern))
          throw new RangeError(`the patterns ${other.pattern.text} and ${pattern.text} match the same names`);
    this.#rules = parsed.sort((a, b) => compareSpecificity(a.pattern, b.pattern));
    for (const { pattern, rule } of this.#rules) this.#plant(pattern, rule);
  }

  /** The rule for a name, or `undefined` if none matches. Hot: asked for every act. */
  match(name: ChannelName): RuleMatch | undefined {
    const known = this.#matches.get(name);
    if (known !== undefined) return known;
    const match = this.#find(name);
    if (match === undefined) return undefined;
    this.#matches.set(name, match);
    return match;
  }

  /**
   * The rule for a name that a request gives.
   *
   * @throws {ProblemError} `no-such-channel`; `bad-name` if the channel is direct and its name does not list users
   */
  require(name: ChannelName): RuleMatch {
    const match = this.match(name);
    if (match === undefined) throw refusal('no-such-channel', `no channel rule matches ${name}`);
    if (match.rule.direct && usersOf(match) === undefined)
      throw refusal(
        'bad-name',
        'the last segment of a direct channel is its users, each once, sorted, joined by commas',
      );
    return match;
  }

  #find(name: ChannelName): RuleMatch | undefined {
    const parts = name.split('/');
    const ending = find(this.#tree, parts, 0);
    if (ending === undefined) return undefined;
    // Without a prototype: a parameter may be called anything.
    const parameters: Record<string, string> = Object.create(null);
    for (let i = 0; i < parts.length; i++) {
      const parameter = ending.names[i];
      if (parameter !== undefined) parameters[parameter] = parts[i] as string;
    }
    return { channel: name, rule: ending.rule, parameters, hasContracts: hasContracts(ending.rule) };
  }

  /** The rules that do not hold for a name, and why. */
  passedOver(name: ChannelName): readonly { readonly pattern: string; readonly why: string }[] {
    const holding = this.match(name)?.rule;
    return this.#rules
      .filter(({ rule }) => rule !== holding)
      .map(({ pattern }) => ({
        pattern: pattern.text,
        why: mismatch(pattern, name) ?? `it matches too, but ${holding?.pattern} is more specific`,
      }));
  }

  get all(): readonly ChannelRule[] {
    return this.#rules.map(({ rule }) => rule);
  }

  #plant({ segments }: Pattern, rule: ChannelRule): void {
    let at = this.#tree;
    for (const segment of segments) {
      if ('parameter' in segment) {
        at.parameter ??= branch();
        at = at.parameter;
        continue;
      }
      let next = at.fixed.get(segment.literal);
      if (next === undefined) {
        next = branch();
        at.fixed.set(segment.literal, next);
      }
      at = next;
    }
    at.ending = { rule, names: segments.map((each) => ('parameter' in each ? each.parameter : undefined)) };
  }
}

function hasContracts({ types, hails, status, board }: ChannelRule): boolean {
  return types !== undefined || hails !== undefined || status !== undefined || board?.contract !== undefined;
}

/** Fixed text before parameters, from the left: what is found first is the most specific. */
function find(at: Branch, parts: readonly string[], depth: number): Branch['ending'] {
  if (depth === parts.length) return at.ending;
  const fixed = at.fixed.get(parts[depth] as string);
  const found = fixed === undefined ? undefined : find(fixed, parts, depth + 1);
  if (found !== undefined || at.parameter === undefined) return found;
  return find(at.parameter, parts, depth + 1);
}
