import type { Json } from '@nine-bells/wire';
import { type AccessRule, isMessageAct, type Parameters, type Question } from '../model/access.js';
import { ownMessage } from '../model/messageFacts.js';
import { verdictOf } from './accessRule.js';

/** A user to be made up, so that an access rule allows the act. */
export interface ExampleUser {
  /** Given only if the rule names the user. */
  readonly user?: string;
  readonly roles: readonly string[];
  readonly claims: Readonly<Record<string, Json>>;
}

type Found = ExampleUser | { readonly why: string };

const nobodyYet: ExampleUser = { roles: [], claims: {} };

/** The id of a user whom the rule does not name. */
const anyId = 'example';

/**
 * Works out the simplest user whom an access rule allows, where that is known without asking the application.
 *
 * @returns that user, or why there is none
 */
export function exampleUser(rule: AccessRule, question: Omit<Question, 'who'>): Found {
  const found = allowedBy(rule, question.parameters, nobodyYet);
  if ('why' in found) return found;
  const who = { ...found, user: found.user ?? anyId, guest: false };
  const message = isMessageAct(question.act) ? { message: ownMessage(who, 0) } : {};
  // A part such as `not` may still exclude the user.
  return verdictOf(rule, { ...question, ...message, who }) === 'yes'
    ? found
    : { why: 'parts of the rule exclude each other' };
}

/** @param sofar - what other parts of the rule already ask of the user */
function allowedBy(rule: AccessRule, parameters: Parameters, sofar: ExampleUser): Found {
  const value = (text: string): string => (text.startsWith(':') ? (parameters[text.slice(1)] ?? text) : text);
  if (typeof rule === 'function') return { why: 'a function of the program decides' };
  if (rule === 'anyone' || rule === 'signed-in') return sofar;
  if (rule === 'nobody') return { why: 'the rule allows nobody' };
  if (rule === 'token-allows') return { why: 'it takes a token that brings its own access rules' };
  if (rule === 'invited' || 'invited' in rule) return { why: 'it takes an invitation' };
  if ('role' in rule) return { ...sofar, roles: [...new Set([...sofar.roles, value(rule.role)])] };
  if ('user' in rule) return named(value(rule.user), sofar);
  if ('among' in rule) return named(value(rule.among).split(',')[0] as string, sofar);
  // A user who may publish has messages.
  if ('author' in rule) return sofar;
  if ('claim' in rule) {
    const held = sofar.claims[rule.claim];
    const wanted = 'is' in rule ? value(rule.is) : [...(Array.isArray(held) ? held : []), value(rule.holds)];
    return { ...sofar, claims: { ...sofar.claims, [rule.claim]: wanted } };
  }
  if ('all' in rule) {
    let found: Found = sofar;
    for (const each of rule.all)
      if ('why' in found) return found;
      else if (!isNot(each)) found = allowedBy(each, parameters, found);
    return found;
  }
  if ('any' in rule) {
    const all = rule.any.map((each) => allowedBy(each, parameters, sofar));
    return all.find((each) => !('why' in each)) ?? all[0] ?? { why: 'the rule allows nobody' };
  }
  if ('not' in rule) return sofar;
  return { why: 'the application is asked' };
}

function isNot(rule: AccessRule): boolean {
  return typeof rule === 'object' && 'not' in rule;
}

function named(user: string, sofar: ExampleUser): Found {
  if (sofar.user !== undefined && sofar.user !== user) return { why: 'the rule asks for two users at once' };
  return { ...sofar, user };
}
