import type { Access } from '../access/access.js';
import type { AccessRule, Identity } from '../model/access.js';
import type { KnownUser } from '../model/notice.js';
import type { Store } from '../ports/stores.js';
import { accessRuleFor } from '../rules/accessRule.js';
import type { RuleMatch } from '../rules/channelRule.js';

/** What is known of a user. */
type Known = Pick<KnownUser, 'id' | 'roles'>;

export interface EntrantsHost {
  readonly access: Pick<Access, 'explain'>;
  readonly store: Pick<Store, 'users' | 'marks'>;
  /** Who a user is by the tokens of its sessions here. */
  readonly identitiesOf: (user: string) => readonly Identity[];
  /** Users who came a moment ago, and may not be written down yet: to this instance, and to any. */
  readonly justMet: (user: string) => KnownUser | undefined;
  readonly connected: (users: readonly string[]) => Promise<Iterable<string>>;
}

/**
 * Finds out which users may enter a channel, whether they are connected or not. Who is connected here is known by its token.
 * Of others, name and roles are known; where a rule looks at more of a token, a read mark says that the user has been there.
 */
export class Entrants {
  readonly #host: EntrantsHost;

  constructor(host: EntrantsHost) {
    this.#host = host;
  }

  /**
   * Those of some users who may enter.
   *
   * @param areThere - the application says that there are such users, also where the service has never met them
   * @throws {ProblemError} `unavailable`
   */
  async of(match: RuleMatch, users: readonly string[], areThere = false): Promise<readonly string[]> {
    const absent = users.filter((user) => this.#host.identitiesOf(user).length === 0);
    const known = absent.length === 0 ? new Map<string, Known>() : await this.#known(absent, areThere);
    const entrants: string[] = [];
    for (const user of users) {
      const here = this.#host.identitiesOf(user);
      const met = known.get(user);
      if (here.length > 0 ? await this.#mayAny(match, here) : met !== undefined && (await this.#mayKnown(match, met)))
        entrants.push(user);
    }
    return entrants;
  }

  /** What is known of users who are not connected here. */
  async #known(users: readonly string[], areThere: boolean): Promise<ReadonlyMap<string, Known>> {
    const { store, justMet, connected } = this.#host;
    const known = new Map<string, Known>((await store.users.knownUsers(users)).map((each) => [each.id, each]));
    for (const user of users) known.set(user, justMet(user) ?? (known.get(user) as Known));
    const unknown = users.filter((user) => known.get(user) === undefined);
    for (const user of unknown) known.delete(user);
    // Who has come to another instance is written down a moment later: until then its roles are not known here.
    const there = areThere || unknown.length === 0 ? unknown : await connected(unknown);
    for (const id of there) known.set(id, { id, roles: [] });
    return known;
  }

  async #mayAny(match: RuleMatch, identities: readonly Identity[]): Promise<boolean> {
    for (const who of identities) if (await this.#may(match, who)) return true;
    return false;
  }

  async #mayKnown(match: RuleMatch, { id: user, roles }: Known): Promise<boolean> {
    if (await this.#may(match, { user, guest: false, roles, claims: {} })) return true;
    if (!looksAtToken(accessRuleFor(match.rule.allow, 'enter'))) return false;
    const isOut = await this.#isOut(match, user);
    if (isOut) return false;
    const [mark] = await this.#host.store.marks.unread(user, [match.channel]);
    return mark?.place !== undefined;
  }

  async #may({ channel }: RuleMatch, who: Identity): Promise<boolean> {
    return (await this.#host.access.explain('enter', channel, { who })).allowed;
  }

  async #isOut({ channel }: RuleMatch, user: string): Promise<boolean> {
    const who: Identity = { user, guest: false, roles: [], claims: {} };
    return (await this.#host.access.explain('enter', channel, { who })).ban !== undefined;
  }
}

/** Whether a rule looks at what only a user's token says, beside its roles. */
function looksAtToken(rule: AccessRule): boolean {
  if (typeof rule === 'function') return true;
  if (typeof rule === 'string') return rule === 'token-allows';
  if ('all' in rule) return rule.all.some(looksAtToken);
  if ('any' in rule) return rule.any.some(looksAtToken);
  if ('not' in rule) return looksAtToken(rule.not);
  return 'claim' in rule;
}
