// Checks how the files of each package may import one another: no circles, and folders in floors. Types count.
// Run by `npm run lint`. With `--print PACKAGE`, prints what each folder imports.
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { dirname, join, normalize, relative, sep } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = fileURLToPath(new URL('..', import.meta.url));

/** From the ground up: a folder imports only from folders before it in the list, and from itself. */
const floors = {
  core: [
    'model',
    'ports',
    'lib',
    'rules',
    'access',
    'contracts',
    'hooks',
    'delivery',
    'record',
    'channel',
    'presence',
    'marks',
    'reactions',
    'blocks',
    'levels',
    'boards',
    'inbox',
    'invitations',
    'direct',
    'mentions',
    'search',
    'review',
    'moderation',
    'intakes',
    'calls',
    'retention',
    'erasure',
    'cluster',
    'session',
    'engine',
    'index',
  ],
};

const importPattern = /^(?:import|export)\s[^;]*?from\s+'(\.{1,2}\/[^']+)';|import\('(\.{1,2}\/[^']+)'\)/gms;

/** The files of a folder and what each imports, both relative to it. */
function importsOf(folder) {
  const files = readdirSync(folder, { recursive: true })
    .filter((file) => /\.tsx?$/.test(file) && !file.endsWith('.d.ts'))
    .map((file) => normalize(file));
  const known = new Set(files);
  return new Map(
    files.map((file) => {
      const text = readFileSync(join(folder, file), 'utf8');
      const found = [...text.matchAll(importPattern)].map((match) => {
        const target = join(dirname(file), match[1] ?? match[2]).replace(/\.js$/, '');
        return [`${target}.ts`, `${target}.tsx`, target].find((each) => known.has(each));
      });
      return [file, [...new Set(found.filter((each) => each !== undefined))]];
    }),
  );
}

/** Groups of nodes that reach one another (Tarjan, 1972), without groups of one. */
function circlesOf(graph) {
  const index = new Map();
  const low = new Map();
  const stack = [];
  const circles = [];
  const visit = (node) => {
    index.set(node, index.size);
    low.set(node, index.get(node));
    stack.push(node);
    for (const next of graph.get(node) ?? []) {
      if (!index.has(next)) visit(next);
      if (stack.includes(next)) low.set(node, Math.min(low.get(node), low.get(next)));
    }
    if (low.get(node) !== index.get(node)) return;
    const circle = stack.splice(stack.indexOf(node));
    if (circle.length > 1) circles.push(circle);
  };
  for (const node of graph.keys()) if (!index.has(node)) visit(node);
  return circles;
}

function folderOf(file) {
  const [folder, ...rest] = file.split(sep);
  return rest.length === 0 ? file.replace(/\.tsx?$/, '') : folder;
}

function foldersOf(imports) {
  const graph = new Map();
  for (const [file, targets] of imports) {
    const from = folderOf(file);
    const all = graph.get(from) ?? new Set();
    graph.set(from, all);
    for (const target of targets) if (folderOf(target) !== from) all.add(folderOf(target));
  }
  return graph;
}

const faults = [];
const packages = readdirSync(join(root, 'packages')).filter((name) => existsSync(join(root, 'packages', name, 'src')));
/** Sources by the name that faults are reported with. */
const sources = new Map([
  ...packages.map((name) => [name, join(root, 'packages', name, 'src')]),
  ['core/testing', join(root, 'packages/core/testing')],
  ['core/simulator', join(root, 'packages/core/simulator')],
  ['demo', join(root, 'demo/src')],
  ['tests', join(root, 'tests/support')],
]);
for (const [name, folder] of sources) {
  const imports = importsOf(folder);
  for (const circle of circlesOf(imports)) faults.push(`${name}: these files import one another: ${circle.join(', ')}`);
  const folders = foldersOf(imports);
  for (const circle of circlesOf(folders))
    faults.push(`${name}: these folders import one another: ${circle.join(', ')}`);
  const order = floors[name];
  for (const [from, targets] of order === undefined ? [] : folders) {
    if (!order.includes(from))
      faults.push(`${name}: ${from} has no floor; give it one in ${relative(root, fileURLToPath(import.meta.url))}`);
    for (const target of targets)
      if (order.indexOf(target) > order.indexOf(from))
        faults.push(`${name}: ${from} imports from the floor above it: ${target}`);
  }
  if (process.argv[2] === '--print' && process.argv[3] === name)
    for (const [folder, targets] of folders) console.log(`${folder}: ${[...targets].sort().join(', ')}`);
}
for (const fault of faults) console.error(fault);
process.exitCode = faults.length === 0 ? 0 : 1;
