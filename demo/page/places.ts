import type { Line } from '@nine-bells/client';
import { find } from './dom.js';
import { placeText } from './words.js';

/** The choice of a channel. It adds a direct channel when needed. */
export function addPlace(place: HTMLSelectElement, channel: string): void {
  if (![...place.options].some(({ value }) => value === channel)) place.add(new Option(placeText(channel), channel));
}

/** Shows how many messages wait in the other channels, beside their names. Gives a function that stops it. */
export function showPlaces(line: Line, pane: HTMLElement): () => void {
  const unread = line.unread();
  const show = (): void => {
    const place = find<HTMLSelectElement>(pane, '.channel');
    for (const channel of unread.counts.keys()) addPlace(place, channel);
    for (const option of place.options) {
      const count = option.selected ? 0 : unread.of(option.value);
      option.text = count === 0 ? placeText(option.value) : `${placeText(option.value)} (${count} new)`;
    }
    const elsewhere = unread.total - unread.of(place.value);
    find(pane, '.elsewhere').textContent = elsewhere === 0 ? '' : `${elsewhere} new elsewhere`;
  };
  unread.addEventListener('change', show);
  show();
  return () => unread.removeEventListener('change', show);
}
