import { type ChannelName, defined, type Json, type MessageFilter, type Problem, problem } from '@nine-bells/wire';
import {
  type AccessRule,
  type Act,
  type Allow,
  type ChannelAct,
  type Identity,
  isUserAct,
  type MessageFacts,
  type Parameters,
  type Question,
  type UserAct,
} from '../model/access.js';
import type { CallRule } from '../model/call.js';
import type { ActiveBan, Silence } from '../model/moderation.js';
import type { ReviewRule } from '../model/review.js';
import {
  type Answered,
  type Answers,
  accessRuleFor,
  type Evaluation,
  evaluate,
  isOpen,
  nextOpen,
  type OpenRule,
  type Verdict,
  verdictOf,
} from '../rules/accessRule.js';
import type { ChannelRules, RuleMatch } from '../rules/channelRule.js';
import { type ExampleUser, exampleUser } from '../rules/exampleUser.js';
import { grantedFilters } from '../rules/grants.js';
import type { ActiveBans } from './activeBans.js';
import { bannedProblem, silencedProblem } from './moderationProblems.js';
import type { Questions } from './questions.js';

/** A user and their address. */
export interface Visitor {
  readonly who: Identity;
  readonly address?: string | undefined;
}

/** An access question decided. */
export interface Ruling {
  /** Reason of a refusal, safe to show to the client; absent if the act is allowed. */
  readonly problem?: Problem;
  /** It rests on an answer that runs out then, in milliseconds since the epoch. */
  readonly untilMs?: number;
  /** Data of the member that the application wants to show. */
  readonly member?: Json;
  /** To enter and to read: only messages that all of these let through. */
  readonly filters?: readonly MessageFilter[];
}

/** An access question answered in full, for readers who may know the rules. */
export interface Explanation {
  readonly act: Act;
  /** For acts in a channel. */
  readonly channel?: ChannelName;
  /** For acts that concern a user. */
  readonly whom?: string;
  /** Name of the call. */
  readonly call?: string;
  readonly user: string;
  readonly allowed: boolean;
  /** The problem that a client would receive. */
  readonly problem?: Problem;
  /** The ban that overrides the rules. */
  readonly ban?: ActiveBan;
  /** The silence that forbids the user to write. */
  readonly silence?: Silence;
  /** The channel rule that holds. */
  readonly rule?: { readonly pattern: string; readonly parameters: Parameters };
  /** The other channel rules, and why they do not hold. */
  readonly others: readonly { readonly pattern: string; readonly why: string }[];
  /** Evaluation of the access rule. */
  readonly evaluation?: Evaluation;
  /** The application sees the message before it is published; `waits`: behind messages of the user that wait for a moderator. */
  readonly review?: { readonly withinMs: number; readonly otherwise: ReviewRule['otherwise']; readonly waits: boolean };
}

/** A question with the rule that answers it. */
interface Matter {
  readonly rule: AccessRule;
  readonly question: Question;
  /** Description of the rule for clients. */
  readonly place: string;
}

/** Acts that write something for other users or for the application. */
const writingActs: ReadonlySet<Act> = new Set([
  'publish',
  'revise',
  'react',
  'hail',
  'set',
  'invite',
  'mention',
  'call',
  'direct',
  'notify',
]);

/** Shared by all that is allowed by rules alone. */
const allowed: Ruling = {};

/** The one place where access is decided, for clients and for explanations. */
export class Access {
  /** Counts of decisions by the rules since the start, by act. */
  readonly decisions = new Map<Act, { allowed: number; refused: number }>();
  readonly #rules: ChannelRules;
  readonly #users: Allow;
  readonly #bans: ActiveBans;
  readonly #questions: Questions;

  /** @param users - the access rules of acts that concern a user */
  constructor(rules: ChannelRules, users: Allow, bans: ActiveBans, questions: Questions) {
    this.#rules = rules;
    this.#users = users;
    this.#bans = bans;
    this.#questions = questions;
  }

