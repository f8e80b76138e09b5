import {
  type Accepted,
  type ChannelName,
  defined,
  type Invitation,
  type InvitationsReply,
  type Invited,
  refusal,
  type Uninvited,
} from '@nine-bells/wire';
import type { Inboxes } from '../inbox/inboxes.js';
import { BoundedMap } from '../lib/boundedMap.js';
import type { Identity } from '../model/access.js';
import {
  type Admission,
  type InvitationWish,
  invitationShown,
  type KeptInvitation,
  letsIn,
  type whyOver,
} from '../model/invitation.js';
import type { Actor } from '../model/moderation.js';
import type { Clock } from '../ports/clock.js';
import type { Hmac } from '../ports/hmac.js';
import type { Ids } from '../ports/ids.js';
import { type Relay, usersTopic } from '../ports/relay.js';
import type { Report } from '../ports/report.js';
import type { InvitationStore } from '../ports/stores.js';
import type { ChannelRules } from '../rules/channelRule.js';

const dayMs = 86_400_000;
/** Default lifetime of an invitation, in milliseconds. */
const defaultForMs = 7 * dayMs;
/** Lifetime of a guest's admission, in milliseconds: guest ids end with their sessions. */
const guestMs = dayMs;
/** Open invitations of one channel. */
const maxOpen = 1_000;
/** Channels into which one user is let. */
const maxAdmissions = 1_000;
/** Lifetime of cached admissions, in milliseconds, and maximum number of users in the cache. */
const rememberMs = 30_000;
const maxRemembered = 50_000;
/** Users of one word to the other instances. */
const usersAtOnce = 500;
/** Letters of a code that stand together. */
const groupLetters = 6;

export interface InvitationsHost {
  readonly clock: Clock;
  readonly ids: Ids;
  readonly hmac: Hmac;
  readonly relay: Relay;
  readonly report: Report;
  readonly rules: ChannelRules;
  readonly store: InvitationStore;
  readonly inboxes: Pick<Inboxes, 'notify'>;
  /** Decides access again for connected users whose rights have changed. */
  readonly changed: (users: readonly string[]) => void;
}

