import type {
  Actor,
  PendingAnswer,
  PendingDraft,
  PendingEnd,
  PendingList,
  PendingMessage,
  PendingStore,
  PendingWish,
} from '@nine-bells/core';
import { type ChannelName, refusal } from '@nine-bells/wire';
import { MemoryQueues } from './memoryQueues.js';

/** Messages that wait for a moderator, in memory. */
export class MemoryPending extends MemoryQueues implements Omit<PendingStore, 'knownUnder'> {
  readonly #pending = new Map<string, PendingMessage>();
  readonly #released = new Map<string, Awaited<ReturnType<PendingStore['released']>>>();
  #number = 0;

  async hasPending(channel: ChannelName, user: string): Promise<boolean> {
    return this.#waiting(channel, user).length > 0;
  }

  async keepPending(
    draft: PendingDraft,
    most: { readonly all: number; readonly each: number },
  ): Promise<{ readonly message: PendingMessage; readonly repeated: boolean }> {
    const known = draft.key && this.pendingUnder(draft.channel, draft.by.user, draft.key, draft.revises !== undefined);
    if (known) return { message: known, repeated: true };
    const all = [...this.#pending.values()].filter(({ refused, by }) => !refused && by.guest === draft.by.guest);
    if (all.length >= most.all || all.filter(({ by }) => by.user === draft.by.user).length >= most.each)
      throw refusal('busy', 'too many messages wait for the moderators', { retryAfterMs: 60_000 });
    const message = { ...draft, number: ++this.#number };
    this.#pending.set(message.id, message);
    return { message, repeated: false };
  }

  async pending({ isWaiting, channel, user, from, limit, chars }: PendingWish): Promise<PendingList> {
    const all = [...this.#pending.values()].filter(
      (each) =>
        (each.refused === undefined) === isWaiting &&
        (channel ?? each.channel) === each.channel &&
        (user ?? each.by.user) === each.by.user,
    );
    const ordered = isWaiting ? all : all.reverse();
    const behind = ordered.filter(({ number }) => from === undefined || (isWaiting ? number > from : number < from));
    let sum = 0;
    const messages = behind.slice(0, limit).filter(({ data }, index) => {
      sum += JSON.stringify(data).length;
      return index === 0 || sum <= chars;
    });
    return { messages, more: messages.length < behind.length };
  }

  async pendingById(id: string): Promise<PendingMessage | undefined> {
    return this.#pending.get(id);
  }

  async nextPending(channel: ChannelName, user: string, isCleared = false): Promise<PendingMessage | undefined> {
    return this.#waiting(channel, user).find((each) => !isCleared || each.isCleared);
  }

  async unansweredPending(after: number, limit: number): Promise<readonly PendingMessage[]> {
    const all = [...this.#pending.values()].filter(({ number, unanswered, refused }) => {
      return number > after && unanswered !== undefined && refused === undefined;
    });
    return all.slice(0, limit);
  }

  async answerPending(id: string, { isCleared, reason, data }: PendingAnswer): Promise<PendingMessage | undefined> {
    if (this.#pending.get(id)?.unanswered === undefined) return undefined;
    return this.#change(id, ({ unanswered: _, ...found }) => ({
      ...found,
      isCleared,
      reason,
      data: data ?? found.data,
    }));
  }

  async clearedPending(
    limit: number,
    anyOfThem = false,
  ): Promise<readonly { readonly channel: ChannelName; readonly user: string }[]> {
    const cleared = [...this.#pending.values()].filter(
      (each) =>
        each.isCleared &&
        ((anyOfThem && each.clearedBy !== undefined) || this.#waiting(each.channel, each.by.user)[0] === each),
    );
    return cleared.slice(0, limit).map(({ channel, by }) => ({ channel, user: by.user }));
  }

  async clearPending(id: string, by: Actor, _atMs: number): Promise<PendingMessage | undefined> {
    return this.#change(id, (found) => (found.isCleared ? found : { ...found, isCleared: true, clearedBy: by }));
  }

  async refusePending(id: string, { atMs, reason }: PendingEnd): Promise<PendingMessage | undefined> {
    const refused = { atMs, ...(reason === undefined ? {} : { reason }) };
    return this.#change(id, (found) => ({ ...found, refused }));
  }

  async takeBackPending(id: string, user: string): Promise<PendingMessage | undefined> {
    const found = this.#pending.get(id);
    if (found === undefined || found.refused !== undefined || found.by.user !== user) return undefined;
    this.#pending.delete(id);
    return found;
  }

  protected erasePending(user: string): number {
    const own = [...this.#pending.values()].filter(({ by }) => by.user === user);
    for (const { id } of own) this.#pending.delete(id);
    return own.length;
  }

  protected pendingUnder(
    channel: ChannelName,
    user: string,
    key: string,
    isChange: boolean,
  ): PendingMessage | undefined {
    return [...this.#pending.values()].find(
      (each) =>
        each.channel === channel &&
        each.by.user === user &&
        each.key === key &&
        (each.revises !== undefined) === isChange,
    );
  }

  /** @throws {ProblemError} `bad-value` */
  protected checkWaits(id: string): void {
    const found = this.#pending.get(id);
    if (found === undefined || found.refused !== undefined) throw refusal('bad-value', 'the message does not wait');
  }

  /** Removes a message that is published. */
  protected release(id: string, to: Awaited<ReturnType<PendingStore['released']>>): void {
    this.#pending.delete(id);
    this.#released.set(id, to);
  }

  async released(id: string): ReturnType<PendingStore['released']> {
    return this.#released.get(id);
  }

  #change(id: string, changed: (found: PendingMessage) => PendingMessage): PendingMessage | undefined {
    const found = this.#pending.get(id);
    if (found === undefined || found.refused !== undefined) return undefined;
    const now = changed(found);
    this.#pending.set(id, now);
    return now;
  }

  #waiting(channel: ChannelName, user: string): PendingMessage[] {
    return [...this.#pending.values()].filter(
      (each) => each.channel === channel && each.by.user === user && each.refused === undefined,
    );
  }
}
