import type { ChannelName, Member, MembersPush } from '@nine-bells/wire';
import { LatestFrame } from '../delivery/latestFrame.js';
import type { Frame } from '../model/frame.js';
import { mergedMembers } from './mergedMembers.js';
import { memberOf, type Present, shownOf } from './present.js';

/** Interval over which changes are merged into one push, in milliseconds. */
export const mergeMs = 250;
/** Members shown to a client that enters a crowd. */
const sampleSize = 20;
/** A crowd ends below this part of its bound, so that it does not come and go with each member. */
const crowdEnds = 0.9;

export interface AnnouncerHost {
  /** Calls back later, unless the returned function is called before. */
  after(delayMs: number, act: () => void): () => void;
  /** Tells all clients in the channel. */
  tell(frame: Frame): void;
}

/**
 * Tells the clients in a channel which members join, leave and change. Sends the difference since the last announcement.
 *
 * A client that enters between two announcements gets the current list, which may differ from both. So the next
 * announcement then has every member that was touched, whether or not it differs. For a crowd it has only the count.
 */
export class Announcer {
  readonly #channel: ChannelName;
  /** More members than this are a crowd. */
  readonly #crowd: number;
  readonly #members: ReadonlyMap<string, Present>;
  readonly #host: AnnouncerHost;
  /** The members that have changed, as they were told last; `undefined`: not told at all. */
  readonly #changed = new Map<string, string | undefined>();
  /** A client got the list since the last announcement: it has seen changes that were not announced yet. */
  #listed = false;
  #listText: string | undefined;
  #isCrowd = false;
  #toldCount = 0;
  #toldCrowd = false;
  #cancelTelling: (() => void) | undefined;

  constructor(channel: ChannelName, crowd: number, members: ReadonlyMap<string, Present>, host: AnnouncerHost) {
    this.#channel = channel;
    this.#crowd = crowd;
    this.#members = members;
    this.#host = host;
  }

  /**
   * The members now, or a sample of a crowd: `members`, `count` and perhaps `partial` as JSON text without braces. Cached
   * until it changes.
   */
  get listText(): string {
    this.#listed = true;
    if (this.#listText === undefined) {
      const all = this.#isCrowd ? this.#sample() : [...this.#members.values()];
      const members = all.map((each) => shownOf(each).text).join();
      this.#listText = `"members":[${members}],"count":${this.#members.size}${this.#isCrowd ? ',"partial":true' : ''}`;
    }
    return this.#listText;
  }

  /** Checks at once for a crowd: a client that enters before the next announcement must not get all members. */
  grew(): void {
    this.#isCrowd ||= this.#members.size > this.#crowd;
  }

  /** Remembers how a member was told last, before the first change since. */
  willChange(user: string): void {
    const present = this.#members.get(user);
    if (!this.#changed.has(user)) {
      this.#changed.set(user, present === undefined ? undefined : shownOf(present).text);
    }
    if (present !== undefined) present.shown = undefined;
    this.#listText = undefined;
    this.#cancelTelling ??= this.#host.after(mergeMs, () => this.#tell());
  }

  #tell(): void {
    this.#cancelTelling = undefined;
    const changed = [...this.#changed];
    this.#changed.clear();
    const count = this.#members.size;
    const wasCrowd = this.#isCrowd || this.#toldCrowd;
    this.#listText = undefined;
    this.#isCrowd = count > this.#crowd * (this.#isCrowd ? crowdEnds : 1);
    if (this.#isCrowd) {
      if (this.#listed || count !== this.#toldCount || !this.#toldCrowd) this.#push({ count, partial: true });
    } else if (wasCrowd) {
      // Clients know only the count, or a few members: send all members.
      this.#push({ whole: true, joined: [...this.#members.values()].map(memberOf), count });
    } else {
      const difference = this.#difference(changed);
      if (difference !== undefined) this.#push({ ...difference, count });
    }
    this.#listed = false;
    this.#toldCount = count;
    this.#toldCrowd = this.#isCrowd;
  }

  #difference(changed: readonly (readonly [string, string | undefined])[]): object | undefined {
    const joined: Member[] = [];
    const left: string[] = [];
    const different: Member[] = [];
    for (const [user, told] of changed) {
      const present = this.#members.get(user);
      if (present === undefined) {
        if (told !== undefined || this.#listed) left.push(user);
        continue;
      }
      const member = memberOf(present);
      if (told === undefined) joined.push(member);
      else if (this.#listed || told !== shownOf(present).text) different.push(member);
    }
    if (joined.length + left.length + different.length === 0) return undefined;
    return {
      ...(joined.length === 0 ? {} : { joined }),
      ...(left.length === 0 ? {} : { left }),
      ...(different.length === 0 ? {} : { changed: different }),
    };
  }

  #push(members: object): void {
    const push = { on: 'members', channel: this.#channel, ...members } as MembersPush;
    this.#host.tell(new LatestFrame(`members ${this.#channel}`, push, mergedMembers, true, this.#channel));
  }

  #sample(): Present[] {
    const some: Present[] = [];
    for (const each of this.#members.values()) {
      some.push(each);
      if (some.length === sampleSize) break;
    }
    return some;
  }

  /** Tells nothing more. */
  close(): void {
    this.#cancelTelling?.();
  }
}
