import { connect, Motion } from '@nine-bells/client';
import { boats } from '../src/course.js';
import type { Regatta } from '../src/regatta.js';
import { Chart, nameOf } from './chart.js';
import { element, find } from './dom.js';

/** Bytes of text received over the page's own WebSocket. */
let received = 0;

class CountingSocket extends WebSocket {
  constructor(url: string | URL, protocols?: string | string[]) {
    super(url, protocols);
    this.addEventListener('message', ({ data }) => {
      received += String(data).length;
    });
  }
}

const page = document.body;
const line = connect<Regatta>(location.origin, { WebSocket: CountingSocket });
const race = line.enter('race/3/positions');
const motion = new Motion(race.board, { angles: ['heading'] });
const chart = new Chart(find<HTMLCanvasElement>(page, 'canvas'));

/** Reports that were replaced by later ones before they got here: those between two numbers that did. */
let merged = 0;
const lastReport = new Map<string, number>();
race.board.addEventListener('change', ({ detail: { set, gone } }) => {
  for (const [boat, { n = 0 }] of set) {
    const before = lastReport.get(boat);
    if (before !== undefined && n > before) merged += n - before - 1;
    lastReport.set(boat, n);
  }
  for (const boat of gone) lastReport.delete(boat);
});

line.enter('race/3/signals', { last: 1 }).addEventListener('message', ({ detail: { data } }) => {
  find(page, '.signal').textContent = data.text;
});

function draw(): void {
  chart.draw(motion.at(performance.now()));
  requestAnimationFrame(draw);
}
draw();

/** The same as text, for readers and for those who do not see the chart. */
function list(): void {
  const rows = boats.flatMap((boat) => {
    const position = race.board.get(boat);
    if (position === undefined) return [];
    const row = document.createElement('tr');
    const { speed = 0, heading = 0, to = '' } = position;
    row.append(...[nameOf(boat), speed.toFixed(1), `${Math.round(heading)}°`, to].map((text) => element('td', text)));
    return [row];
  });
  find(page, '.fleet tbody').replaceChildren(...rows);
  const figures = {
    frames: String(race.board.frames),
    bytes: `${(received / 1024).toFixed(1)} KiB`,
    merged: String(merged),
  };
  for (const [name, text] of Object.entries(figures)) find(page, `[data-of="${name}"]`).textContent = text;
}
list();
setInterval(list, 500);
