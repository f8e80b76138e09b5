import type { Cursor, InboxPush, InboxReply, Notice, NoticePush } from '@nine-bells/wire';
import { TypedTarget } from './typedTarget.js';

export interface InboxEvents {
  /** A notice that has just come, or came while the connection was broken. Each comes once. */
  notice: Notice;
  /** The list or the count has changed, on whichever device. */
  change: { readonly unread: number };
}

/** What an inbox needs of its line. */
export interface InboxHost {
  ask(wish: { after?: Cursor; limit?: number; done?: readonly string[] | true }): Promise<InboxReply>;
}

/**
 * The user's notices: the same on all its devices, until they are done.
 *
 * It outlives broken connections: what came meanwhile is given after the reconnection, once.
 *
 * @example
 * const inbox = line.inbox();
 * inbox.addEventListener('change', ({ detail }) => showCount(detail.unread));
 * inbox.addEventListener('notice', ({ detail }) => ring(detail.title));
 * await inbox.done([notice.id]);
 */
export class Inbox extends TypedTarget<InboxEvents> {
  readonly #host: InboxHost;
  #notices = new Map<string, Notice>();
  /** The same list until it changes. */
  #list: readonly Notice[] | undefined;
  #unread = 0;
  #cursor: Cursor | undefined;
  #loaded = false;

  /** @internal Made by `Line.inbox`. */
  constructor(host: InboxHost) {
    super();
    this.#host = host;
  }

  /** The notices, oldest first. */
  get notices(): readonly Notice[] {
    this.#list ??= [...this.#notices.values()];
    return this.#list;
  }

  /** How many there are, also those that are not loaded. */
  get unread(): number {
    return this.#unread;
  }

  /**
   * Takes notices out: these, or all. Other devices of the user hear of it. While the connection is broken it waits for
   * the next one.
   *
   * @throws {LineError} if the line is closed for good before that
   */
  async done(ids: readonly string[] | true): Promise<void> {
    const { unread } = await this.#host.ask({ done: ids, limit: 1 });
    this.#takeOut(ids, unread);
  }

  // ------------------------------------------------------------------------------------ called by the line

  /** @internal How far the inbox is known, to ask for what came after. */
  get cursor(): Cursor | undefined {
    return this.#loaded ? this.#cursor : undefined;
  }

  /** @internal The line is open: what has come since is here, or the whole inbox is asked for. */
  async welcomed(reply: InboxReply): Promise<void> {
    const known = this.#loaded;
    let page = known ? reply : await this.#host.ask({ limit: 1000 });
    this.#take(page, known);
    while (page.more) {
      page = await this.#host.ask({ after: page.cursor, limit: 1000 });
      this.#take(page, known);
    }
  }

  /** @internal */
  noticed({ on: _, unread, ...notice }: NoticePush): void {
    if (!this.#isNews(notice)) return;
    this.#put(notice);
    this.#unread = unread;
    this.#list = undefined;
    this.emit('notice', notice);
    this.#list = undefined;
    this.emit('change', { unread });
  }

  /** @internal */
  wasDone({ done, unread }: InboxPush): void {
    this.#takeOut(done, unread);
  }

  #take({ notices, unread, cursor }: InboxReply, isNews: boolean): void {
    this.#loaded = true;
    this.#cursor = cursor;
    this.#unread = unread;
    for (const notice of notices) {
      const news = isNews && !this.#notices.has(notice.id);
      this.#put(notice);
      if (news) this.emit('notice', notice);
    }
    this.#list = undefined;
    this.emit('change', { unread });
  }

  #put(notice: Notice): void {
    // A later notice with the same key takes the place of the earlier one.
    if (notice.key !== undefined)
      for (const [id, { key }] of this.#notices) if (key === notice.key) this.#notices.delete(id);
    this.#notices.set(notice.id, notice);
    this.#cursor = notice.cursor;
  }

  #isNews({ id }: Notice): boolean {
    return !this.#notices.has(id);
  }

  #takeOut(ids: readonly string[] | true, unread: number): void {
    if (ids === true) this.#notices = new Map();
    else for (const id of ids) this.#notices.delete(id);
    this.#unread = unread;
    this.#list = undefined;
    this.emit('change', { unread });
  }
}
