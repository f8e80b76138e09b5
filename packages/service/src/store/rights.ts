import { matchPattern, type Pattern, parsePattern } from '@nine-bells/core';

/** Rights that may be given for some channels only, as `RIGHT:PATTERN`. */
export type ChannelRight = 'read' | 'publish' | 'moderate';

/**
 * What an API key may do.
 *
 * - `read`: look at everything: channels and their record, sessions, why a user may do what
 * - `publish`: publish to every channel
 * - `notify`: put notices into inboxes, take them out, and move read marks
 * - `moderate`: remove, ban, sign out, and read the audit log
 * - `hooks`: register hooks for what the key may read, pause them, and send or run events again
 * - `administer`: everything, and make and revoke keys
 *
 * `read:PATTERN`, `publish:PATTERN` and `moderate:PATTERN` hold for the channels that match, and for nothing that
 * concerns more than one channel.
 */
export type Right = ChannelRight | 'notify' | 'hooks' | 'administer' | `${ChannelRight}:${string}`;

export const plainRights = ['read', 'publish', 'notify', 'moderate', 'hooks', 'administer'] as const;
export const channelRights: readonly ChannelRight[] = ['read', 'publish', 'moderate'];

/** What is wrong with a right, for people; `undefined` if nothing is. */
export function rightFault(right: string): string | undefined {
  if ((plainRights as readonly string[]).includes(right)) return undefined;
  const divided = divide(right);
  if (divided === undefined)
    return `${JSON.stringify(right)} is not a right; there are ${plainRights.join(', ')}, and ${channelRights
      .map((each) => `${each}:PATTERN`)
      .join(', ')}`;
  try {
    parsePattern(divided.pattern);
    return undefined;
  } catch (error) {
    return `${JSON.stringify(right)}: ${(error as Error).message}`;
  }
}

/** The rights of one key, ready to be asked. */
export class Rights {
  readonly all: readonly Right[];
  readonly #plain: ReadonlySet<string>;
  readonly #patterns: Readonly<Record<ChannelRight, Pattern[]>> = { read: [], publish: [], moderate: [] };

  constructor(all: readonly Right[]) {
    this.all = all;
    this.#plain = new Set(all);
    for (const right of all) {
      const divided = divide(right);
      if (divided !== undefined) this.#patterns[divided.right].push(parsePattern(divided.pattern));
    }
  }

  /** Whether the key has a right without a pattern. */
  has(right: (typeof plainRights)[number]): boolean {
    return this.#plain.has('administer') || this.#plain.has(right);
  }

  /** Whether the key has a right in at least one channel. */
  hasSomewhere(right: ChannelRight): boolean {
    return this.has(right) || this.#patterns[right].length > 0;
  }

  hasIn(right: ChannelRight, channel: string): boolean {
    return this.has(right) || this.#patterns[right].some((pattern) => matchPattern(pattern, channel) !== undefined);
  }

  /** Whether the key has a right in all channels that a pattern matches, as far as its own patterns say so one by one. */
  hasForPattern(right: ChannelRight, pattern: Pattern): boolean {
    return this.has(right) || this.#patterns[right].some((own) => covers(own, pattern));
  }

  toString(): string {
    return this.all.length === 0 ? 'no rights' : this.all.join(', ');
  }
}

/** Whether a pattern matches every name that another one matches. */
function covers(own: Pattern, other: Pattern): boolean {
  return (
    own.segments.length === other.segments.length &&
    own.segments.every((segment, index) => {
      const theirs = other.segments[index];
      if ('parameter' in segment) return true;
      return theirs !== undefined && 'literal' in theirs && theirs.literal === segment.literal;
    })
  );
}

/** The rights of a console session that may only look. */
export const lookingOnly = new Rights(['read']);

/** The two halves of `RIGHT:PATTERN`. */
function divide(text: string): { right: ChannelRight; pattern: string } | undefined {
  const right = channelRights.find((each) => text.startsWith(`${each}:`));
  return right === undefined ? undefined : { right, pattern: text.slice(right.length + 1) };
}
