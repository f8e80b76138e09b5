import { matchPattern, type Pattern, parsePattern } from '@nine-bells/core';

/**
 * What an API key may do.
 *
 * - `read`: look at everything: channels and their record, sessions, why somebody may do what
 * - `publish`, or `publish:PATTERN`: publish to all channels, or to those that match
 * - `notify`: put notices into inboxes, and take them out
 * - `moderate`: remove, ban, sign out, and read the audit log
 * - `administer`: everything, and make and revoke keys
 */
export type Right = 'read' | 'publish' | 'notify' | 'moderate' | 'administer' | `publish:${string}`;

export const plainRights = ['read', 'publish', 'notify', 'moderate', 'administer'] as const;

/** What is wrong with a right, for people; `undefined` if nothing is. */
export function rightFault(right: string): string | undefined {
  if ((plainRights as readonly string[]).includes(right)) return undefined;
  if (!right.startsWith('publish:'))
    return `${JSON.stringify(right)} is no right; there are ${plainRights.join(', ')} and publish:PATTERN`;
  try {
    parsePattern(right.slice('publish:'.length));
    return undefined;
  } catch (error) {
    return `${JSON.stringify(right)}: ${(error as Error).message}`;
  }
}

/** The rights of one key, ready to be asked. */
export class Rights {
  readonly all: readonly Right[];
  readonly #plain: ReadonlySet<string>;
  readonly #patterns: readonly Pattern[];

  constructor(all: readonly Right[]) {
    this.all = all;
    this.#plain = new Set(all);
    this.#patterns = all.flatMap((right) =>
      right.startsWith('publish:') ? [parsePattern(right.slice('publish:'.length))] : [],
    );
  }

  has(right: (typeof plainRights)[number]): boolean {
    return this.#plain.has('administer') || this.#plain.has(right);
  }

  /** Whether it may publish somewhere. */
  get publishes(): boolean {
    return this.has('publish') || this.#patterns.length > 0;
  }

  mayPublish(channel: string): boolean {
    return this.has('publish') || this.#patterns.some((pattern) => matchPattern(pattern, channel) !== undefined);
  }

  toString(): string {
    return this.all.length === 0 ? 'no rights' : this.all.join(', ');
  }
}

/** What is left of the rights of somebody who is only to look. */
export const lookingOnly = new Rights(['read']);
