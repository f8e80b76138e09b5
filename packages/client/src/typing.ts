import type { Author } from '@nine-bells/wire';
import { TypedTarget } from './typedTarget.js';

/** How often the channel is told that you are typing, while keys are pressed, in milliseconds. */
const sayEveryMs = 3_000;
/** The silence after which you count as no longer typing; also how long another user is shown after its last word. */
const silenceMs = 5_000;
const hailType = 'typing';

/** The sentence in other languages. `names` are those who are typing, at least one. */
export type TypingTexts = (names: readonly string[]) => string;

/** "Pia is typing", "Pia and Jory are typing", "Pia and 3 others are typing". */
export const typingText: TypingTexts = (names) => {
  const [first, second] = names;
  if (names.length === 1) return `${first} is typing`;
  if (names.length === 2) return `${first} and ${second} are typing`;
  return `${first} and ${names.length - 1} others are typing`;
};

interface TypingEvents {
  /** Who is typing has changed. */
  change: readonly Author[];
}

/** An entry of a channel, whatever else passes through it. */
export interface TypingEntry extends TypedTarget<TypingHears> {
  /** Your own user id, once the line was open. */
  readonly user: string | undefined;
  hail(type: 'typing', data: boolean): void;
}

/** What is listened to. */
interface TypingHears {
  hail: { readonly type: string; readonly by?: Author; readonly data?: unknown };
  message: { readonly by?: Author; readonly live: boolean };
  members: { readonly left: readonly { readonly user: string }[] };
}

/**
 * Who is typing in a channel, and that you are.
 *
 * @example
 * const typing = new Typing(chat);
 * typing.watch(document.querySelector('textarea'));
 * typing.addEventListener('change', () => { line.textContent = typing.text; });
 */
export class Typing extends TypedTarget<TypingEvents> {
  readonly #entry: TypingEntry;
  readonly #texts: TypingTexts;
  readonly #others = new Map<string, { readonly author: Author; timer: ReturnType<typeof setTimeout> }>();
  readonly #stopWatching: (() => void)[] = [];
  /** The same list until it changes. */
  #list: readonly Author[] | undefined;
  #saidAtMs: number | undefined;
  #silence: ReturnType<typeof setTimeout> | undefined;

  constructor(entry: TypingEntry, { texts = typingText }: { texts?: TypingTexts } = {}) {
    super();
    this.#entry = entry;
    this.#texts = texts;
    entry.addEventListener('hail', this.#hailed);
    entry.addEventListener('message', this.#published);
    entry.addEventListener('members', this.#membersChanged);
  }

  /** Who is typing, except you. */
  get authors(): readonly Author[] {
    this.#list ??= [...this.#others.values()].map(({ author }) => author);
    return this.#list;
  }

  /** The sentence to show; empty if no other user is typing. */
  get text(): string {
    const names = this.authors.map(({ user, name }) => name ?? user);
    return names.length === 0 ? '' : this.#texts(names);
  }

  /** A key was pressed, and the field now holds `text`. An empty field ends it. */
  pressed(text: string): void {
    clearTimeout(this.#silence);
    if (text === '') {
      this.ended();
      return;
    }
    this.#silence = setTimeout(() => this.ended(), silenceMs);
    const now = Date.now();
    if (this.#saidAtMs !== undefined && now - this.#saidAtMs < sayEveryMs) return;
    this.#saidAtMs = now;
    this.#entry.hail(hailType, true);
  }

  /** You are no longer typing: you sent the message, left the field, or paused for a while. */
  ended(): void {
    clearTimeout(this.#silence);
    if (this.#saidAtMs === undefined) return;
    this.#saidAtMs = undefined;
    this.#entry.hail(hailType, false);
  }

  /** Follows a text field: its keys, and that it is left. Call `ended` when its text is sent. */
  watch(field: HTMLInputElement | HTMLTextAreaElement): void {
    const onInput = (): void => this.pressed(field.value);
    const onBlur = (): void => this.ended();
    field.addEventListener('input', onInput);
    field.addEventListener('blur', onBlur);
    this.#stopWatching.push(() => {
      field.removeEventListener('input', onInput);
      field.removeEventListener('blur', onBlur);
    });
  }

  /** Stops following the channel and the fields. */
  close(): void {
    this.ended();
    for (const stop of this.#stopWatching.splice(0)) stop();
    this.#entry.removeEventListener('hail', this.#hailed);
    this.#entry.removeEventListener('message', this.#published);
    this.#entry.removeEventListener('members', this.#membersChanged);
    for (const { timer } of this.#others.values()) clearTimeout(timer);
    this.#others.clear();
  }

  readonly #hailed = ({ detail: { type, by, data } }: CustomEvent<TypingHears['hail']>): void => {
    if (type !== hailType || by === undefined || by.user === this.#entry.user) return;
    if (data !== true) {
      this.#forget(by.user);
      return;
    }
    const known = this.#others.get(by.user);
    clearTimeout(known?.timer);
    const timer = setTimeout(() => this.#forget(by.user), silenceMs);
    this.#others.set(by.user, { author: by, timer });
    this.#list = undefined;
    if (known === undefined) this.emit('change', this.authors);
  };

  /** A user that has sent a message has stopped typing, whether or not that was heard. */
  readonly #published = ({ detail: { by, live } }: CustomEvent<TypingHears['message']>): void => {
    if (live && by !== undefined) this.#forget(by.user);
  };

  readonly #membersChanged = ({ detail: { left } }: CustomEvent<TypingHears['members']>): void => {
    for (const { user } of left) this.#forget(user);
  };

  #forget(user: string): void {
    const known = this.#others.get(user);
    if (known === undefined) return;
    clearTimeout(known.timer);
    this.#others.delete(user);
    this.#list = undefined;
    this.emit('change', this.authors);
  }
}
