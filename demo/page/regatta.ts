import {
  connect,
  type Entry,
  type Line,
  LineError,
  type LineState,
  type Member,
  type ReceivedMessage,
  type Removal,
  Typing,
} from '@nine-bells/client';
import { people, personOf } from '../src/people.js';

const channels = ['race/3/chat', 'crew/petrel', 'protest/7', 'desk/results/3', 'regatta/notices'];
/** How long a removed user stays out, in milliseconds. */
const banMs = 120_000;

/** One spectator's window: a line, a channel, and what shows them. */
class Window {
  readonly element: HTMLElement;
  #line: Line | undefined;
  #chat: Entry | undefined;
  #typing: Typing | undefined;
  /** The last message that this window's user has sent. */
  #mine: string | undefined;
  #socket: WebSocket | undefined;
  #unplugged = false;
  #countdown: number | undefined;

  constructor(user: string) {
    const template = document.querySelector<HTMLTemplateElement>('#window') as HTMLTemplateElement;
    this.element = (template.content.cloneNode(true) as DocumentFragment).firstElementChild as HTMLElement;
    const select = this.#find<HTMLSelectElement>('.person');
    for (const person of people) select.add(new Option(person.name, person.user));
    select.add(new Option('a guest', ''));
    select.value = user;
    select.addEventListener('change', () => this.#watchAs(select.value));
    const place = this.#find<HTMLSelectElement>('.channel');
    for (const channel of channels) place.add(new Option(channel, channel));
    place.addEventListener('change', () => this.#watchAs(select.value));
    this.#find<HTMLFormElement>('form').addEventListener('submit', (event) => {
      event.preventDefault();
      void this.#send();
    });
    this.#find('.plug').addEventListener('click', () => this.#plug());
    const bell = this.#find('.bell');
    bell.addEventListener('click', () => {
      const list = this.#find('.inbox');
      list.hidden = !list.hidden;
      bell.setAttribute('aria-expanded', String(!list.hidden));
    });
    this.#watchAs(user);
  }

