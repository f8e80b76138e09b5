import {
  type Entry,
  type Line,
  LineError,
  type Message,
  type PendingMessage,
  type ReceivedMessage,
  Typing,
} from '@nine-bells/client';
import { calledIn, personOf } from '../src/people.js';
import { showToast } from './bell.js';
import { button, element, find, stayAtEnd } from './dom.js';
import { clock, counted, errorText, nameOf, removedText, silencedText } from './words.js';

/** Duration of a removed user's ban, in milliseconds. */
const banMs = 120_000;

/** The longest time that a timer can wait, in milliseconds. */
const maxTimerMs = 2 ** 31 - 1;

/** As in the rule of the race chats, which are the only channels with reactions. */
const reactionWords = ['aye', 'bravo', 'alas'];

/** A channel's messages with read marks, typing users and a composer. */
export class ChatPane {
  readonly entry: Entry;
  readonly #pane: HTMLElement;
  /** Enables the composer when a silence ends. */
  #silence: ReturnType<typeof setTimeout> | undefined;
  readonly #line: Line;
  readonly #user: string;
  readonly #typing: Typing;
  /** The last message that this window's user has sent. */
  #mine: string | undefined;
  /** The messages that are shown, by their cursors, each as it stands. */
  readonly #shown = new Map<string, { message: Message; readonly item: HTMLElement }>();
  /** The message that is being revised, or answered. */
  #revising: Message | undefined;
  #answering: Message | undefined;
  /** Notes about the user's waiting messages, by id. */
  readonly #waiting = new Map<string, HTMLElement>();
  #wasLive = false;
  /** Messages that came after a break. */
  #caughtUp = 0;

