// `npm test`: sets up what is missing, then runs all suites: the linter, the type checker, and the tests.
// Arguments go to the test runner, for example `npm test -- packages/core`; `npm test -- --quick` runs what needs nothing but
// Node.js, in less than 20 seconds, and `npm run check` the linters besides. The last line counts everything.
import { spawn } from 'node:child_process';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { chromium, engineFiles, root, setUp } from './setUp.mjs';

const bin = (name) => join(root, 'node_modules/.bin', name);
const projects = (names) => names.flatMap((name) => ['--project', name]);
/** The packages by themselves: those that need no database, and all. */
const light = ['wire', 'core', 'client', 'drills', 'console'];
const inside = [...light, 'service'];
/** The projects that need nothing but Node.js, and what of them takes long. */
const quick = [
  ...projects(inside),
  ...['**/simulation*.test.ts', '**/postgres.test.ts'].flatMap((name) => ['--exclude', name]),
];
/** Of those that cross packages, the ones that compute most, and need neither Redis nor PostgreSQL. */
const busy = ['tests/pages.test.ts', 'tests/drills.test.ts', 'tests/access.test.ts'];
const counts = { passed: 0, failed: 0, skipped: 0 };
const reasons = [];

try {
  // What needs no Debian package: the packages alone, without browser, Redis and PostgreSQL, and without long simulations.
  const isCheck = process.argv.includes('--check');
  const isQuick = isCheck || process.argv.includes('--quick');
  const args = process.argv.slice(2).filter((each) => each !== '--quick' && each !== '--check');
  const isAll = !isQuick && args.length === 0;
  let ready;
  await new Promise((resolve, reject) => {
    ready = setUp({ browser: !isQuick, engines: !isQuick, built: resolve });
    ready.then(resolve, reject);
  });
  const beside = isAll ? runBeside(ready) : undefined;
  if (isAll || isCheck) {
    await check('linter', bin('biome'), ['check', '--error-on-warnings', '.']);
    await check('plain words', process.execPath, ['scripts/words.mjs']);
    await check('floors and circles', process.execPath, ['scripts/structure.mjs']);
    await check('types of the tests', bin('tsc'), ['-p', 'tsconfig.tests.json']);
  }
  await ready;
  if (!isQuick && !existsSync(chromium)) console.log(`The page tests will be skipped: there is no ${chromium}`);
  for (const [name, file] of Object.entries(engineFiles))
    if (!isQuick && !existsSync(file)) console.log(`The tests with ${name} will be skipped: there is no ${file}`);
  if (beside === undefined) await runTests(isQuick ? [...quick, ...args] : args);
  else {
    await runTests([...projects(['crossing']), ...busy.flatMap((file) => ['--exclude', file])]);
    console.log(await beside);
  }
} catch (error) {
  console.error(error.message);
  counts.failed += 1;
}
for (const reason of reasons) console.log(reason);
console.log(`${counts.passed} passed, ${counts.failed} failed, ${counts.skipped} skipped`);
process.exitCode = counts.failed > 0 ? 1 : 0;

/** A check that passes or fails as a whole. */
async function check(name, command, args) {
  const code = await show(command, args);
  console.log(`${code === 0 ? 'passed' : 'FAILED'}: ${name}`);
  counts[code === 0 ? 'passed' : 'failed'] += 1;
}

/**
 * What runs beside all else that crosses packages, which mostly waits: the packages by themselves, which compute, beginning
 * with those that need no database, and the pages and drills. Gives what was said.
 */
async function runBeside(ready) {
  let said = '';
  const hear = (text) => {
    said += text;
  };
  await runTests(projects(light), hear);
  await ready;
  await runTests([...projects(['crossing']), ...busy], hear);
  await runTests(projects(['service']), hear);
  return said;
}

async function runTests(args, hear) {
  const folder = mkdtempSync(join(tmpdir(), 'bells-test-'));
  const report = join(folder, 'report.json');
  try {
    const code = await show(
      bin('vitest'),
      ['run', '--reporter=default', '--reporter=json', `--outputFile.json=${report}`, ...args],
      hear,
    );
    const result = JSON.parse(readFileSync(report, 'utf8'));
    counts.passed += result.numPassedTests;
    counts.failed += result.numFailedTests;
    counts.skipped += result.numPendingTests + result.numTodoTests;
    // A file that cannot even be loaded has no tests to count.
    if (code !== 0 && result.numFailedTests === 0) counts.failed += 1;
    for (const { assertionResults } of result.testResults)
      for (const { status, fullName, failureMessages } of assertionResults) {
        if (status === 'skipped' || status === 'pending') reasons.push(`skipped: ${fullName}`);
        if (status === 'failed') reasons.push(`FAILED: ${fullName}: ${failureMessages[0]?.split('\n', 1)[0]}`);
      }
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

/** Runs a command, and shows what it says; or gives that to `hear`. */
function show(command, args, hear) {
  const out = hear === undefined ? 'inherit' : 'pipe';
  return new Promise((resolve) => {
    const child = spawn(command, args, { cwd: root, stdio: ['ignore', out, out] });
    for (const stream of [child.stdout, child.stderr]) stream?.setEncoding('utf8').on('data', hear);
    child.on('error', (error) => {
      console.error(error.message);
      resolve(1);
    });
    child.on('close', (code) => resolve(code ?? 1));
  });
}
