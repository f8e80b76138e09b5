import { type Json, usersOfDirect } from '@nine-bells/wire';
import {
  type AccessFunction,
  type AccessRule,
  type Act,
  type Allow,
  type AskRule,
  type InvitedRule,
  isMessageAct,
  isUserAct,
  messageActs,
  type Parameters,
  type Question,
} from '../model/access.js';
import { matchPattern } from '../model/pattern.js';

/** The access rule that holds for an act. */
export function accessRuleFor(allow: Allow, act: Act): AccessRule {
  return allow[act] ?? (act === 'read' ? allow.enter : undefined) ?? 'nobody';
}

/** The conditions that only the application, a function or the store can answer. */
export type OpenRule = AskRule | AccessFunction | InvitedRule | 'invited';

/** Whether a rule is, by itself, such a condition. */
export function isOpen(rule: AccessRule): rule is OpenRule {
  return (
    rule === 'invited' ||
    typeof rule === 'function' ||
    (typeof rule === 'object' && ('ask' in rule || 'invited' in rule))
  );
}

/** What was answered to one of them, for one question. */
export interface Answered {
  readonly verdict: 'yes' | 'no' | 'failed';
  /** The application's own words for a refusal. */
  readonly reason?: string;
  readonly member?: Json;
  /** When it must be asked again, in milliseconds since the epoch; absent: not of itself. */
  readonly untilMs?: number;
  /** How it came about, for people: `answered yes, remembered for 60 s`. */
  readonly found: string;
  /** After a failure: when it may be worth asking again. */
  readonly retryAfterMs?: number;
}

export type Answers = ReadonlyMap<OpenRule, Answered>;

/** `failed`: it could not be found out, which never lets anybody in. `open`: it has not been asked yet. */
export type Verdict = 'yes' | 'no' | 'failed' | 'open';

/**
 * Decides an access rule for a question, as far as it can be decided with the answers at hand. Hot: on the way of every
 * message; allocates nothing.
 *
 * What has failed stays failed under `not`: a dead application must not let in whom it would have refused.
 */
export function verdictOf(rule: AccessRule, question: Question, answers?: Answers): Verdict {
  const { who, parameters } = question;
  if (typeof rule === 'string') {
    if (rule === 'anyone') return 'yes';
    if (rule === 'signed-in') return who.guest ? 'no' : 'yes';
    if (rule === 'invited') return answers?.get(rule)?.verdict ?? 'open';
    return rule === 'token-allows' ? verdictOfToken(question) : 'no';
  }
  if (typeof rule === 'function') return answers?.get(rule)?.verdict ?? 'open';
  if ('role' in rule) return yesIf(who.roles.includes(meant(rule.role, parameters)));
  if ('claim' in rule) return yesIf(claimHolds(rule, question));
  if ('user' in rule) return yesIf(!who.guest && who.user === meant(rule.user, parameters));
  if ('among' in rule)
    return yesIf(!who.guest && usersOfDirect(meant(rule.among, parameters))?.includes(who.user) === true);
  if ('author' in rule) return yesIf(isAuthor(rule, question));
  if ('any' in rule) {
    let verdict: Verdict = 'no';
    for (const part of rule.any) {
      const each = verdictOf(part, question, answers);
      if (each === 'yes') return each;
      if (each === 'open' || verdict === 'no') verdict = each;
    }
    return verdict;
  }
  if ('all' in rule) {
    let verdict: Verdict = 'yes';
    for (const part of rule.all) {
      const each = verdictOf(part, question, answers);
      if (each === 'no') return each;
      if (each === 'failed' || verdict === 'yes') verdict = each;
    }
    return verdict;
  }
  if ('not' in rule) {
    const verdict = verdictOf(rule.not, question, answers);
    return verdict === 'yes' ? 'no' : verdict === 'no' ? 'yes' : verdict;
  }
  return answers?.get(rule)?.verdict ?? 'open';
}

/** The next condition that must be asked before the rule can be decided. */
export function nextOpen(rule: AccessRule, question: Question, answers: Answers): OpenRule | undefined {
  if (verdictOf(rule, question, answers) !== 'open') return undefined;
  if (isOpen(rule)) return rule;
  if (typeof rule === 'string') return undefined;
  if ('not' in rule) return nextOpen(rule.not, question, answers);
  const parts = 'all' in rule ? rule.all : 'any' in rule ? rule.any : [];
  for (const part of parts) {
    const open = nextOpen(part, question, answers);
    if (open !== undefined) return open;
  }
  return undefined;
}

