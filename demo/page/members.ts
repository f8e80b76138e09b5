import type { Entry, Member } from '@nine-bells/client';
import { personOf } from '../src/people.js';
import { element, find, stayAtEnd } from './dom.js';
import { clock, counted } from './words.js';

/** Shows who is here; at a desk, whether another user has the same sheet open. */
export function showMembers(chat: Entry, pane: HTMLElement, talkTo: (user: string) => void): void {
  const show = (): void => {
    const others = chat.members.filter(({ user }) => user !== chat.user);
    const warning = find(pane, '.warning');
    stayAtEnd(find(pane, '.messages'), () => {
      find(pane, '.here').replaceChildren(
        ...(chat.count === 0 ? [] : [`${chat.count} here: `]),
        ...chat.members.flatMap((each, index) => [...(index === 0 ? [] : [', ']), memberItem(each, chat, talkTo)]),
        ...(chat.isCrowd ? [' and others'] : []),
      );
      warning.hidden = !chat.channel.startsWith('desk/') || chat.count === 0;
    });
    warning.classList.toggle('shared', others.length > 0);
    const names = others.map(({ name, user, since }) => `${name ?? user} (since ${clock(since)})`).join(' and ');
    warning.textContent = others.length === 0 ? 'No other user is editing.' : `${names} is editing this sheet, too.`;
  };
  chat.addEventListener('members', show);
  show();
}

/** A member; users who are not guests can be talked to alone. */
function memberItem(member: Member, chat: Entry, talkTo: (user: string) => void): HTMLElement {
  const { user, name, guest, sessions, status } = member;
  const talks = !guest && user !== chat.user && personOf(chat.user ?? '') !== undefined;
  const item = element(talks ? 'button' : 'span', name ?? user);
  if (typeof status === 'string' && status !== 'available') item.dataset.state = status;
  item.title = talks ? `Talk to ${name ?? user} alone` : counted(sessions, 'session');
  if (talks) item.addEventListener('click', () => talkTo(user));
  return item;
}