  /**
   * Decides an act in a channel. A promise only if the application or a function must be asked.
   *
   * @param message - which an act is about, if it is about one
   */
  decide(act: ChannelAct, match: RuleMatch, visitor: Visitor, message?: MessageFacts): Ruling | Promise<Ruling> {
    if (visitor.who.observer) return lookOnly(act);
    const ban = this.ban(visitor, match.channel);
    if (ban !== undefined) return { problem: bannedProblem(ban) };
    const silence = this.silence(act, visitor, match.channel);
    if (silence !== undefined) return { problem: silencedProblem(silence) };
    const ruling = this.#counted(act, this.#settle(matterOf(act, match, visitor.who, message), visitor));
    if (visitor.who.grants === undefined || (act !== 'enter' && act !== 'read')) return ruling;
    const filters = grantedFilters(visitor.who.grants, match.channel);
    if (filters === undefined) return ruling;
    return ruling instanceof Promise ? ruling.then((later) => ({ ...later, filters })) : { ...ruling, filters };
  }

  #counted(act: Act, ruling: Ruling | Promise<Ruling>): Ruling | Promise<Ruling> {
    if (ruling instanceof Promise) return ruling.then((later) => this.#counted(act, later));
    let decided = this.decisions.get(act);
    if (decided === undefined) {
      decided = { allowed: 0, refused: 0 };
      this.decisions.set(act, decided);
    }
    if (ruling.problem === undefined) decided.allowed += 1;
    else decided.refused += 1;
    return ruling;
  }

  /** Decides an act that concerns a user. */
  decideAbout(act: UserAct, whom: string, visitor: Visitor): Ruling | Promise<Ruling> {
    if (visitor.who.observer) return lookOnly(act);
    const ban = this.ban(visitor);
    if (ban !== undefined) return { problem: bannedProblem(ban) };
    return this.#counted(act, this.#settle(matterAbout(act, whom, visitor.who, this.#users), visitor));
  }

  /** Decides a call. */
  decideCall(
    { name, allow }: Pick<CallRule, 'name' | 'allow'>,
    about: CallPlace,
    visitor: Visitor,
  ): Ruling | Promise<Ruling> {
    if (visitor.who.observer) return lookOnly('call');
    const ban = this.ban(visitor, about.channel);
    if (ban !== undefined) return { problem: bannedProblem(ban) };
    const silence = this.silence('call', visitor, about.channel);
    if (silence !== undefined) return { problem: silencedProblem(silence) };
    return this.#counted('call', this.#settle(matterOfCall(name, allow, about, visitor.who), visitor));
  }

  /** Returns the ban that keeps a visitor out of a channel, or of the service. */
  ban({ who, address }: Visitor, channel?: ChannelName): ActiveBan | undefined {
    if (who.observer) return undefined;
    return this.#bans.bans(who.user, channel) ?? this.#bans.banOfAddress(address, channel);
  }

  /** Returns the silence that forbids a visitor to write. */
  silence(act: Act, { who }: Visitor, channel?: ChannelName): Silence | undefined {
    return writingActs.has(act) ? this.#bans.silenceOf(who.user, channel) : undefined;
  }

