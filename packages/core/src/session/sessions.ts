import type { ChannelName, Ending, Json } from '@nine-bells/wire';
import { isSameText } from '../lib/text.js';
import type { Identity } from '../model/access.js';
import type { Continuation } from '../model/control.js';
import type { Clock } from '../ports/clock.js';
import type { Hmac } from '../ports/hmac.js';
import type { Ids } from '../ports/ids.js';
import { GuestNames } from './guestNames.js';
import type { SessionBuckets } from './rates.js';
import { makeSecret, readSecret } from './sessionSecret.js';

/** A session's connection, as far as the session is concerned. */
export interface SessionConnection {
  /** The session is continued on another connection: this one ends. */
  continuedElsewhere(): void;
}

/** The life of one client, across its connections. */
export interface Session {
  readonly id: string;
  readonly user: string;
  /** Raised by each hello: what an older connection still says is refused. */
  generation: number;
  /** The newest generation whose secret the client has shown to have received. */
  proven: number;
  /** The secret of the present generation, if it was given here. */
  secret: string | undefined;
  /** The connection that it has at present, if it has one. */
  connection: SessionConnection | undefined;
  /** How its last connection ended. */
  ended: Ending | undefined;
  endedAtMs: number | undefined;
  /** A guest's name, as long as the session is remembered. */
  readonly guestName: string | undefined;
  /** Who it was at its last hello, and the digest of the token that said so: the same token need not be checked again. */
  who: Identity | undefined;
  tokenDigest: string | undefined;
  buckets: SessionBuckets | undefined;
  /** What it says of itself, in channels that it enters without saying something else. */
  status: Json | undefined;
  /** The channel that it has in view. */
  looking: ChannelName | undefined;
  /** Channels where it is still shown, though its connection broke. Kept by name, so that an empty channel can be closed. */
  lingers: Set<ChannelName> | undefined;
  /** It continues on another instance: the next instance that has it tells the others. */
  isElsewhere: boolean;
  /** The others are being told that it goes on here. */
  isBeingSaid: boolean;
}

/** Who the client is, if it is this session, under a name that the service gives. */
export type WhoIs = (session: string, guestName?: string) => Identity;

/** Most sessions without a connection that are remembered; beyond it the one that lost it first is forgotten. */
const maxGone = 100_000;

/** A session that a hello has begun or continued. */
export interface Admission {
  readonly session: Session;
  readonly who: Identity;
  readonly secret: string;
  readonly continued: boolean;
  /** How its connection before this one ended. */
  readonly ended: Ending | undefined;
}

/** The sessions that this instance knows: those with a connection, and for a time those without. */
export class Sessions {
  readonly #clock: Clock;
  readonly #ids: Ids;
  readonly #hmac: Hmac;
  readonly #memoryMs: number;
  readonly #sessions = new Map<string, Session>();
  /** Those without a connection, in the order in which they lost it. */
  readonly #gone = new Set<Session>();
  readonly #names = new GuestNames();
  readonly #cameFromElsewhere: (session: Session) => void;

  /** @param cameFromElsewhere - told of sessions that were on another instance, as far as is known here */
  constructor(
    clock: Clock,
    ids: Ids,
    hmac: Hmac,
    memoryMs: number,
    cameFromElsewhere: (session: Session) => void = () => {},
  ) {
    this.#cameFromElsewhere = cameFromElsewhere;
    this.#clock = clock;
    this.#ids = ids;
    this.#hmac = hmac;
    this.#memoryMs = memoryMs;
  }

  get size(): number {
    return this.#sessions.size;
  }

