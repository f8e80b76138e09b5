import type { Allow } from '../access/access.js';
import { accessRuleFault } from '../access/accessRule.js';
import type { Keeping } from '../logbook/logbook.js';
import {
  compareSpecificity,
  isSameShape,
  matchPattern,
  mismatch,
  type Pattern,
  parametersOf,
  parsePattern,
} from './pattern.js';

/** What all channels whose names match a pattern keep, carry and allow. */
export interface ChannelRule {
  readonly pattern: string;
  /** One line for people: what these channels are for. */
  readonly about?: string;
  readonly logbook: Keeping;
  readonly allow: Allow;
  /** Largest `data` of a message here, in bytes of JSON text; the service's limit if absent. */
  readonly dataBytes?: number;
}

/** The rule that holds for a channel, and the values of its pattern's parameters. */
export interface RuleMatch {
  readonly rule: ChannelRule;
  readonly parameters: Readonly<Record<string, string>>;
}

/** All channel rules of a service. The most specific one that matches a name holds for it. */
export class ChannelRules {
  readonly #rules: readonly { readonly pattern: Pattern; readonly rule: ChannelRule }[];

  /** @throws {RangeError} for a malformed pattern or access rule, or two patterns that match the same names */
  constructor(rules: readonly ChannelRule[]) {
    const parsed = rules.map((rule) => ({ pattern: parsePattern(rule.pattern), rule }));
    for (const { pattern, rule } of parsed)
      for (const access of Object.values(rule.allow)) {
        const fault = accessRuleFault(access, parametersOf(pattern));
        if (fault !== undefined) throw new RangeError(`${pattern.text}: ${fault}`);
      }
    for (const [index, { pattern }] of parsed.entries())
      for (const other of parsed.slice(0, index))
        if (isSameShape(pattern, other.pattern))
          throw new RangeError(`the patterns ${other.pattern.text} and ${pattern.text} match the same names`);
    this.#rules = parsed.sort((a, b) => compareSpecificity(a.pattern, b.pattern));
  }

  /** The rule for a name, or `undefined` if none matches. */
  match(name: string): RuleMatch | undefined {
    for (const { pattern, rule } of this.#rules) {
      const parameters = matchPattern(pattern, name);
      if (parameters !== undefined) return { rule, parameters };
    }
    return undefined;
  }

  /** The rules that do not hold for a name, and why. */
  passedOver(name: string): readonly { readonly pattern: string; readonly why: string }[] {
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
}
