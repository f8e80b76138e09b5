import type { Line } from '@nine-bells/client';
import { button, element, find } from './dom.js';
import { counted } from './words.js';

/** Duration of a toast, in milliseconds. */
const toastMs = 6_000;

/** Shows a new notice for a moment. */
export function showToast(pane: HTMLElement, title: string): void {
  const toast = find(pane, '.toast');
  toast.textContent = title;
  toast.hidden = false;
  setTimeout(() => {
    if (toast.textContent === title) toast.hidden = true;
  }, toastMs);
}

/** Shows the bell with the number of notices, and the notices below it. Gives a function that stops it. */
export function showBell(line: Line, pane: HTMLElement, goTo: (channel: string) => void): () => void {
  const inbox = line.inbox();
  const show = (): void => {
    const bell = find(pane, '.bell');
    bell.textContent = inbox.unread === 0 ? '' : String(inbox.unread);
    bell.setAttribute('aria-label', counted(inbox.unread, 'notice'));
    bell.classList.toggle('ringing', inbox.unread > 0);
    const items = inbox.notices.map(({ id, title, data }) => {
      const item = element('li', title);
      const done = (): void => void inbox.done([id]).catch(() => {});
      const { channel } = (data ?? {}) as { channel?: string };
      if (channel !== undefined)
        item.append(
          button('Open', () => {
            done();
            goTo(channel);
          }),
        );
      item.append(button('Done', done));
      return item;
    });
    const none = inbox.unread === 0 ? [element('li', 'Nothing to know just now.')] : [];
    find(pane, '.inbox').replaceChildren(...items, ...none);
  };
  const toast = ({ detail }: CustomEvent<{ title: string }>): void => showToast(pane, detail.title);
  inbox.addEventListener('change', show);
  inbox.addEventListener('notice', toast);
  show();
  return () => {
    inbox.removeEventListener('change', show);
    inbox.removeEventListener('notice', toast);
  };
}
