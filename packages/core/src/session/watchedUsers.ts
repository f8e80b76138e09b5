import { type Json, ProblemError, refusal } from '@nine-bells/wire';
import type { Ruling, Visitor } from '../access/access.js';
import type { Identity } from '../model/access.js';
import { Frame } from '../model/frame.js';
import type { SessionHost } from './host.js';

/** The session that watches, as far as its watches need it. */
export interface WatchingSession {
  readonly who: Identity;
  readonly visitor: Visitor;
  readonly gone: boolean;
  push(frame: Frame): void;
}

/** The users whose status a session watches. A watch is decided again when what it rests on ends. */
export class WatchedUsers {
  readonly #host: SessionHost;
  readonly #session: WatchingSession;
  /** Each with what cancels the next decision about it. */
  readonly #watched = new Map<string, (() => void) | undefined>();

  constructor(host: SessionHost, session: WatchingSession) {
    this.#host = host;
    this.#session = session;
  }

  /**
   * Watches a user, if that is allowed. Gives the user's status; `undefined` if the session has ended meanwhile.
   *
   * @throws {ProblemError} the refusal; `too-many-channels`
   */
  watch(user: string): Json | undefined | Promise<Json | undefined> {
    const ruling = this.#host.access.decideAbout('watch', user, this.#session.visitor);
    return ruling instanceof Promise ? ruling.then((later) => this.#watch(user, later)) : this.#watch(user, ruling);
  }

  #watch(user: string, ruling: Ruling): Json | undefined | Promise<Json> {
    if (ruling.problem !== undefined) throw new ProblemError(ruling.problem);
    if (this.#session.gone) return undefined;
    const { watching, options } = this.#host;
    if (this.#watched.size >= options.channelsPerSession && !this.#watched.has(user))
      throw refusal('too-many-channels', `a session may watch at most ${options.channelsPerSession} users`);
    this.#restOn(user, ruling);
    return watching.watch(user, this.#session);
  }

  unwatch(user: string): void {
    this.#watched.get(user)?.();
    this.#watched.delete(user);
    this.#host.watching.unwatch(user, this.#session);
  }

  /** Decides all watches again, for a new token. */
  async decideAll(): Promise<void> {
    await Promise.all([...this.#watched.keys()].map((user) => this.#decideAgain(user)));
  }

  end(): void {
    for (const user of [...this.#watched.keys()]) this.unwatch(user);
  }

  #restOn(user: string, { untilMs }: Ruling): void {
    const { wheel, clock } = this.#host;
    this.#watched.get(user)?.();
    const again = (): void => void this.#decideAgain(user);
    this.#watched.set(user, untilMs === undefined ? undefined : wheel.after(untilMs - clock.now(), again));
  }

  async #decideAgain(user: string): Promise<void> {
    const { who } = this.#session;
    const ruling = await this.#host.access.decideAbout('watch', user, this.#session.visitor);
    if (this.#session.gone || this.#session.who !== who || !this.#watched.has(user)) return;
    if (ruling.problem === undefined) {
      this.#restOn(user, ruling);
      return;
    }
    this.unwatch(user);
    this.#session.push(new Frame(JSON.stringify({ on: 'user', user, status: null, problem: ruling.problem })));
  }
}