  /** @param user - empty for a guest */
  constructor(line: Line, channel: string, user: string, pane: HTMLElement) {
    this.#pane = pane;
    this.#line = line;
    this.#user = user;
    find(pane, '.messages').replaceChildren();
    this.say('');
    const entry = line.enter(channel, { last: 50 });
    this.entry = entry;
    line.setLooking(channel);
    this.#showRead();
    entry.addEventListener('marks', () => this.#showRead());
    this.#typing = new Typing(entry);
    this.#showTyping();

    entry.addEventListener('message', ({ detail }) => this.#show(detail));
    entry.addEventListener('change', ({ detail }) => this.#changed(detail));
    entry.addEventListener('reactions', ({ detail }) => {
      for (const cursor of detail.cursors) {
        const shown = this.#shown.get(cursor);
        if (shown !== undefined) this.#fill(shown.item, shown.message);
      }
    });
    find<HTMLInputElement>(pane, 'input').onkeydown = (event) => this.#onKey(event);
    entry.addEventListener('gap', () => this.#note('Some messages can no longer be recovered.'));
    entry.addEventListener('live', () => this.#isLive());
    entry.addEventListener('waiting', ({ detail }) => this.say(`${detail.detail ?? detail.title}; trying again`));
    entry.addEventListener('refused', ({ detail }) => {
      this.say(detail.detail ?? detail.title);
      this.mayTalk(false);
    });
    entry.addEventListener('silenced', ({ detail }) => {
      this.#note(silencedText(detail));
      clearTimeout(this.#silence);
      this.mayTalk(detail.over === true || detail.everyMs !== undefined);
      // A silence that ends by its time ends without another event.
      if (detail.until !== undefined)
        this.#silence = setTimeout(
          () => this.mayTalk(true),
          Math.min(Date.parse(detail.until) - Date.now(), maxTimerMs),
        );
    });
    line.addEventListener('blocks', this.#hideMuted);
    line.addEventListener('pending', this.#onPending);
    entry.addEventListener('removed', ({ detail }) => {
      this.#note(removedText(detail));
      this.mayTalk(false);
    });
  }

  close(): void {
    this.#line.removeEventListener('blocks', this.#hideMuted);
    this.#line.removeEventListener('pending', this.#onPending);
    clearTimeout(this.#silence);
    this.#typing.close();
  }

  /** Shows an error; an empty text removes it. */
  say(text: string): void {
    const trouble = find(this.#pane, '.trouble');
    trouble.textContent = text;
    trouble.hidden = text === '';
  }

  mayTalk(may: boolean): void {
    find<HTMLInputElement>(this.#pane, 'input').disabled = !may;
    find<HTMLButtonElement>(this.#pane, 'form button').disabled = !may;
  }

  /** Sends the text of the composer. Without a connection it waits in the outbox. */
  async send(): Promise<void> {
    const input = find<HTMLInputElement>(this.#pane, 'input');
    const text = input.value.trim();
    if (text === '') return;
    input.value = '';
    this.#typing.ended();
    this.say('');
    const revised = this.#revising;
    const answered = this.#answering;
    this.#revise(undefined);
    this.#answer(undefined);
    try {
      if (revised === undefined) await this.#publish(text, answered);
      else await this.entry.revise(revised, { text }, { ifRevision: revised.revision ?? null });
    } catch (error) {
      // The event `pending` shows it.
      if (error instanceof LineError && error.code === 'pending') return;
      input.value = text;
      if (!(error instanceof LineError && error.code === 'cancelled')) this.say(errorText(error));
    }
  }

  async #publish(text: string, answered: Message | undefined): Promise<void> {
    const called = this.#hasAll ? calledIn(text) : { users: [], roles: [] };
    const { notMentioned } = await this.entry.publish(
      { text },
      {
        ...(answered && { replyTo: answered }),
        ...(called.users.length + called.roles.length > 0 && { mentions: called }),
      },
    );
    const left = [...(notMentioned?.users ?? []), ...(notMentioned?.roles ?? [])];
    if (left.length > 0) this.#note(`No user here is called ${left.map((each) => `@${each}`).join(', ')}.`);
  }

  /** Shows changes of the user's waiting messages. */
  readonly #onPending = ({ detail }: CustomEvent<PendingMessage>): void => this.#showPending(detail);

  #showPending({ id, channel, state, reason, data }: PendingMessage): void {
    if (channel !== this.entry.channel) return;
    this.#waiting.get(id)?.remove();
    this.#waiting.delete(id);
    if (state !== 'waiting' && state !== 'refused') return;
    const why = reason === undefined ? '' : ` (${reason})`;
    const text = textOf({ data });
    const note = noteItem(state === 'waiting' ? `Waits${why}: ${text} ` : `Not published${why}: ${text}`);
    if (state === 'waiting') {
      note.append(button('Take back', () => void this.#takeBack(id)));
      this.#waiting.set(id, note);
    }
    this.#add(note);
  }

  async #takeBack(id: string): Promise<void> {
    try {
      await this.#line.takeBack(id);
    } catch (error) {
      this.say(errorText(error));
    }
  }

  /** Shows messages that wait since an earlier visit. */
  async #showWaiting(): Promise<void> {
    if (this.#user === '' || !this.#hasAll) return;
    const all = await this.#line.pending(this.entry.channel);
    for (const each of all) if (each.state === 'waiting' && !this.#waiting.has(each.id)) this.#showPending(each);
  }

  /** The chat of a race has reactions, answers and mentions, and messages that wait. */
  get #hasAll(): boolean {
    return this.entry.channel.endsWith('/chat');
  }

  /** Arrow up, where nothing is written yet, takes up your last message; Escape leaves it as it was. */
  #onKey(event: KeyboardEvent): void {
    const input = event.currentTarget as HTMLInputElement;
    const mine = this.#shown.get(this.#mine ?? '')?.message;
    if (event.key === 'ArrowUp' && input.value === '' && mine !== undefined && !mine.withdrawn) {
      event.preventDefault();
      this.#revise(mine);
      input.value = textOf(mine);
    } else if (event.key === 'Escape' && this.#revising !== undefined) {
      this.#revise(undefined);
      input.value = '';
    } else if (event.key === 'Escape') this.#answer(undefined);
  }

  /** Makes the next message a reply; Escape cancels that. */
  #answer(message: Message | undefined): void {
    this.#answering = message;
    const input = find<HTMLInputElement>(this.#pane, 'input');
    input.placeholder =
      message === undefined ? 'Say something (↑ to correct your last)' : `Answer ${nameOf(message.by?.user ?? '')}`;
    if (message !== undefined) input.focus();
  }

  #revise(message: Message | undefined): void {
    this.#shown.get(this.#revising?.cursor ?? '')?.item.classList.remove('revising');
    this.#revising = message;
    this.#shown.get(message?.cursor ?? '')?.item.classList.add('revising');
  }

  /** A message stands otherwise now. */
  #changed(message: Message): void {
    const shown = this.#shown.get(message.cursor);
    if (shown === undefined) return;
    // A change does not say what stands beside a message.
    const { answers, replies, withdrawn } = shown.message;
    if (message.withdrawn && !withdrawn) this.#countIn(message, -1);
    shown.message = { ...message, ...(answers && { answers }), ...(replies && { replies }) };
    this.#fill(shown.item, shown.message);
    for (const each of this.#shown.values()) if (each.message.replyTo === message.cursor) this.#quote(each, message);
    if (message.withdrawn && this.#revising?.cursor === message.cursor) this.#revise(undefined);
  }

  /** Shows with a reply how the message that it answers stands now. */
  #quote(reply: { message: Message; readonly item: HTMLElement }, { by, data, withdrawn }: Message): void {
    const { text } = (data ?? {}) as { readonly text?: string };
    const answers = { ...(by && { by }), ...(withdrawn ? { withdrawn } : text === undefined ? {} : { text }) };
    reply.message = { ...reply.message, answers };
    this.#fill(reply.item, reply.message);
  }

  /** A reply has come, or was taken back. */
  #countIn({ thread, at }: Message, more: 1 | -1): void {
    const first = this.#shown.get(thread ?? '');
    if (first === undefined) return;
    const count = Math.max(0, (first.message.replies?.count ?? 0) + more);
    first.message = { ...first.message, replies: { count, at } };
    this.#fill(first.item, first.message);
  }

  #show(message: ReceivedMessage): void {
    const isMissed = this.#wasLive && !message.live;
    if (isMissed) this.#caughtUp += 1;
    const author = message.by?.user;
    if (isSaid(message) && author === this.#user) this.#mine = message.cursor;
    // What came with the reply to enter is counted already.
    if (message.thread !== undefined && !message.withdrawn && this.#wasLive) this.#countIn(message, 1);
    if (this.#user !== '') this.entry.mark(message.cursor);
    this.#showRead();
    const item = this.#itemOf(message);
    item.classList.toggle('missed', isMissed);
    if (message.live && this.#isCalled(message))
      showToast(this.#pane, `${message.by?.name ?? 'The committee'} calls you`);
    this.#add(item);
  }

  /** Everything that was missed has come. */
  #isLive(): void {
    if (!this.#wasLive) for (const user of this.#line.blocks.keys()) this.#noteMuted(user);
    void this.#showWaiting().catch((error: unknown) => this.say(errorText(error)));
    this.#wasLive = true;
    this.say('');
    if (this.#caughtUp > 0) this.#note(`Caught up on ${counted(this.#caughtUp, 'message')}.`);
    this.#caughtUp = 0;
  }

  #itemOf(message: ReceivedMessage): HTMLElement {
    const { by, own, type, cursor } = message;
    if (!isSaid(message)) return noteItem(`${by?.name ?? by?.user} has ${type === 'joined' ? 'come' : 'gone'}.`);
    const item = document.createElement('li');
    const { state } = this.#line;
    item.classList.toggle('mine', own || (state.name === 'open' && by?.user === state.user));
    item.title = cursor;
    this.#fill(item, message);
    this.#shown.set(cursor, { message, item });
    return item;
  }

  /** Returns whether a message mentions this window's user. */
  #isCalled({ mentions, by }: Message): boolean {
    const roles = personOf(this.#user)?.roles ?? [];
    if (mentions === undefined || by?.user === this.#user) return false;
    return mentions.users?.includes(this.#user) || mentions.roles?.some((role) => roles.includes(role)) || false;
  }

  /** Shows a message as it stands. */
  #fill(item: HTMLElement, message: Message): void {
    const { by, at, withdrawn, revisedAt, revisedBy, reason } = message;
    item.classList.toggle('withdrawn', withdrawn === true);
    item.classList.toggle('called', this.#isCalled(message));
    const who = revisedBy?.user === by?.user ? '' : ` by ${revisedBy?.name ?? 'the committee'}`;
    const why = reason === undefined ? '' : `: ${reason}`;
    item.replaceChildren(element('b', by?.name ?? by?.user ?? 'The committee'), element('time', clock(at)));
    if (revisedAt !== undefined && !withdrawn) item.append(element('em', `revised${who} ${clock(revisedAt)}`));
    const { counted, more } = this.#reactionsTo(message);
    const { answers, replies } = message;
    const mayAct = this.#user !== '' && by !== undefined && !withdrawn;
    const actions = [...(mayAct ? this.#actionsOn(message, by.user) : []), ...more];
    const quiet = document.createElement('span');
    quiet.className = 'actions';
    quiet.append(...actions.filter((each) => each.className === 'quiet'));
    item.append(...actions.filter((each) => each.className !== 'quiet'), quiet);
    if (answers !== undefined) item.append(element('blockquote', quoteOf(answers)));
    if (replies !== undefined && replies.count > 0)
      counted.push(element('small', replies.count === 1 ? '1 answer' : `${replies.count} answers`));
    item.append(element('p', withdrawn ? `Taken back${who}${why}` : textOf(message)), ...counted);
  }

  /** Shows a message's reactions, and the words that the user may add. */
  #reactionsTo(message: Message): { counted: HTMLElement[]; more: HTMLElement[] } {
    const [counted, more]: [HTMLElement[], HTMLElement[]] = [[], []];
    const { counts = {}, own = [] } = this.entry.reactions.get(message.cursor) ?? {};
    if (message.withdrawn || !this.#hasAll) return { counted, more };
    for (const word of reactionWords) {
      const count = counts[word];
      const isOwn = own.includes(word);
      const label = count === undefined ? word : `${word} ${count}`;
      const made = button(label, () => void this.#react(message, word, !isOwn));
      made.className = count === undefined ? 'quiet' : 'counted';
      made.disabled = this.#user === '';
      made.setAttribute('aria-pressed', String(isOwn));
      if (count !== undefined) counted.push(made);
      else if (this.#user !== '') more.push(made);
    }
    return { counted, more };
  }

  async #react(message: Message, word: string, on: boolean): Promise<void> {
    try {
      await this.entry.react(message, word, on);
    } catch (error) {
      this.say(errorText(error));
    }
  }

  /** Offers the acts on a message that its author and the user's role allow. */
  #actionsOn(message: Message, author: string): HTMLElement[] {
    const { roles = [] } = personOf(this.#user) ?? {};
    const quiet = (label: string, act: () => unknown): HTMLElement => {
      const made = button(label, () => void act());
      made.className = 'quiet';
      return made;
    };
    const answer = this.#hasAll ? [quiet('Answer', () => this.#answer(message))] : [];
    if (author === this.#user) return [...answer, quiet('Take back', () => this.#withdraw(message))];
    const isCommittee = roles.includes('committee');
    return [
      ...answer,
      this.#actionOn(message, author),
      ...(isCommittee ? [] : [quiet('Mute', () => this.#mute(author))]),
      ...(isCommittee ? [quiet('Take back', () => this.#withdraw(message, 'not for this place'))] : []),
    ];
  }

  async #withdraw(message: Message, reason?: string): Promise<void> {
    try {
      await this.entry.withdraw(message, reason === undefined ? {} : { reason });
    } catch (error) {
      this.say(errorText(error));
    }
  }

  /** Offers acts on the author of a message, or on another user's message. */
  #actionOn({ cursor }: Message, author: string): HTMLElement {
    const roles = personOf(this.#user)?.roles ?? [];
    if (roles.includes('chair')) return button('Remove', () => void this.#remove(author));
    if (roles.includes('committee')) return button('Silence', () => void this.#silenceFor(author));
    const report = button('Report', () => void this.#report(cursor));
    report.className = 'quiet';
    return report;
  }

  async #mute(author: string): Promise<void> {
    try {
      await this.#line.block(author, 'muted');
      this.#noteMuted(author);
    } catch (error) {
      this.say(errorText(error));
    }
  }

  #noteMuted(author: string): void {
    const hearAgain = button('Hear again', () => void this.#hearAgain(author, note));
    const note = noteItem(`You do not hear ${nameOf(author)}. `);
    note.append(hearAgain);
    this.#add(note);
  }

  async #hearAgain(author: string, note: HTMLElement): Promise<void> {
    try {
      await this.#line.unblock(author);
      note.textContent = `You hear ${nameOf(author)} again.`;
    } catch (error) {
      this.say(errorText(error));
    }
  }

  /** What users have said whom this user has muted, on this device or another, is not shown. */
  readonly #hideMuted = (): void => {
    for (const { message, item } of this.#shown.values())
      item.hidden = message.by !== undefined && this.#line.blocks.has(message.by.user);
  };

  async #silenceFor(user: string): Promise<void> {
    try {
      const wish = { reason: 'a word to cool down', forMs: banMs };
      const { until } = await this.#line.silence(this.entry.channel, user, wish);
      this.#note(`${nameOf(user)} may only read${until ? ` until ${clock(until)}` : ''}.`);
    } catch (error) {
      this.say(errorText(error));
    }
  }

  async #report(cursor: string): Promise<void> {
    try {
      await this.#line.report(this.entry.channel, cursor);
      this.#note('Reported to the committee.');
    } catch (error) {
      this.say(errorText(error));
    }
  }

  async #remove(user: string): Promise<void> {
    try {
      const { until } = await this.entry.remove(user, { reason: 'please wait until you are called', banMs });
      this.#note(`Removed ${nameOf(user)}${until ? ` until ${clock(until)}` : ''}.`);
    } catch (error) {
      this.say(errorText(error));
    }
  }

  /** Shows the users who have read this user's last message. */
  #showRead(): void {
    const readers = this.#mine === undefined ? [] : this.entry.readBy(this.#mine);
    const names = readers.length <= 2 ? readers.map(nameOf).join(' and ') : String(readers.length);
    find(this.#pane, '.read').textContent = readers.length === 0 ? '' : `Read by ${names}`;
  }

  #showTyping(): void {
    this.#typing.watch(find<HTMLInputElement>(this.#pane, 'input'));
    const text = find(this.#pane, '.typing');
    text.textContent = '';
    this.#typing.addEventListener('change', () => {
      text.textContent = this.#typing.text;
    });
  }

  #note(text: string): void {
    this.#add(noteItem(text));
  }

  #add(item: HTMLElement): void {
    const list = find(this.#pane, '.messages');
    stayAtEnd(list, () => list.append(item));
  }
}

/** Returns the text of a message. */
function textOf({ data }: Pick<Message, 'data'>): string {
  const { text } = (data ?? {}) as { text?: unknown };
  return typeof text === 'string' ? text : JSON.stringify(data);
}

/** Returns whether a person wrote the message; joins and leaves are noted, too. */
/** What a reply answers, in short. */
function quoteOf({ by, text, withdrawn }: NonNullable<Message['answers']>): string {
  return `${by?.name ?? by?.user ?? 'The committee'}: ${withdrawn ? 'taken back' : (text ?? '')}`;
}

function isSaid({ type }: ReceivedMessage): boolean {
  return type !== 'joined' && type !== 'left';
}

function noteItem(text: string): HTMLElement {
  const item = element('li', text);
  item.className = 'note';
  return item;
}