  /** Explains the deciding rule and its facts, with the same functions that decide for clients. */
  async explain(
    act: Exclude<Act, 'call'>,
    where: string,
    visitor: Visitor,
    { entry, message }: ActOf = {},
  ): Promise<Explanation> {
    const { who } = visitor;
    if (isUserAct(act))
      return this.#explained(
        { act, whom: where, user: who.user, others: [] },
        matterAbout(act, where, who, this.#users),
        visitor,
      );
    const channel = where as ChannelName;
    const found = this.#rules.match(channel);
    const match = found && (entry === undefined ? found : withEntry(found, entry));
    const about = { act, channel, user: who.user, others: this.#rules.passedOver(channel) };
    if (match === undefined)
      return { ...about, allowed: false, problem: problem('no-such-channel', `no channel rule matches ${channel}`) };
    const rule = { pattern: match.rule.pattern, parameters: match.parameters };
    return this.#explained({ ...about, rule }, matterOf(act, match, who, message), visitor);
  }

  /** As `explain`, for a call. */
  explainCall({ name, allow }: CallRule, about: CallPlace, visitor: Visitor): Promise<Explanation> {
    const { who } = visitor;
    const found = {
      act: 'call',
      call: name,
      user: who.user,
      others: [],
      ...defined({ channel: about.channel }),
    } as const;
    return this.#explained(found, matterOfCall(name, allow, about, who), visitor);
  }

  /** A user to be made up who may do something in a channel, or why none can be. */
  exampleUser(act: ChannelAct, channel: ChannelName): ExampleUser | { readonly why: string } {
    const match = this.#rules.match(channel);
    if (match === undefined) return { why: `no channel rule matches ${channel}` };
    const { parameters } = match;
    return exampleUser(accessRuleFor(match.rule.allow, act), { act, channel, parameters });
  }

  async #explained(about: Omit<Explanation, 'allowed'>, matter: Matter, visitor: Visitor): Promise<Explanation> {
    const told = ({ problem: refused }: Ruling) => ({
      ...about,
      allowed: refused === undefined,
      ...defined({ problem: refused }),
    });
    if (visitor.who.observer) {
      const looked = told(lookOnly(about.act));
      const asks = 'an observer may look, and no more';
      return { ...looked, evaluation: { asks, holds: looked.allowed, found: 'an observer' } };
    }
    const ban = this.ban(visitor, about.channel);
    if (ban !== undefined)
      return { ...told({ problem: bannedProblem(ban) }), ban, evaluation: evaluate(matter.rule, matter.question) };
    const silence = this.silence(about.act, visitor, about.channel);
    if (silence !== undefined)
      return {
        ...told({ problem: silencedProblem(silence) }),
        silence,
        evaluation: evaluate(matter.rule, matter.question),
      };
    const answers = await this.#gather(matter, visitor);
    return { ...told(combined(matter, answers)), evaluation: evaluate(matter.rule, matter.question, answers) };
  }

  #settle(matter: Matter, visitor: Visitor): Ruling | Promise<Ruling> {
    const verdict = verdictOf(matter.rule, matter.question);
    if (verdict === 'yes') return allowed;
    if (verdict === 'no') return { problem: refusalOf(matter) };
    const { rule, question } = matter;
    if (isOpen(rule)) {
      // The most frequent case by far: there is nothing to combine.
      const answer = this.#questions.answer(rule, question, visitor.address);
      return answer instanceof Promise
        ? answer.then((only) => concluded(matter, only.verdict, [only]))
        : concluded(matter, answer.verdict, [answer]);
    }
    const answers = this.#gather(matter, visitor);
    return answers instanceof Promise ? answers.then((all) => combined(matter, all)) : combined(matter, answers);
  }

  /** Asks what must be asked, one after another, until the rule can be decided. */
  #gather(
    matter: Matter,
    visitor: Visitor,
    answers = new Map<OpenRule, Answered>(),
  ): Map<OpenRule, Answered> | Promise<Map<OpenRule, Answered>> {
    for (;;) {
      const open = nextOpen(matter.rule, matter.question, answers);
      if (open === undefined) return answers;
      const answer = this.#questions.answer(open, matter.question, visitor.address);
      if (answer instanceof Promise)
        return answer.then((answered) => this.#gather(matter, visitor, answers.set(open, answered)));
      answers.set(open, answer);
    }
  }
}

/** Object of an act, beside the channel. */
export interface ActOf {
  /** For `set`: the entry of the board. */
  readonly entry?: string;
  /** For acts about a message. */
  readonly message?: MessageFacts;
}

/** The rule of a channel for setting an entry of its board: whose it may be, its name says. */
export function withEntry(match: RuleMatch, entry: string): RuleMatch {
  return { ...match, parameters: { ...match.parameters, entry } };
}

function combined(matter: Matter, answers: Answers): Ruling {
  return concluded(matter, verdictOf(matter.rule, matter.question, answers), [...answers.values()]);
}

