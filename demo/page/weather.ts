import type { Reading } from '../src/regatta.js';
import { element, find } from './dom.js';

/** Most readings that are shown. */
const maxShown = 18;
/** Wind directions that the buoy reports. */
const directions = ['south-west', 'west', 'west-south-west'];
/** Maximum wind of the chart, in knots. */
const strongest = 24;

interface Told {
  readonly at: string;
  readonly data: Reading;
}

const page = document.body;
const from = find<HTMLSelectElement>(page, '.from');
from.add(new Option('anywhere', ''));
for (const each of directions) from.add(new Option(each, each));

let stream: EventSource | undefined;

/** Listens to the station: with a direction, only to readings that have it. */
function listen(): void {
  stream?.close();
  const query = new URLSearchParams({ channel: 'weather/north-mark', type: 'reading', last: String(maxShown) });
  if (from.value !== '') query.set('where', `/from:${from.value}`);
  const url = `/line/listen?${decodeURIComponent(query.toString())}`;
  find(page, '.asked code').textContent = url;
  find(page, '.readings tbody').replaceChildren();
  find(page, '.knots span').textContent = '–';
  stream = new EventSource(url);
  // It connects again by itself, and goes on behind the last event that it has.
  stream.onopen = () => say('connected');
  stream.onerror = () => say('not connected; trying again');
  stream.addEventListener('message', (event) => show(JSON.parse(event.data) as Told));
}

function say(text: string): void {
  find(page, '.connected').textContent = text;
}

function show({ at, data: { knots, from: where } }: Told): void {
  find(page, '.knots span').textContent = knots.toFixed(1);
  const bar = document.createElement('meter');
  Object.assign(bar, { min: 0, max: strongest, value: knots });
  bar.setAttribute('aria-label', `${knots} knots`);
  const cell = document.createElement('td');
  cell.append(bar);
  const row = document.createElement('tr');
  row.append(
    element('td', new Date(at).toLocaleTimeString('en-GB')),
    element('td', knots.toFixed(1)),
    cell,
    element('td', where),
  );
  const rows = find(page, '.readings tbody');
  rows.prepend(row);
  while (rows.children.length > maxShown) rows.lastElementChild?.remove();
}

from.addEventListener('change', listen);
listen();
