import { type DataFault, defined, type Json, type Problem, ProblemError, problem } from '@nine-bells/wire';
import { type Contract, type ContractsByType, maxDataFaults, type Source } from '../model/contract.js';
import type { Counters } from '../model/counters.js';
import type { Refused } from '../model/refusal.js';
import type { ChannelRule, RuleMatch } from '../rules/channelRule.js';

export interface ContractsHost {
  readonly counters: Counters;
  /** Called with what would have been refused, where a rule only reports. */
  readonly wouldRefuse: (refused: Refused) => void;
}

/** Who publishes something, for what is reported. */
export interface Sender {
  readonly from: Source;
  readonly user?: string | undefined;
  readonly session?: string | undefined;
}

/** Data on its way in. */
export interface Checked {
  readonly data: Json;
  /** Its size as JSON text: of large data only the first fault is looked for. */
  readonly chars: number;
  /** A JSON Pointer to it in the request. */
  readonly where: string;
}

/** Data of more characters than this is not searched for all that is wrong with it. */
const maxSearchedChars = 32_768;
/** Longest text of a fault, in characters. */
const maxFaultChars = 200;

/** Holds what is published against the contracts of its channel rule, before it takes a place. */
export class Contracts {
  readonly #host: ContractsHost;

  constructor(host: ContractsHost) {
    this.#host = host;
  }

  /** @throws {ProblemError} `no-such-type`, `not-allowed`, `bad-data` */
  checkMessage(match: RuleMatch, type: string, checked: Checked, sender: Sender): void {
    const { types } = match.rule;
    if (types !== undefined)
      this.#refuse(typeProblem(match.rule, types, type, checked, sender), match, 'publish', sender);
  }

  /** @throws {ProblemError} `no-such-type`, `not-allowed`, `bad-data` */
  checkHail(match: RuleMatch, type: string, checked: Checked, sender: Sender): void {
    const { hails } = match.rule;
    if (hails !== undefined) this.#refuse(typeProblem(match.rule, hails, type, checked, sender), match, 'hail', sender);
  }

  /** @throws {ProblemError} `not-allowed`, `bad-data` */
  checkEntry(match: RuleMatch, checked: Checked, sender: Sender): void {
    const contract = match.rule.board?.contract;
    if (contract === undefined) return;
    const found = sourceProblem(contract, 'entries', sender, checked.where) ?? dataProblem(contract, checked);
    this.#refuse(found, match, 'set', sender);
  }

  /** @throws {ProblemError} `bad-data` */
  checkStatus(match: RuleMatch, checked: Checked, sender: Sender): void {
    const { status } = match.rule;
    if (status !== undefined) this.#refuse(dataProblem(status, checked), match, 'status', sender);
  }

  /** Whether members of a channel may be shown with a status. */
  statusFits({ rule }: RuleMatch, status: Json): boolean {
    return rule.reportOnly === true || rule.status?.fits?.(status) !== false;
  }

  /** @throws {ProblemError} `bad-data` */
  checkNotice(contract: Contract, checked: Checked): void {
    const found = dataProblem(contract, checked);
    if (found !== undefined) throw new ProblemError(found);
  }

  #refuse(found: Problem | undefined, { rule, channel }: RuleMatch, act: string, { user, session }: Sender): void {
    if (found === undefined) return;
    this.#host.counters.misfit(rule.pattern, rule.reportOnly ? 'reported' : 'refused');
    if (!rule.reportOnly) throw new ProblemError(found);
    const { code, detail } = found;
    this.#host.wouldRefuse({ code, act, detail, channel, user, session, reportOnly: true });
  }
}

function typeProblem(
  rule: ChannelRule,
  types: ContractsByType,
  type: string,
  checked: Checked,
  sender: Sender,
): Problem | undefined {
  const contract = Object.hasOwn(types, type) ? types[type] : undefined;
  if (contract !== undefined)
    return sourceProblem(contract, `messages of the type ${type}`, sender, '/type') ?? dataProblem(contract, checked);
  if (rule.open) return undefined;
  const known = Object.keys(types);
  const list = known.length === 0 ? 'none' : known.slice(0, maxDataFaults).join(', ');
  return problem('no-such-type', `there is no type ${type} in channels of ${rule.pattern}; there are ${list}`, {
    where: '/type',
  });
}

function sourceProblem({ from }: Contract, what: string, sender: Sender, where: string): Problem | undefined {
  if (from === undefined || from === sender.from) return undefined;
  return problem('not-allowed', `${what} come from ${from} here`, { where });
}

function dataProblem({ fits, faults }: Contract, { data, chars, where }: Checked): Problem | undefined {
  if (fits === undefined || fits(data)) return undefined;
  const isSearched = chars <= maxSearchedChars;
  const found = (faults?.(data, isSearched) ?? []).map((each) => shortened(each, where));
  const shown = found.slice(0, maxDataFaults);
  const [first = { where, expected: 'what its contract says' }] = shown;
  const others = found.length - 1;
  const more = !isSearched ? '; it is too large to look for more' : others > 0 ? `; and ${others} more` : '';
  return {
    ...problem('bad-data', `${first.where}: expected ${textOf(first)}${more}`, { where: first.where }),
    faults: shown.length === 0 ? [first] : shown,
  };
}

function textOf({ expected, found }: DataFault): string {
  return found === undefined ? expected : `${expected}, found ${found}`;
}

/** Names of members are the publisher's own, and may be long. */
function shortened({ where, expected, found }: DataFault, at: string): DataFault {
  const cut = (text: string): string => (text.length <= maxFaultChars ? text : `${text.slice(0, maxFaultChars)}...`);
  return { where: cut(at + where), expected: cut(expected), ...defined({ found: found && cut(found) }) };
}