  #watchAs(user: string): void {
    this.#typing?.close();
    this.#line?.close();
    this.#unplugged = false;
    this.#find('.messages').replaceChildren();
    this.#say('');
    const line = connect(location.origin, {
      ...(user === '' ? {} : { token: () => fetchToken(user) }),
      WebSocket: this.#pluggableSocket(),
    });
    this.#line = line;
    line.addEventListener('state', ({ detail }) => line === this.#line && this.#show(detail));
    this.#show(line.state);

    const chat = line.enter(this.#find<HTMLSelectElement>('.channel').value, { last: 50 });
    const mayRemove = personOf(user)?.roles.includes('chair') === true;
    this.#chat = chat;
    this.#watchInbox(line);
    this.#watchUnread(line);
    this.#watchOutbox(line);
    line.setLooking(chat.channel);
    this.#mine = undefined;
    this.#showRead();
    chat.addEventListener('marks', () => this.#showRead());
    const typing = new Typing(chat);
    this.#typing = typing;
    typing.watch(this.#find<HTMLInputElement>('input'));
    typing.addEventListener('change', () => {
      this.#find('.typing').textContent = typing.text;
    });
    this.#find('.typing').textContent = '';
    this.#showHere(chat);
    chat.addEventListener('members', () => this.#showHere(chat));
    let wasLive = false;
    let caughtUp = 0;
    chat.addEventListener('live', () => {
      wasLive = true;
      if (caughtUp > 0) this.#add(noteItem(`Caught up on ${caughtUp} message${caughtUp === 1 ? '' : 's'}.`));
      caughtUp = 0;
    });
    chat.addEventListener('message', ({ detail }) => {
      const item = messageItem(detail, line.state);
      item.classList.toggle('missed', wasLive && !detail.live);
      if (wasLive && !detail.live) caughtUp += 1;
      if (isSaid(detail) && detail.by?.user === user) this.#mine = detail.cursor;
      if (user !== '') chat.mark(detail.cursor);
      this.#showRead();
      const author = detail.by?.user;
      if (mayRemove && isSaid(detail) && author !== undefined && author !== user)
        item.append(this.#removeButton(author));
      this.#add(item);
    });
    chat.addEventListener('gap', () => this.#add(noteItem('Some messages can no longer be recovered.')));
    chat.addEventListener('waiting', ({ detail }) => this.#say(`${detail.detail ?? detail.title}; trying again`));
    chat.addEventListener('live', () => this.#say(''));
    chat.addEventListener('refused', ({ detail }) => {
      this.#say(detail.detail ?? detail.title);
      this.#mayTalk(false);
    });
    chat.addEventListener('removed', ({ detail }) => {
      this.#add(noteItem(removedText(detail)));
      this.#mayTalk(false);
    });
  }

  #removeButton(user: string): HTMLElement {
    const button = element('button', 'Remove') as HTMLButtonElement;
    button.type = 'button';
    button.addEventListener('click', () => {
      this.#chat
        ?.remove(user, { reason: 'please wait until you are called', banMs })
        .then(({ until }) => this.#add(noteItem(`Removed ${nameOf(user)}${until ? ` until ${clock(until)}` : ''}.`)))
        .catch((error: unknown) => this.#say(error instanceof LineError ? error.message : String(error)));
    });
    return button;
  }

  /** The bell with its count, and below it the notices. */
  #watchInbox(line: Line): void {
    const inbox = line.inbox();
    const show = (): void => {
      if (line !== this.#line) return;
      const bell = this.#find('.bell');
      bell.textContent = inbox.unread === 0 ? '' : String(inbox.unread);
      bell.setAttribute('aria-label', `${inbox.unread} notice${inbox.unread === 1 ? '' : 's'}`);
      bell.classList.toggle('ringing', inbox.unread > 0);
      this.#find('.inbox').replaceChildren(
        ...inbox.notices.map((notice) => {
          const item = element('li', notice.title);
          const button = element('button', 'Done') as HTMLButtonElement;
          button.type = 'button';
          button.addEventListener('click', () => void inbox.done([notice.id]).catch(() => {}));
          const { channel } = (notice.data ?? {}) as { channel?: string };
          if (channel !== undefined) {
            const open = element('button', 'Open');
            open.addEventListener('click', () => {
              void inbox.done([notice.id]).catch(() => {});
              this.#goTo(channel);
            });
            item.append(open);
          }
          item.append(button);
          return item;
        }),
        ...(inbox.unread === 0 ? [element('li', 'Nothing to know just now.')] : []),
      );
    };
    inbox.addEventListener('change', show);
    show();
  }

  /** What was said while there was no connection, and can still be taken back. */
  #watchOutbox(line: Line): void {
    const outbox = this.#find('.outbox');
    const show = (): void => {
      if (line !== this.#line) return;
      const waiting = line.outbox.messages.filter(({ sent }) => !sent);
      this.#stayAtEnd(() => {
        outbox.hidden = waiting.length === 0;
      });
      (outbox.querySelector('span') as HTMLElement).textContent =
        `${waiting.length} message${waiting.length === 1 ? '' : 's'} will be sent when there is a connection.`;
    };
    (outbox.querySelector('button') as HTMLButtonElement).onclick = () => {
      for (const each of line.outbox.messages) each.cancel();
    };
    line.outbox.addEventListener('change', show);
    show();
  }

  /** How many messages wait in the other channels, beside their names. */
  #watchUnread(line: Line): void {
    const unread = line.unread();
    const show = (): void => {
      if (line !== this.#line) return;
      const place = this.#find<HTMLSelectElement>('.channel');
      for (const channel of unread.counts.keys())
        if (![...place.options].some(({ value }) => value === channel)) place.add(new Option(channel, channel));
      for (const option of place.options) {
        const count = option.selected ? 0 : unread.of(option.value);
        option.text = count === 0 ? placeText(option.value) : `${placeText(option.value)} (${count} new)`;
      }
      const elsewhere = unread.total - unread.of(place.value);
      const badge = this.#find('.elsewhere');
      badge.textContent = elsewhere === 0 ? '' : `${elsewhere} new elsewhere`;
    };
    unread.addEventListener('change', show);
    show();
  }

  /** Who has read the last message that one sent. */
  #showRead(): void {
    const readers = this.#mine === undefined ? [] : (this.#chat?.readBy(this.#mine) ?? []);
    const names = readers.length <= 2 ? readers.map(nameOf).join(' and ') : String(readers.length);
    this.#find('.read').textContent = readers.length === 0 ? '' : `Read by ${names}`;
  }

  /** Who is here; at a desk, whether another user has the same sheet open. */
  #showHere(chat: Entry): void {
    const others = chat.members.filter(({ user }) => user !== chat.user);
    this.#stayAtEnd(() =>
      this.#find('.here').replaceChildren(
        ...(chat.count === 0 ? [] : [`${chat.count} here: `]),
        ...chat.members.flatMap((each, index) => [...(index === 0 ? [] : [', ']), this.#memberItem(each, chat)]),
        ...(chat.isCrowd ? [' and others'] : []),
      ),
    );
    const warning = this.#find('.warning');
    this.#stayAtEnd(() => {
      warning.hidden = !chat.channel.startsWith('desk/') || chat.count === 0;
    });
    warning.classList.toggle('shared', others.length > 0);
    warning.textContent =
      others.length === 0
        ? 'No other user is editing.'
        : `${others.map(({ name, user, since }) => `${name ?? user} (since ${clock(since)})`).join(' and ')} is editing this sheet, too.`;
  }

  /** A member; users who are not guests can be talked to alone. */
  #memberItem({ user, name, guest, sessions, status }: Member, chat: Entry): HTMLElement {
    const talks = !guest && user !== chat.user && personOf(chat.user ?? '') !== undefined;
    const item = element(talks ? 'button' : 'span', name ?? user);
    if (typeof status === 'string' && status !== 'available') item.dataset.state = status;
    item.title = talks ? `Talk to ${name ?? user} alone` : `${sessions} session${sessions === 1 ? '' : 's'}`;
    if (talks)
      item.addEventListener('click', () => {
        const channel = this.#line?.direct([user]).channel;
        if (channel !== undefined) this.#goTo(channel);
      });
    return item;
  }

  #goTo(channel: string): void {
    this.#find('.inbox').hidden = true;
    this.#find('.bell').setAttribute('aria-expanded', 'false');
    const place = this.#find<HTMLSelectElement>('.channel');
    if (![...place.options].some(({ value }) => value === channel)) place.add(new Option(placeText(channel), channel));
    place.value = channel;
    this.#watchAs(this.#find<HTMLSelectElement>('.person').value);
  }