/** An access rule evaluated for an identity: its condition, whether it holds, and on which facts. */
export interface Evaluation {
  /** What is asked, for people: `role committee`, `all of`. */
  readonly asks: string;
  readonly holds: boolean;
  /** What was found, where a fact was looked at. */
  readonly found?: string;
  readonly parts?: readonly Evaluation[];
}

/** Lays out for people how `verdictOf` decides: every part, also where one decides alone. */
export function evaluate(rule: AccessRule, question: Question, answers?: Answers): Evaluation {
  return { ...described(rule, question, answers), holds: verdictOf(rule, question, answers) === 'yes' };
}

function described(rule: AccessRule, question: Question, answers?: Answers): Omit<Evaluation, 'holds'> {
  const { who, parameters } = question;
  const parts = (rules: readonly AccessRule[]): Evaluation[] => rules.map((each) => evaluate(each, question, answers));
  if (rule === 'signed-in') return { asks: rule, found: who.guest ? 'a guest' : `user ${who.user}` };
  if (rule === 'token-allows') return describedToken(question);
  if (rule === 'invited') return { asks: rule, found: answers?.get(rule)?.found ?? 'not asked: the rest decides' };
  if (typeof rule === 'string') return { asks: rule };
  if (typeof rule === 'function')
    return {
      asks: `the function ${rule.name || '(without a name)'}`,
      found: answers?.get(rule)?.found ?? 'not asked: the rest decides',
    };
  if ('role' in rule)
    return {
      asks: `role ${shown(rule.role, parameters)}`,
      found: who.roles.length === 0 ? 'no roles' : `roles ${who.roles.join(', ')}`,
    };
  if ('claim' in rule) {
    const claim = claimOf(question, rule.claim);
    return {
      asks:
        'is' in rule
          ? `claim ${rule.claim} is ${shown(rule.is, parameters)}`
          : `claim ${rule.claim} holds ${shown(rule.holds, parameters)}`,
      found: claim === undefined ? 'no such claim' : JSON.stringify(claim),
    };
  }
  if ('user' in rule) return { asks: `user ${shown(rule.user, parameters)}`, found: `user ${who.user}` };
  if ('among' in rule) return { asks: `one of ${shown(rule.among, parameters)}`, found: `user ${who.user}` };
  if ('author' in rule) return describedAuthor(rule.author.withinMs, question);
  if ('any' in rule) return { asks: 'any of', parts: parts(rule.any) };
  if ('all' in rule) return { asks: 'all of', parts: parts(rule.all) };
  if ('not' in rule) return { asks: 'not', parts: parts([rule.not]) };
  if ('invited' in rule)
    return {
      asks: `invited as ${shown(rule.invited, parameters)}`,
      found: answers?.get(rule)?.found ?? 'not asked: the rest decides',
    };
  return { asks: `ask ${rule.ask}`, found: answers?.get(rule)?.found ?? 'not asked: the rest decides' };
}

/**
 * What is wrong with an access rule for a pattern with these parameters; `undefined` if nothing is. A value that stands
 * for no parameter would match by chance, and an empty list of conditions would let all users in.
 */
export function accessRuleFault(rule: AccessRule, parameters: readonly string[], act: Act): string | undefined {
  if ((rule === 'token-allows' || rule === 'invited') && isUserAct(act)) return `${rule} is for channels`;
  if (typeof rule === 'string' || typeof rule === 'function') return undefined;
  if ('not' in rule) return accessRuleFault(rule.not, parameters, act);
  if ('all' in rule || 'any' in rule) {
    const parts = 'all' in rule ? rule.all : rule.any;
    if (parts.length === 0) return 'a list of conditions has at least one';
    return parts.map((part) => accessRuleFault(part, parameters, act)).find((fault) => fault !== undefined);
  }
  if ('ask' in rule) return undefined;
  if ('invited' in rule && isUserAct(act)) return 'invited is for channels';
  if ('author' in rule)
    return isMessageAct(act) ? undefined : `author is for acts about a message: ${messageActs.join(', ')}`;
  const { claim: _, ...values } = { claim: '', ...rule };
  const unknown = Object.values<string>(values).find(
    (each) => each.startsWith(':') && !parameters.includes(each.slice(1)),
  );
  return unknown === undefined ? undefined : `the pattern has no parameter ${unknown}`;
}

