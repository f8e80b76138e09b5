import { type HelloRequest, ProblemError, refusal } from '@nine-bells/wire';
import { bannedProblem } from '../access/moderationProblems.js';
import type { Identity } from '../model/access.js';
import { guestIdentity } from './guests.js';
import type { SessionHost } from './host.js';
import { guestIdOf } from './sessionSecret.js';
import type { WhoIs } from './sessions.js';

/** Who a client is, and the digest of the token that says so. */
export interface Identified {
  readonly whoIs: WhoIs;
  readonly tokenDigest?: string;
}

/** Finds out who is on a connection, and whether that user may be connected at all. */
export class Identification {
  readonly #host: SessionHost;
  readonly #address: string | undefined;

  constructor(host: SessionHost, address: string | undefined) {
    this.#host = host;
    this.#address = address;
  }

  /**
   * Finds out who says hello: by a token, or a guest by its session.
   *
   * @throws {ProblemError} `token-invalid`, `token-ended`, `no-guests`, `banned`, `too-many-connections`, `unavailable`
   */
  async identify({ token, session }: HelloRequest): Promise<Identified> {
    if (token === undefined) return { whoIs: this.#guest(session) };
    const { options, hmac, sessions, connected } = this.#host;
    const tokenDigest = hmac.digest(token);
    const known = sessions.known(session, tokenDigest);
    if (known !== undefined) this.check(known);
    const who = known ?? (await this.readToken(token));
    if (!who.observer && connected.of(who.user).size >= options.connectionsPerUser)
      throw refusal('too-many-connections', `a user may have at most ${options.connectionsPerUser} connections here`);
    return { whoIs: () => who, tokenDigest };
  }

  /**
   * Reads a token, and looks whether it was revoked or its user banned.
   *
   * @throws {ProblemError} `token-invalid`, `token-ended`, `banned`, `unavailable`
   */
  async readToken(token: string): Promise<Identity> {
    const who = await this.#host.tokens.read(token);
    this.check(who);
    return who;
  }

  /**
   * Looks in this turn whether a user may be connected.
   *
   * @throws {ProblemError} `token-ended`, `banned`
   */
  check(who: Identity): void {
    const { bans, access } = this.#host;
    const cutoffMs = bans.cutoffOf(who.user);
    if (cutoffMs !== undefined && !who.guest && (who.issuedAt === undefined || who.issuedAt < cutoffMs))
      throw refusal('token-ended', 'the token was revoked; ask for a new one');
    const ban = access.ban({ who, address: this.#address });
    if (ban !== undefined) throw new ProblemError(bannedProblem(ban));
  }

  #guest(session: string | undefined): WhoIs {
    const { options, hmac, bans, access } = this.#host;
    if (!options.guests) throw refusal('no-guests', 'hello needs a token here');
    const guest: WhoIs = (id, name) => guestIdentity(guestIdOf(hmac, id), name);
    // A guest that was banned or signed out is known by its session.
    const before = session === undefined ? undefined : guest(session);
    const ban = access.ban({ who: before ?? guest(''), address: this.#address });
    if (ban !== undefined) throw new ProblemError(bannedProblem(ban));
    if (before !== undefined && bans.cutoffOf(before.user) !== undefined)
      throw refusal('token-ended', 'this guest was signed out');
    return guest;
  }
}