  /**
   * Continues the session that `id` and `secret` name, if the secret is genuine, of this user, and not older than one
   * that the client has already used; else begins a new one.
   *
   * A client whose hello was answered but never got the answer comes back with the secret before: that is why not only
   * the newest secret is good.
   *
   * @param whoIs - who the client is, if it is this session: a guest is named after its session
   */
  admit(whoIs: WhoIs, id: string | undefined, secret: string | undefined): Admission {
    if (id === undefined || secret === undefined) return this.#begin(whoIs);
    const who = whoIs(id);
    const known = this.#sessions.get(id);
    const isLatest = known?.user === who.user && isSameText(known.secret, secret);
    const shown = isLatest ? (known as Session).generation : readSecret(this.#hmac, secret, id, who.user);
    const ended = known?.connection === undefined ? known?.ended : 'continued-elsewhere';
    if (
      shown === undefined ||
      (known !== undefined && (shown < known.proven || ended === 'left' || ended === 'signed-out'))
    )
      return this.#begin(whoIs);

    const session = known ?? this.#add(id, who, shown);
    this.#gone.delete(session);
    session.proven = shown;
    session.generation = Math.max(session.generation, shown) + 1;
    session.connection?.continuedElsewhere();
    session.ended = undefined;
    session.endedAtMs = undefined;
    if (known === undefined || session.isElsewhere) this.#cameFromElsewhere(session);
    session.isElsewhere = false;
    return { session, who: named(who, whoIs, session), secret: this.#newSecretOf(session), continued: true, ended };
  }

  /**
   * Who a session was, if it comes with the same token, which has not ended: as a connection that stays open, a session
   * that broke may go on until its token's end.
   */
  known(id: string | undefined, tokenDigest: string): Identity | undefined {
    const session = id === undefined ? undefined : this.#sessions.get(id);
    if (session?.who === undefined || session.tokenDigest !== tokenDigest) return undefined;
    const { endsAt } = session.who;
    return endsAt === undefined || endsAt > this.#clock.now() ? session.who : undefined;
  }

  /** A session goes on on another instance. */
  continued({ session: id, generation }: Pick<Continuation, 'session' | 'generation'>): void {
    const session = this.#sessions.get(id);
    // What was said before this instance said that the session goes on here is over.
    if (session === undefined || session.isBeingSaid || session.generation > generation) return;
    session.connection?.continuedElsewhere();
    session.generation = generation;
    session.secret = undefined;
    session.isElsewhere = true;
  }

  /** A session's connection has ended. */
  ended(session: Session, ending: Ending): void {
    session.connection = undefined;
    session.ended = ending;
    session.endedAtMs = this.#clock.now();
    this.#gone.delete(session);
    this.#gone.add(session);
    if (this.#gone.size > maxGone)
      for (const oldest of this.#gone) {
        this.#forget(oldest);
        break;
      }
  }

  /** Forgets sessions that have been without a connection for too long. */
  sweep(): void {
    const oldest = this.#clock.settled() - this.#memoryMs;
    for (const session of this.#gone) {
      if ((session.endedAtMs ?? 0) >= oldest) break;
      this.#forget(session);
    }
  }

  #forget(session: Session): void {
    this.#gone.delete(session);
    this.#sessions.delete(session.id);
    if (session.guestName !== undefined) this.#names.giveBack(session.guestName);
  }

  #begin(whoIs: WhoIs): Admission {
    const id = this.#ids.session();
    const who = whoIs(id);
    const session = this.#add(id, who, 1);
    return {
      session,
      who: named(who, whoIs, session),
      secret: this.#newSecretOf(session),
      continued: false,
      ended: undefined,
    };
  }

  #add(id: string, { user, guest }: Identity, generation: number): Session {
    const session: Session = {
      id,
      user,
      generation,
      proven: generation,
      secret: undefined,
      connection: undefined,
      ended: undefined,
      endedAtMs: undefined,
      guestName: guest ? this.#names.take(user) : undefined,
      who: undefined,
      tokenDigest: undefined,
      buckets: undefined,
      status: undefined,
      looking: undefined,
      lingers: undefined,
      isElsewhere: false,
      isBeingSaid: false,
    };
    this.#sessions.set(id, session);
    return session;
  }

  #newSecretOf(session: Session): string {
    session.secret = makeSecret(this.#hmac, session.id, session.user, session.generation);
    return session.secret;
  }
}

/** A guest under the name that its session has been given. */
function named(who: Identity, whoIs: WhoIs, { id, guestName }: Session): Identity {
  return guestName === undefined ? who : whoIs(id, guestName);
}