  #mayTalk(may: boolean): void {
    this.#find<HTMLInputElement>('input').disabled = !may;
    this.#find<HTMLButtonElement>('form button').disabled = !may;
  }

  async #send(): Promise<void> {
    const input = this.#find<HTMLInputElement>('input');
    const text = input.value.trim();
    if (text === '' || this.#chat === undefined) return;
    input.value = '';
    this.#typing?.ended();
    this.#say('');
    try {
      await this.#chat.publish({ text });
    } catch (error) {
      input.value = text;
      if (error instanceof LineError && error.code === 'cancelled') return;
      this.#say(error instanceof LineError ? error.message : String(error));
    }
  }

  #show(state: LineState): void {
    clearInterval(this.#countdown);
    const badge = this.#find('.state');
    badge.dataset.state = this.#unplugged ? 'unplugged' : state.name;
    const tell = (): void => {
      badge.textContent = this.#unplugged ? 'unplugged' : stateText(state);
    };
    tell();
    if (state.name === 'waiting') this.#countdown = window.setInterval(tell, 250);
    const open = state.name === 'open';
    const isGuest = this.#find<HTMLSelectElement>('.person').value === '';
    const mayTalk = state.name !== 'closed' && !isGuest;
    this.#mayTalk(mayTalk);
    const input = this.#find<HTMLInputElement>('input');
    input.placeholder = isGuest ? 'Guests read along' : open ? 'Say something' : 'Say something, to be sent later';
    this.#find('.plug').textContent = this.#unplugged ? 'Plug in again' : 'Pull the plug';
    if (state.name === 'closed' && state.problem !== undefined) this.#say(state.reason);
  }

  /** Breaks the connection as a tunnel would, until it is plugged in again. */
  #plug(): void {
    this.#unplugged = !this.#unplugged;
    if (this.#unplugged) this.#socket?.close(4000);
    else this.#line?.retryNow();
    if (this.#line !== undefined) this.#show(this.#line.state);
  }

  /** The browser's WebSocket, which reaches nothing while the plug is pulled. */
  #pluggableSocket(): typeof WebSocket {
    const remember = (socket: WebSocket): void => {
      this.#socket = socket;
      if (this.#unplugged) socket.close();
    };
    return class extends WebSocket {
      constructor(url: string | URL, protocols?: string | string[]) {
        super(url, protocols);
        remember(this);
      }
    };
  }

  #add(item: HTMLElement): void {
    this.#stayAtEnd(() => this.#find('.messages').append(item));
  }

  /** A reader at the latest message still sees it after something that moves it. */
  #stayAtEnd(act: () => void): void {
    const list = this.#find('.messages');
    const atEnd = list.scrollHeight - list.scrollTop - list.clientHeight < 40;
    act();
    if (atEnd) list.scrollTop = list.scrollHeight;
  }

  #say(text: string): void {
    const trouble = this.#find('.trouble');
    trouble.textContent = text;
    trouble.hidden = text === '';
  }

  #find<E extends HTMLElement>(selector: string): E {
    return this.element.querySelector<E>(selector) as E;
  }
}

