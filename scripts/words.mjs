// Counts stiff phrases in comments, messages and docs, so that they do not come back. Run by `npm run lint`.
// With `--list`, prints each place.
import { readdirSync, readFileSync } from 'node:fs';
import { join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = fileURLToPath(new URL('..', import.meta.url));

/** What a native engineer would not write, and what to write instead. */
const stiff = [
  [/\bwhoever\b/i, 'the user, the client, or "anyone who"'],
  [/(?<!['`":/] ?)\b(some|no|every)body\b(?!['`])/i, 'the user, a member, no client, all clients'],
  [/(?<!\b(this|each|every|another) )\bone's\b|\boneself\b|\b(?<!\w )one may\b/i, 'you, or the client'],
  [/\bof before\b/i, 'earlier, previous'],
  [/\bis as (once|nothing|usual)\b/i, 'idempotent; has no effect; the default'],
  [/\bnot (\w+ )?any ?more\b/i, 'no longer'],
  [/\bat the (most|least)\b/i, 'at most, at least'],
  [/\bof late\b/i, 'recently'],
  [/\bstands? in the way\b/i, 'prevents'],
  [/\bcalls? off\b/i, 'cancels'],
];

const skipped = new Set(['node_modules', '.git', 'screenshots']);

function* filesOf(folder) {
  for (const entry of readdirSync(folder, { withFileTypes: true })) {
    if (skipped.has(entry.name) || /^dist/.test(entry.name)) continue;
    const path = join(folder, entry.name);
    if (entry.isDirectory()) yield* filesOf(path);
    else if (/\.(ts|tsx|mjs|md)$/.test(entry.name)) yield path;
  }
}

/** Not more than there are: lower it when you have mended some. */
const max = 91;

let count = 0;
const places = ['packages', 'docs', 'demo', 'bench', 'tests', 'scripts', 'bin'].map((name) => join(root, name));
for (const path of [...places.flatMap((place) => [...filesOf(place)]), join(root, 'README.md')]) {
  if (path === fileURLToPath(import.meta.url)) continue;
  for (const [index, line] of readFileSync(path, 'utf8').split('\n').entries())
    for (const [pattern, instead] of stiff) {
      const [found] = pattern.exec(line) ?? [];
      if (found === undefined) continue;
      count += 1;
      if (process.argv.includes('--list'))
        console.log(`${relative(root, path)}:${index + 1}: ${found} -> ${instead}\n    ${line.trim()}`);
    }
}
console.log(`${count} stiff phrases, at most ${max} may be left`);
process.exitCode = count > max ? 1 : 0;
