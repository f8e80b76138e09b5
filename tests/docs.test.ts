import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { dirname, join, resolve } from 'node:path';
import { hookEvents } from '@nine-bells/core';
import {
  channelActs,
  closeCodes,
  problemCatalogue,
  readRequest,
  readServerFrame,
  unknownMember,
  userActs,
  verbs,
} from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { ninebells, root } from './support/command.js';

const read = (file: string): string => readFileSync(join(root, file), 'utf8');
const pages = [
  'README.md',
  'CONTRIBUTING.md',
  'SECURITY.md',
  'CHANGELOG.md',
  ...readdirSync(join(root, 'docs'))
    .filter((name) => name.endsWith('.md'))
    .map((name) => `docs/${name}`),
];

/** The anchors of a page's headings, as Markdown renderers make them. */
function anchorsOf(file: string): readonly string[] {
  const headings = read(file)
    .replace(/^```[\s\S]*?^```/gm, '')
    .matchAll(/^#+ (.*)$/gm);
  const seen = new Map<string, number>();
  return [...headings].map(([, heading = '']) => {
    const text = heading.replace(/\[([^\]]*)\]\([^)]*\)/g, '$1').toLowerCase();
    const anchor = text
      .replace(/[^\p{L}\p{N}\s_-]/gu, '')
      .trim()
      .replace(/\s/g, '-');
    const count = seen.get(anchor) ?? 0;
    seen.set(anchor, count + 1);
    return count === 0 ? anchor : `${anchor}-${count}`;
  });
}

describe('docs/protocol.md and the types', () => {
  const page = read('docs/protocol.md');

  it('name the same problem codes, with the same HTTP statuses', () => {
    const table = [...page.matchAll(/^\| `([a-z-]+)` \| (\d{3}) \|/gm)].map(([, code, status]) => [
      code,
      Number(status),
    ]);
    expect(Object.fromEntries(table)).toEqual(
      Object.fromEntries(Object.entries(problemCatalogue).map(([code, { status }]) => [code, status])),
    );
  });

  it('name the same close codes', () => {
    const table = [...page.matchAll(/^\| (\d{4}) \|/gm)].map(([, code]) => Number(code));
    expect(table).toEqual(Object.values(closeCodes).sort((a, b) => a - b));
  });

  it('name the same verbs', () => {
    const reading = readRequest('{"do":"?"}');
    const verbs = reading.ok ? '' : (reading.problem.detail ?? '');
    for (const verb of verbs.replace('the verbs are ', '').split(', ')) expect(page).toMatch(new RegExp(`\`${verb}\``));
  });

  it('agree on the frames that are shown, one for each verb', () => {
    const frames = [...page.matchAll(/```json\n([\s\S]*?)```/g)].flatMap(([, text]) =>
      (text as string).split('\n').filter((line) => line !== ''),
    );
    const shown = new Set<string>();
    for (const frame of frames) {
      const value = JSON.parse(frame);
      if ('on' in value && !('do' in value)) expect(readServerFrame(frame)).toEqual(value);
      if (!('do' in value)) continue;
      const reading = readRequest(frame);
      expect(reading).toMatchObject({ ok: true });
      if (reading.ok) expect(unknownMember(reading.request)).toBeUndefined();
      shown.add(value.do);
    }
    expect([...shown].sort()).toEqual([...verbs].sort());
  });
});