/** A direct channel by the names of those who talk there, any other by its own. */
function placeText(channel: string): string {
  if (!channel.startsWith('direct/')) return channel;
  return channel.slice('direct/'.length).split(',').map(nameOf).join(' and ');
}

/** Whether a person wrote it; joins and leaves are noted, too. */
function isSaid({ type }: ReceivedMessage): boolean {
  return type !== 'joined' && type !== 'left';
}

function messageItem(message: ReceivedMessage, state: LineState): HTMLElement {
  const item = document.createElement('li');
  const mine = message.own || (state.name === 'open' && message.by?.user === state.user);
  item.classList.toggle('mine', mine);
  if (!isSaid(message))
    return noteItem(`${message.by?.name ?? message.by?.user} has ${message.type === 'joined' ? 'come' : 'gone'}.`);
  const { text } = message.data as { text?: unknown };
  item.append(
    element('b', message.by?.name ?? message.by?.user ?? 'The committee'),
    element('time', clock(message.at)),
    element('p', typeof text === 'string' ? text : JSON.stringify(message.data)),
  );
  item.title = message.cursor;
  return item;
}

function removedText({ by, reason, until }: Removal): string {
  const who = by?.name ?? by?.user ?? 'The committee';
  return `${who} has removed you${until ? ` until ${clock(until)}` : ''}${reason ? `: ${reason}` : ''}.`;
}

function nameOf(user: string): string {
  return personOf(user)?.name ?? user;
}

function clock(at: string): string {
  return new Date(at).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit' });
}

function noteItem(text: string): HTMLElement {
  const item = element('li', text);
  item.className = 'note';
  return item;
}

function element(tag: string, text: string): HTMLElement {
  const made = document.createElement(tag);
  made.textContent = text;
  return made;
}

function stateText(state: LineState): string {
  switch (state.name) {
    case 'connecting':
      return 'connecting';
    case 'open':
      return state.guest ? `open, as ${state.userName ?? state.user}` : 'open';
    case 'waiting':
      return `waiting ${Math.max(0, Math.ceil((state.retryAt - Date.now()) / 1000))} s: ${state.reason}`;
    case 'closed':
      return `closed: ${state.reason}`;
  }
}

async function fetchToken(user: string): Promise<string> {
  const response = await fetch(`/regatta/token?user=${encodeURIComponent(user)}`);
  const { token, detail } = (await response.json()) as { token?: string; detail?: string };
  if (token === undefined) throw new Error(detail ?? 'the regatta gives no token');
  return token;
}

const only = new URLSearchParams(location.search).get('as');
const windows = document.querySelector('#windows') as HTMLElement;
for (const user of only === null ? ['pia', 'jory'] : [only === 'guest' ? '' : only])
  windows.append(new Window(user).element);
