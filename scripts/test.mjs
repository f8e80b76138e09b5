// `npm test`: sets up what is missing, then runs all suites: the linter, the type checker, and the tests.
//
//   npm test -- packages/core      some of the tests, as the test runner selects them
//   npm test -- --quick            those that need nothing but Node.js, in less than 20 seconds
//   npm run check                  the linters, and those
//   npm run release-check          what only a release needs: tarballs, image, commands of the docs, accessibility
//   npm test -- --with-release     all of it
//
// The last line counts everything.
import { spawn } from 'node:child_process';
import { chmodSync, existsSync, mkdtempSync, readFileSync, rmSync, statfsSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, relative } from 'node:path';
import { browserFile, engineFiles, root, setUp } from './setUp.mjs';

const bin = (name) => join(root, 'node_modules/.bin', name);
/** Files that take long, of packages that need nothing but Node.js. */
const notQuick = ['simulation', 'load', 'invitations', 'trace', 'sessions', 'search', 'marks', 'changes'];
const slowestFiles = 10;

const counts = { passed: 0, failed: 0, skipped: 0 };
const reasons = [];
/** Seconds that test files took, by name. */
const seconds = new Map();

const flags = ['--quick', '--check', '--release', '--with-release'];
const args = process.argv.slice(2).filter((each) => !flags.includes(each));
const has = (flag) => process.argv.includes(flag);
const folder = testFolder();
try {
  if (has('--quick') || has('--check')) await runQuick();
  else if (has('--release')) await runRelease();
  else if (args.length > 0) await runSome(args);
  else await runAll();
} catch (error) {
  console.error(error.message);
  counts.failed += 1;
} finally {
  rmSync(folder, { recursive: true, force: true, maxRetries: 5 });
}
summarize();

/** Runs what needs no Debian package. */
async function runQuick() {
  await setUp();
  if (has('--check')) await runChecks();
  const exclude = notQuick.flatMap((name) => ['--exclude', `**/${name}*.test.ts`]);
  await runTests(['--project', 'packages', ...exclude, ...args]);
}

async function runSome(selection) {
  await setUp({ browser: true, engines: true });
  sayWhatIsMissing();
  await runTests(selection);
}

/** Runs what only a release needs. */
async function runRelease() {
  await runSome(['--project', 'release', ...args]);
  await runSimulations();
}

/** Runs the checks and the packages that need nothing else, as soon as they are built, and then the others. */
async function runAll() {
  let ready;
  await new Promise((resolve, reject) => {
    ready = setUp({ browser: true, engines: true, built: resolve });
    ready.then(resolve, reject);
  });
  const startMs = performance.now();
  let said = '';
  const beside = runTests(['--project', 'packages'], (text) => {
    said += text;
  });
  await runChecks();
  await beside;
  console.log(said);
  await ready;
  sayWhatIsMissing();
  await runTests(['--project', 'service']);
  if (has('--with-release')) {
    await runTests(['--project', 'release']);
    await runSimulations();
  }
  console.log(`\nAll suites together: ${duration((performance.now() - startMs) / 1000)}`);
}

async function runChecks() {
  await check('linter', bin('biome'), ['check', '--error-on-warnings', '.']);
  await check('plain words', process.execPath, ['scripts/words.mjs']);
  await check('floors and circles', process.execPath, ['scripts/structure.mjs']);
  await check('types of the tests', bin('tsc'), ['-p', 'tsconfig.tests.json']);
}

/** Runs the simulators for longer than the tests do, and looks whether memory levels off. */
async function runSimulations() {
  const simulate = (name, ...options) => check(name, process.execPath, ['scripts/simulate.mjs', ...options]);
  await Promise.all([
    simulate('simulation of one instance', '--runs', '600', '--duration', '4000'),
    simulate('simulation of several instances', '--instances', '--runs', '650', '--duration', '3000'),
  ]);
  await Promise.all([
    simulate('longer simulation of one instance', '--from', '601', '--runs', '60'),
    simulate('simulation of presence', '--presence', '--runs', '200'),
    check('short soak', process.execPath, ['scripts/soak.mjs', '--short']),
  ]);
}