describe('the docs', () => {
  it.each(pages)('%s links only to headings that are there', (file) => {
    for (const [, page = '', heading = ''] of read(file).matchAll(/\]\(([^)#\s:]*)#([^)\s]+)\)/g)) {
      const target = page === '' ? file : join(dirname(file), page);
      if (target.endsWith('.md')) expect(anchorsOf(target), `${file} -> ${page}#${heading}`).toContain(heading);
    }
  });

  it.each(['http', 'access', 'configuration'])('name every act in docs/%s.md', (page) => {
    const isUsers = page !== 'configuration';
    for (const act of [...channelActs, ...(isUsers ? userActs : [])])
      expect(read(`docs/${page}.md`)).toContain(`\`${act}\``);
  });

  it('name every event of hooks, with its data', () => {
    const rows = [...read('docs/webhooks.md').matchAll(/^\| (`[a-z`, -]+`) \| [^|]+ \| [^|]+ \|$/gm)].map(
      ([, names]) => names,
    );
    for (const event of hookEvents)
      expect(
        rows.some((each) => each?.includes(`\`${event}\``)),
        event,
      ).toBe(true);
  });

  it.each(pages)('%s links only to what is there', (file) => {
    for (const [, target] of read(file).matchAll(/\]\(([^)#\s]+)[^)]*\)/g))
      if (!/^[a-z]+:/.test(target as string))
        expect(existsSync(resolve(root, dirname(file), target as string)), `${file} -> ${target}`).toBe(true);
  });

  it('describe every command and its exit codes', async () => {
    const { out } = await ninebells(['--help']);
    const page = read('docs/command-line.md');
    const commands = [...out.matchAll(/^ {2}([a-z-]+)(?: \[| <| {2,})/gm)].map(([, name]) => name as string);
    expect(commands.length).toBeGreaterThan(18);
    for (const name of commands.filter((each) => each !== 'help')) expect(page).toContain(`| \`${name}`);
    for (let code = 0; code <= 6; code++) expect(page).toContain(`| ${code} |`);
    // A command without a group would stand under the heading `Commands`.
    const groups = [...out.matchAll(/^([A-Z][a-z ]+):$/gm)]
      .map(([, name]) => name)
      .filter((name) => name !== 'Options');
    const headings = [...page.matchAll(/^## (.+)$/gm)].map(([, name]) => name);
    expect(groups).toEqual(headings.slice(0, -1));
  });

  it('show every picture in the tour', () => {
    const tour = read('docs/tour.md');
    for (const picture of readdirSync(join(root, 'docs/screenshots'))) expect(tour).toContain(`screenshots/${picture}`);
  });

  it.each(pages)('%s has lines of at most 120 characters, but for tables, code and pictures', (file) => {
    let isCode = false;
    const long = read(file)
      .split('\n')
      .filter((line) => {
        if (line.startsWith('```')) isCode = !isCode;
        return !isCode && line.length > 120 && !/^(\||!\[| {4})/.test(line);
      });
    expect(long).toEqual([]);
  });
});

describe('docs/architecture.md', () => {
  const flows = read('docs/architecture.md')
    .split(/^### /m)
    .slice(1)
    .map((text) => ({
      name: text.split('\n')[0] as string,
      steps: [...text.matchAll(/^\| `(packages\/[^`]+)` \| `([^`]+)`:/gm)].map(([, file, mark]) => [file, mark]),
    }));

  it('walks through eight flows', () => expect(flows).toHaveLength(8));

  it.each(flows)('$name: at most eight files, each with what is named', ({ steps }) => {
    expect(steps.length).toBeGreaterThan(3);
    expect(new Set(steps.map(([file]) => file)).size).toBeLessThanOrEqual(8);
    for (const [file, mark] of steps)
      expect([file, read(file as string).includes(mark as string)]).toEqual([file, true]);
  });
});

describe('docs/scaling.md', () => {
  const [, table = ''] = read('docs/scaling.md').split('### What holds when something fails');
  const rows = (table.split('\n\n').find((each) => each.startsWith('| what | what happens')) ?? '')
    .split('\n')
    .slice(2);

  it('names for each failure the test that proves what happens', () => {
    expect(rows.length).toBeGreaterThan(15);
    for (const row of rows) {
      const proofs = [...row.matchAll(/`([^`]+\.ts)`: ([^;|]+)/g)];
      expect(proofs.length, row).toBeGreaterThan(0);
      for (const [, file, title] of proofs)
        expect(read(file as string).replaceAll('’', "'"), row).toContain((title as string).trim());
    }
  });
});