/** What is told, given the verdict and all answers that it rests on. Hot where answers are remembered. */
function concluded(matter: Matter, verdict: Verdict, answers: readonly Answered[]): Ruling {
  if (verdict === 'yes') {
    const untilMs = minOf(answers, 'untilMs');
    const member = saidWith(answers, 'yes', 'member');
    if (untilMs === undefined && member === undefined) return allowed;
    return { ...defined({ untilMs, member }) };
  }
  if (verdict === 'failed') {
    const retryAfterMs = minOf(answers, 'retryAfterMs');
    const what = `${doing[matter.question.act]} ${matter.place}`;
    const detail = `whether you may ${what} is decided by the application, which gave no answer`;
    return { problem: problem('ask-failed', detail, retryAfterMs === undefined ? {} : { retryAfterMs }) };
  }
  const reason = saidWith(answers, 'no', 'reason');
  return { problem: reason === undefined ? refusalOf(matter) : problem('not-allowed', reason) };
}

function minOf(answers: readonly Answered[], name: 'untilMs' | 'retryAfterMs'): number | undefined {
  let least: number | undefined;
  for (const each of answers) {
    const value = each[name];
    if (value !== undefined && (least === undefined || value < least)) least = value;
  }
  return least;
}

/** Returns details of the first answer of a kind. */
function saidWith<N extends 'member' | 'reason'>(
  answers: readonly Answered[],
  verdict: Answered['verdict'],
  name: N,
): Answered[N] | undefined {
  for (const each of answers) if (each.verdict === verdict && each[name] !== undefined) return each[name];
  return undefined;
}

function matterOf(
  act: ChannelAct,
  { rule, channel, parameters }: RuleMatch,
  who: Identity,
  message: MessageFacts | undefined,
): Matter {
  return {
    rule: accessRuleFor(rule.allow, act),
    question: message === undefined ? { act, channel, parameters, who } : { act, channel, parameters, who, message },
    place: rule.pattern,
  };
}

function matterAbout(act: UserAct, whom: string, who: Identity, users: Allow): Matter {
  return { rule: accessRuleFor(users, act), question: { act, whom, parameters: { user: whom }, who }, place: whom };
}

/** Object of a call. */
export interface CallPlace {
  readonly channel?: ChannelName | undefined;
  readonly parameters: Parameters;
}

function matterOfCall(call: string, rule: AccessRule, { channel, parameters }: CallPlace, who: Identity): Matter {
  return { rule, question: { act: 'call', call, parameters, who, ...defined({ channel }) }, place: call };
}

/** Each act as it stands before the channels, or the user, that it is done to. */
const doing: Readonly<Record<Act, string>> = {
  enter: 'enter channels of the rule',
  read: 'read in channels of the rule',
  publish: 'publish in channels of the rule',
  revise: 'revise this message in channels of the rule',
  withdraw: 'withdraw this message in channels of the rule',
  react: 'react to this message in channels of the rule',
  revisions: 'read how this message was before in channels of the rule',
  hail: 'hail in channels of the rule',
  set: 'set entries in channels of the rule',
  invite: 'invite users into channels of the rule',
  mention: 'mention roles in channels of the rule',
  moderate: 'moderate channels of the rule',
  direct: 'start a direct channel with',
  watch: 'watch the status of',
  notify: 'notify',
  call: 'call',
};

/** Says which rule refused, and only as much of it as every client may know. */
function refusalOf({ rule, question: { act, who }, place }: Matter): Problem {
  const what = `${doing[act]} ${place}`;
  if (rule === 'nobody')
    return problem(
      'not-allowed',
      act === 'publish'
        ? `no client may ${what}; applications publish over HTTP with an API key`
        : `nobody may ${what}`,
    );
  if (rule === 'signed-in') return problem('not-allowed', `only signed-in users may ${what}, and this is a guest`);
  return problem('not-allowed', mayNot(who, what));
}

function mayNot(who: Identity, what: string): string {
  return `${who.guest ? 'this guest' : `user ${who.user}`} may not ${what}`;
}

/** The answer to a user who may not begin a direct channel with another: the same whether a rule or a block refuses. */
export function mayNotBegin(who: Identity, other: string): Problem {
  return problem('not-allowed', mayNot(who, `${doing.direct} ${other}`));
}

function lookOnly(act: Act): Ruling {
  const looks = act === 'enter' || act === 'read' || act === 'watch';
  return looks ? allowed : { problem: problem('not-allowed', `an observer may look, but not ${act}`) };
}