/** Runs a check that passes or fails as a whole. */
async function check(name, command, commandArgs) {
  const code = await show(command, commandArgs);
  console.log(`${code === 0 ? 'passed' : 'FAILED'}: ${name}`);
  counts[code === 0 ? 'passed' : 'failed'] += 1;
}

/**
 * Runs tests and counts them.
 *
 * @param print - receives the output, in place of the terminal
 */
async function runTests(selection, print) {
  const report = join(folder, `report-${seconds.size}.json`);
  const reporters = ['--reporter=default', '--reporter=json', `--outputFile.json=${report}`];
  const code = await show(bin('vitest'), ['run', ...reporters, ...selection], print);
  const result = JSON.parse(readFileSync(report, 'utf8'));
  counts.passed += result.numPassedTests;
  counts.failed += result.numFailedTests;
  counts.skipped += result.numPendingTests + result.numTodoTests;
  // A file that cannot even be loaded has no tests to count.
  if (code !== 0 && result.numFailedTests === 0) counts.failed += 1;
  for (const { name, startTime, endTime, assertionResults } of result.testResults) {
    const file = relative(root, name);
    seconds.set(file, (endTime - startTime) / 1000);
    for (const { status, fullName, title, failureMessages } of assertionResults) {
      if (status === 'skipped' || status === 'pending') reasons.push(`skipped: ${fullName}`);
      if (status !== 'failed') continue;
      reasons.push(`FAILED: ${fullName}: ${failureMessages[0]?.split('\n', 1)[0]}`);
      reasons.push(`  To run it alone: npm test -- ${file} -t ${quoted(title)}`);
    }
  }
}

/** Runs a command. Shows its output, or gives it to `print`. */
function show(command, commandArgs, print) {
  const out = print === undefined ? 'inherit' : 'pipe';
  return new Promise((resolve) => {
    const env = { ...process.env, TMPDIR: folder };
    const child = spawn(command, commandArgs, { cwd: root, env, stdio: ['ignore', out, out] });
    for (const stream of [child.stdout, child.stderr]) stream?.setEncoding('utf8').on('data', print);
    child.on('error', (error) => {
      console.error(error.message);
      resolve(1);
    });
    child.on('close', (code) => resolve(code ?? 1));
  });
}

function summarize() {
  const slowest = [...seconds].sort(([, a], [, b]) => b - a).slice(0, slowestFiles);
  if (slowest.length > 1) console.log('\nThe slowest files, in seconds:');
  if (slowest.length > 1) for (const [file, took] of slowest) console.log(`${took.toFixed(1).padStart(8)}  ${file}`);
  console.log(`The run took ${duration(performance.now() / 1000)}, with the set-up.`);
  for (const reason of reasons) console.log(reason);
  console.log(`${counts.passed} passed, ${counts.failed} failed, ${counts.skipped} skipped`);
  process.exitCode = counts.failed > 0 ? 1 : 0;
}

function sayWhatIsMissing() {
  if (browserFile() === undefined) console.log('The page tests will be skipped: there is no Chromium');
  for (const [name, file] of Object.entries(engineFiles))
    if (!existsSync(file)) console.log(`The tests with ${name} will be skipped: there is no ${file}`);
}

/**
 * Creates the folder for everything that tests write: in memory where there is room, since a slow disk would hold up every
 * test. The account `postgres` may pass through it.
 */
function testFolder() {
  const memory = '/dev/shm';
  const roomBytes = 2 * 1024 ** 3;
  const { bavail = 0, bsize = 0 } = existsSync(memory) ? statfsSync(memory) : {};
  const made = mkdtempSync(join(bavail * bsize > roomBytes ? memory : tmpdir(), 'bells-'));
  chmodSync(made, 0o711);
  return made;
}

function duration(totalSeconds) {
  const whole = Math.round(totalSeconds);
  return whole < 60 ? `${whole} s` : `${Math.floor(whole / 60)} min ${whole % 60} s`;
}

/** Quotes a title for the shell, as the regular expression that `-t` takes. */
function quoted(title) {
  return `'${title.replaceAll(/[.*+?^${}()|[\]\\]/g, '\\$&').replaceAll("'", '.')}'`;
}
