import type { Line } from '@nine-bells/client';
import { find, stayAtEnd } from './dom.js';
import { counted } from './words.js';

/** Shows waiting messages, which the user can still take back. Returns a function that removes the bar. */
export function showOutbox(line: Line, pane: HTMLElement): () => void {
  const bar = find(pane, '.outbox');
  const show = (): void => {
    const waiting = line.outbox.messages.filter(({ sent }) => !sent).length;
    stayAtEnd(find(pane, '.messages'), () => {
      bar.hidden = waiting === 0;
    });
    find(bar, 'span').textContent = `${counted(waiting, 'message')} will be sent when there is a connection.`;
  };
  find(bar, 'button').onclick = () => {
    for (const each of line.outbox.messages) each.cancel();
  };
  line.outbox.addEventListener('change', show);
  show();
  return () => line.outbox.removeEventListener('change', show);
}