/** Invitations into channels, and the users admitted by them. */
export class Invitations {
  readonly #host: InvitationsHost;
  /** Cached admissions by user. */
  readonly #known = new BoundedMap<string, { readonly admissions: readonly Admission[]; readonly untilMs: number }>(
    maxRemembered,
  );
  readonly #reading = new Map<string, { done: Promise<readonly Admission[]>; stale: boolean }>();

  constructor(host: InvitationsHost) {
    this.#host = host;
  }

  /**
   * Creates an invitation. A user who is invited by id is notified, unless they have blocked the inviter.
   *
   * @throws {ProblemError} `no-such-channel`, `too-many-invitations`, `unavailable`
   */
  async invite({ channel, user, role, uses = 1, forMs = defaultForMs }: InvitationWish, by: Actor): Promise<Invited> {
    const { clock, ids, store, rules, inboxes } = this.#host;
    rules.require(channel);
    const atMs = clock.now();
    const id = ids.moderation();
    const code = `${ids.moderation()}${ids.moderation()}`;
    const draft = { id, channel, uses, atMs, untilMs: atMs + forMs, by, ...defined({ user, role }) };
    await store.invite({ ...draft, digest: this.#digestOf(code) }, maxOpen);
    const invited = { invitation: this.#shown({ ...draft, used: 0 }), code: grouped(code) };
    if (user !== undefined)
      await inboxes.notify({
        isOwn: true,
        users: [user],
        title: `${by.kind === 'user' ? (by.name ?? by.id) : 'You are'} ${by.kind === 'user' ? 'invites you' : 'invited'} to ${channel}`,
        data: { channel, invitation: id, code: invited.code },
        key: `invitation ${id}`,
        forMs,
        ...(by.kind === 'user' && { from: by.id }),
      });
    return invited;
  }

  /**
   * Admits a user by invitation code; in effect when this resolves. Idempotent.
   *
   * @throws {ProblemError} `no-such-invitation`, `invitation-over`, `too-many-invitations`, `unavailable`
   */
  async accept(code: string, { user, guest }: Pick<Identity, 'user' | 'guest'>): Promise<Accepted> {
    const { clock, store } = this.#host;
    const atMs = clock.now();
    const digest = this.#digestOf(code);
    const untilMs = guest ? atMs + guestMs : undefined;
    const found = await store.accept({ digest, user, atMs, most: maxAdmissions, ...defined({ untilMs }) });
    if (found === undefined) throw refusal('no-such-invitation', 'no invitation has this code', { where: '/code' });
    if ('over' in found)
      throw found.over === 'too-many'
        ? refusal('too-many-invitations', `you have accepted ${maxAdmissions}, which is the most`, { where: '/code' })
        : refusal('invitation-over', reasons[found.over], { where: '/code' });
    const { channel, role, untilMs: until } = found;
    this.#tell([user]);
    return { channel, ...defined({ role }), ...(until === undefined ? {} : { until: new Date(until).toISOString() }) };
  }

  /**
   * Lists the invitations into a channel, latest first.
   *
   * @param after - id of the last invitation of the page before
   * @throws {ProblemError} `no-such-channel`, `unavailable`
   */
  async list(channel: ChannelName, limit: number, after?: string): Promise<InvitationsReply> {
    this.#host.rules.require(channel);
    const found = await this.#host.store.invitations(channel, limit + 1, after);
    const page = found.slice(0, limit);
    const next = found.length > limit ? page.at(-1)?.id : undefined;
    return { invitations: page.map((each) => this.#shown(each)), ...defined({ next }) };
  }

  /** One, by its id. @throws {ProblemError} `unavailable` */
  byId(id: string): Promise<KeptInvitation | undefined> {
    return this.#host.store.invitation(id);
  }

  /**
   * Ends an invitation. Idempotent.
   *
   * @param admitted - those who have accepted it are no longer let in
   * @throws {ProblemError} `no-such-invitation`, `unavailable`
   */
  async end(id: string, admitted: boolean, by: Actor): Promise<Uninvited> {
    const { store, clock } = this.#host;
    const ended = await store.endInvitation(id, admitted, { by, atMs: clock.now() });
    if (ended === undefined) throw noSuch();
    this.#tell(ended.users);
    return { invitation: this.#shown(ended.invitation), ended: ended.users.length };
  }

  /** Lists the users admitted to a channel, by user id. @throws {ProblemError} `no-such-channel`, `unavailable` */
  admissionsIn(channel: ChannelName, limit: number, after: string): Promise<readonly Admission[]> {
    this.#host.rules.require(channel);
    return this.#host.store.admissionsIn(channel, limit, after);
  }

  /** A user is no longer let into a channel. Gives whether it was. @throws {ProblemError} `no-such-channel`, `unavailable` */
  async endAdmission(channel: ChannelName, user: string, by: Actor): Promise<boolean> {
    const { rules, store, clock } = this.#host;
    rules.require(channel);
    const ended = await store.endAdmission(channel, user, { by, atMs: clock.now() });
    if (ended) this.#tell([user]);
    return ended;
  }

  /** Returns a user's admission to a channel, or a promise if it must be read. @throws {Error} if it cannot be read */
  admission(user: string, channel: ChannelName): Admission | undefined | Promise<Admission | undefined> {
    const now = this.#host.clock.now();
    const of = (all: readonly Admission[]): Admission | undefined =>
      all.find((each) => each.channel === channel && letsIn(each, now));
    const known = this.#known.get(user);
    return known !== undefined && known.untilMs > now ? of(known.admissions) : this.#read(user).then(of);
  }

  /** Drops cached admissions of users, after a change on any instance. */
  hear(users: readonly string[]): void {
    for (const user of users) {
      this.#known.delete(user);
      const reading = this.#reading.get(user);
      if (reading !== undefined) reading.stale = true;
    }
    this.#host.changed(users);
  }

  /** Changes may not have been heard. */
  lookAgain(): void {
    const users = [...this.#known.keys()];
    this.#known.clear();
    for (const reading of this.#reading.values()) reading.stale = true;
    this.#host.changed(users);
  }

  #read(user: string): Promise<readonly Admission[]> {
    const reading = this.#reading.get(user);
    // One that began before a change may not know of it.
    if (reading !== undefined && !reading.stale) return reading.done;
    const mine = { stale: false, done: this.#host.store.admissions(user) };
    this.#reading.set(user, mine);
    const over = (): void => {
      if (this.#reading.get(user) === mine) this.#reading.delete(user);
    };
    mine.done.then((admissions) => {
      over();
      if (!mine.stale) this.#known.set(user, { admissions, untilMs: this.#host.clock.now() + rememberMs });
    }, over);
    return mine.done;
  }

  #tell(users: readonly string[]): void {
    for (let from = 0; from < users.length; from += usersAtOnce) {
      const some = users.slice(from, from + usersAtOnce);
      // Here it holds at once.
      this.hear(some);
      this.#host.relay.publish(usersTopic, { type: 'admissions', users: some });
    }
  }

  #shown(kept: KeptInvitation): Invitation {
    return invitationShown(kept, this.#host.clock.now());
  }

  /** People type codes: case and separators are ignored. */
  #digestOf(code: string): string {
    return this.#host.hmac.digest(`invitation ${code.toLowerCase().replaceAll(/[^a-z0-9_]/g, '')}`);
  }
}

const reasons: Readonly<Record<NonNullable<ReturnType<typeof whyOver>>, string>> = {
  revoked: 'it was revoked',
  expired: 'its time is over',
  'used-up': 'as many users as it is for have accepted it',
  another: 'it is for another user',
};

export function noSuch(): Error {
  return refusal('no-such-invitation', 'the channel has no invitation with this id', { where: '/invitation' });
}

function grouped(code: string): string {
  return (code.match(new RegExp(`.{1,${groupLetters}}`, 'g')) ?? []).join('-');
}
