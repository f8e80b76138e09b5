import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import type { LoadFigures } from '../run/results.js';
import { loadLines } from './loadText.js';

/** The element that holds the figures. */
const holder = 'figures';
const elementStart = `<script type="application/json" id="${holder}">`;

/** The figures of a load as one page that needs nothing else: charts over time, and the figures themselves as JSON. */
export function loadPage(figures: LoadFigures, earlier?: LoadFigures): string {
  const packages = createRequire(import.meta.url);
  const chart = readFileSync(packages.resolve('uplot/dist/uPlot.iife.min.js'), 'utf8');
  const style = readFileSync(packages.resolve('uplot/dist/uPlot.min.css'), 'utf8');
  const { must, name, at, machine, doubts } = figures;
  return `<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>${escaped(name)}</title>
<style>${style}${ownStyle}</style>
<h1>${escaped(name)}</h1>
<p class="faint">${escaped(at)}, ${escaped(machine)}</p>
${must.length === 0 ? '' : `<ul class="must">${must.map(({ text, found, isKept }) => `<li class="${isKept ? 'kept' : 'broken'}">${isKept ? 'kept' : 'broken'}: <b>${escaped(text)}</b>, it is ${escaped(found)}</li>`).join('')}</ul>`}
${doubts.map((doubt) => `<p class="broken">Doubtful: ${escaped(doubt)}.</p>`).join('')}
<pre>${escaped(loadLines(figures, earlier).join('\n'))}</pre>
<p class="faint">Times are counted from the moment at which a request was due, not from when it was sent: a service that holds up its clients does not look faster for it.${earlier === undefined ? '' : ` Dashed: ${escaped(earlier.at)}.`}</p>
<div id="charts"></div>
${elementStart}${JSON.stringify({ figures, earlier }).replaceAll('<', '\\u003c')}</script>
<script>${chart}</script>
<script>${ownScript}</script>
</html>
`;
}

/**
 * Reads the figures of an earlier report.
 *
 * @throws {Error} if the text is not such a page
 */
export function figuresIn(page: string): LoadFigures {
  const from = page.indexOf(elementStart);
  if (from < 0) throw new Error('it is not a report of a load');
  const text = page.slice(from + elementStart.length, page.indexOf('</script>', from));
  return (JSON.parse(text) as { figures: LoadFigures }).figures;
}

function escaped(text: string): string {
  return text.replaceAll('&', '&amp;').replaceAll('<', '&lt;').replaceAll('>', '&gt;').replaceAll('"', '&quot;');
}

const ownStyle = `
:root { color-scheme: light; --ink: #1d2b36; --faint: #56636d; --line: #d8d2c1; --tide: #2b6a7c; --alarm: #a8321f; }
body { margin: 1.5rem auto; max-width: 76rem; padding: 0 1rem; background: #f4f1e8; color: var(--ink); font: 16px/1.45 system-ui, sans-serif; }
h1 { font-family: Palatino, Georgia, serif; margin: 0; }
pre { background: #fdfcf7; border: 1px solid var(--line); padding: 0.8rem; overflow: auto; }
.faint { color: var(--faint); }
.must { list-style: none; padding: 0; }
.kept { color: var(--tide); }
.broken { color: var(--alarm); }
#charts { display: grid; grid-template-columns: repeat(auto-fit, minmax(30rem, 1fr)); gap: 1rem; }
#charts > div { background: #fdfcf7; border: 1px solid var(--line); padding: 0.6rem; }
`;

const ownScript = `
const { figures, earlier } = JSON.parse(document.getElementById('${holder}').textContent);
const colors = ['#2b6a7c', '#855708', '#a8321f', '#5a4a8a'];
const many = (n) => n >= 1e6 ? n / 1e6 + 'M' : n >= 1e3 ? n / 1e3 + 'k' : n;
const charts = [
  ['Delivery, ms', ['p50', 'p99', 'max'].map((share) => [share, (s) => s.delivery?.[share]]), true],
  ['Replies, ms', ['p50', 'p99', 'max'].map((share) => [share, (s) => s.reply?.[share]]), true],
  ['Messages received a second', [['received', (s) => s.received]]],
  ['Requests, and what failed', [['requests', (s) => s.sent], ['refused', (s) => Object.values(s.refused).reduce((a, b) => a + b, 0)], ['failed', (s) => s.failed]]],
  ['The generator: share of a core, %', [['busiest', (s) => s.generator.cpu * 100]]],
  ['The service: how late its timers run, ms', [['99%', (s) => s.service?.loopDelayMs]]],
  ['The service: memory, MiB', [['resident', (s) => s.service && s.service.memoryBytes / 1048576]]],
];
const drawn = [];
for (const [title, lines, isLog] of charts) {
  const compared = earlier && lines.length > 0;
  const seconds = figures.seconds.map((s) => s.second + 1);
  const before = compared ? seconds.map((n) => earlier.seconds[n - 1]) : [];
  const data = [seconds, ...lines.map(([, of]) => figures.seconds.map((s) => of(s) ?? null))];
  if (compared) data.push(...lines.map(([, of]) => before.map((s) => (s && of(s)) ?? null)));
  if (data.slice(1).every((line) => line.every((value) => value === null))) continue;
  const box = document.createElement('div');
  document.getElementById('charts').append(box);
  // Drawn when all have their place, and so their width.
  drawn.push(() => draw(box, data, title, lines, isLog, compared));
}
for (const each of drawn) each();

function draw(box, data, title, lines, isLog, compared) {
  const series = (dash) => lines.map(([label], index) => ({
    label: dash ? label + ' before' : label, stroke: colors[index], width: dash ? 1 : 2, ...(dash ? { dash: [5, 4] } : {}),
    value: (_, value) => value === null ? '' : value >= 100 ? Math.round(value) : value.toFixed(2),
  }));
  new uPlot({
    title, width: Math.max(300, box.clientWidth - 20), height: 230,
    scales: { x: { time: false }, ...(isLog ? { y: { distr: 3 } } : { y: { range: (_, low, high) => [0, (high || 1) * 1.1] } }) },
    axes: [{ label: 's', incrs: [1, 2, 5, 10, 30, 60, 300, 600, 3600] }, { size: 60, values: (_, all) => all.map((v) => v === null ? '' : many(v)) }],
    series: [{ label: 's' }, ...series(false), ...(compared ? series(true) : [])],
  }, data, box);
}
`;