/** Whether a rule, or a part of it, may look at the message that an act is about. */
export function looksAtMessage(rule: AccessRule): boolean {
  if (typeof rule === 'string') return rule === 'token-allows';
  if (typeof rule === 'function' || 'ask' in rule || 'author' in rule) return true;
  if ('not' in rule) return looksAtMessage(rule.not);
  const parts = 'all' in rule ? rule.all : 'any' in rule ? rule.any : [];
  return parts.some(looksAtMessage);
}

/** Whether a rule, or a part of it, is handed to the application. */
export function asksTheApplication(rule: AccessRule): boolean {
  if (typeof rule === 'string' || typeof rule === 'function') return false;
  if ('ask' in rule) return true;
  if ('not' in rule) return asksTheApplication(rule.not);
  const parts = 'all' in rule ? rule.all : 'any' in rule ? rule.any : [];
  return parts.some(asksTheApplication);
}

// ------------------------------------------------------------------------------------------------- details

/** What the token's own access rules say. They are evaluation as any others, with their own patterns' parameters. */
function verdictOfToken(question: Question): Verdict {
  const { channel, who, act } = question;
  if (channel === undefined || who.grants === undefined) return 'no';
  for (const { pattern, allow } of who.grants) {
    const parameters = matchPattern(pattern, channel);
    if (parameters !== undefined && verdictOf(accessRuleFor(allow, act), { ...question, parameters }) === 'yes')
      return 'yes';
  }
  return 'no';
}

function describedToken(question: Question): Omit<Evaluation, 'holds'> {
  const { channel, who, act } = question;
  const asks = "the token's own access rules";
  if (who.grants === undefined || channel === undefined) return { asks, found: 'the token brings none' };
  const parts = who.grants.flatMap(({ pattern, allow, only }) => {
    const parameters = matchPattern(pattern, channel);
    if (parameters === undefined) return [];
    const part = evaluate(accessRuleFor(allow, act), { ...question, parameters });
    const some = only === undefined ? '' : `, and only messages with ${JSON.stringify(only)}`;
    return [{ ...part, asks: `${pattern.text}: ${part.asks}${some}` }];
  });
  return parts.length === 0 ? { asks, found: 'none of them is for this channel' } : { asks, parts };
}

function isAuthor({ author }: Extract<AccessRule, { author: object }>, { who, message }: Question): boolean {
  if (message?.by?.user !== who.user) return false;
  return author.withinMs === undefined || message.ageMs <= author.withinMs;
}

function describedAuthor(withinMs: number | undefined, { message }: Question): Omit<Evaluation, 'holds'> {
  const asks = withinMs === undefined ? "the message's author" : `the message's author, within ${inWords(withinMs)}`;
  if (message === undefined) return { asks, found: 'no message' };
  const { by, ageMs } = message;
  return { asks, found: `by ${by === undefined ? 'an application' : by.user}, ${inWords(ageMs)} ago` };
}

/** A time for people: the largest unit that it has at least two of, or whole seconds. */
function inWords(ms: number): string {
  const unit = (
    [
      ['d', 86_400_000],
      ['h', 3_600_000],
      ['min', 60_000],
    ] as const
  ).find(([, each]) => ms >= 2 * each || ms === each);
  return unit === undefined ? `${Math.round(ms / 1000)} s` : `${Math.round((ms / unit[1]) * 10) / 10} ${unit[0]}`;
}

function claimHolds(rule: Extract<AccessRule, { claim: string }>, question: Question): boolean {
  const claim = claimOf(question, rule.claim);
  if ('is' in rule) return isSame(claim, meant(rule.is, question.parameters));
  const value = meant(rule.holds, question.parameters);
  return Array.isArray(claim) ? claim.some((each) => isSame(each, value)) : isSame(claim, value);
}

function claimOf({ who }: Question, name: string): Json | undefined {
  return Object.hasOwn(who.claims, name) ? who.claims[name] : undefined;
}

/** Claims may be numbers or flags; the configuration and channel names write them as text. */
function isSame(claim: Json | undefined, value: string): boolean {
  return (
    (typeof claim === 'string' || typeof claim === 'number' || typeof claim === 'boolean') && String(claim) === value
  );
}

function yesIf(holds: boolean): 'yes' | 'no' {
  return holds ? 'yes' : 'no';
}

export function meant(value: string, parameters: Parameters): string {
  // `accessRuleFault` has been asked before any rule is evaluation: the parameter is there.
  return value.startsWith(':') ? (parameters[value.slice(1)] as string) : value;
}

function shown(written: string, parameters: Parameters): string {
  const value = meant(written, parameters);
  return written === value ? value : `${value} (${written})`;
}
