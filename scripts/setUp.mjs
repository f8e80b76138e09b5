// Makes a fresh checkout ready on a bare machine: Debian packages, npm packages, builds. Nothing but Node.js is needed
// to run this file. What is there already is left alone, so that a second run takes a moment.
import { spawn, spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';

export const root = dirname(dirname(fileURLToPath(import.meta.url)));
const stamps = join(root, '.setup');
const minNode = [20, 19];

/** Paths of Chromium in Debian: its shell without windows, which takes a third less time, and the whole browser. */
const browserFiles = ['/usr/lib/chromium/chromium-headless-shell', '/usr/bin/chromium'];
/** What the tests run the service with: where Debian puts it, and the package that has it. */
export const engineFiles = {
  nginx: '/usr/sbin/nginx',
  haproxy: '/usr/sbin/haproxy',
  'redis-server': '/usr/bin/redis-server',
  postgresql: '/usr/lib/postgresql',
  pgbouncer: '/usr/sbin/pgbouncer',
  sqlite3: '/usr/bin/sqlite3',
};

/** Returns the browser that tests and pictures use, if there is one. */
export function browserFile() {
  return browserFiles.find((file) => existsSync(file));
}

/**
 * Does everything that is missing, and says what.
 *
 * @param {{ browser?: boolean, engines?: boolean, log?: (line: string) => void, built?: () => void }} [wanted] `browser`:
 *   Chromium too, if it can be had; `engines`: what the tests run the service against; `built`: called when all is ready
 *   that does not need sqlite3
 */
export async function setUp({ browser = false, engines = false, log = console.log, built: ready = () => {} } = {}) {
  checkNode();
  const compiling = await installPackages(log);
  // While sqlite3 is compiled, which takes one core for minutes, the rest is made ready.
  const rest = (async () => {
    await build(log);
    if (browser && browserFile() === undefined)
      await aptInstall(
        ['chromium-headless-shell', 'fonts-dejavu-core', 'fonts-liberation'],
        'the browser for the page tests',
        log,
      );
    const missing = Object.keys(engineFiles).filter((name) => !existsSync(engineFiles[name]));
    if (engines && missing.length > 0) await aptInstall(missing, 'what the tests run the service with', log);
    ready();
  })();
  for (const each of await Promise.allSettled([compiling.done, rest]))
    if (each.status === 'rejected') throw each.reason;
}

function checkNode() {
  const [major, minor] = process.versions.node.split('.').map(Number);
  if (major > minNode[0] || (major === minNode[0] && minor >= minNode[1])) return;
  throw new Error(`Node.js ${minNode.join('.')} or newer is needed; this is ${process.versions.node}`);
}

// ------------------------------------------------------------------------------------------ Debian packages

/** Installs Debian packages where that is possible, else says the line to type. Returns whether they are there. */
async function aptInstall(packages, purpose, log) {
  const line = `apt-get install -y --no-install-recommends ${packages.join(' ')}`;
  if (process.getuid?.() !== 0 || !onPath('apt-get')) {
    log(`For ${purpose}, please run as root: ${line}`);
    return false;
  }
  log(`Installing ${purpose}: ${packages.join(', ')}`);
  const env = { ...process.env, DEBIAN_FRONTEND: 'noninteractive' };
  const stayDown = keepServicesDown();
  try {
    await loudly('apt-get', ['update', '-qq'], env);
    const code = await loudly('apt-get', line.split(' ').slice(1), env);
    if (code !== 0) log(`That did not work (exit code ${code}). By hand: ${line}`);
    return code === 0;
  } finally {
    stayDown();
  }
}

/** Runs a command whose complaints are shown, and gives its exit code. */
function loudly(command, args, env) {
  return new Promise((resolve) => {
    const child = spawn(command, args, { env, stdio: ['ignore', 'ignore', 'inherit'] });
    child.on('error', () => resolve(1));
    child.on('close', (code) => resolve(code ?? 1));
  });
}

/** While packages are being installed, none of them may start a service (Debian's policy-rc.d). */
function keepServicesDown() {
  const policy = '/usr/sbin/policy-rc.d';
  if (existsSync(policy)) return () => {};
  try {
    writeFileSync(policy, '#!/bin/sh\nexit 101\n', { mode: 0o755 });
  } catch {
    return () => {};
  }
  return () => rmSync(policy, { force: true });
}

function onPath(command) {
  return (process.env.PATH ?? '').split(':').some((folder) => existsSync(join(folder, command)));
}

// --------------------------------------------------------------------------------------------- npm packages

/** Installs what is missing; `done` of what comes back settles when sqlite3, the only one to be compiled, is ready. */
async function installPackages(log) {
  const wanted = hashOf([join(root, 'package-lock.json')], `${process.version} ${process.arch}`);
  if (readStamp('packages') === wanted && sqliteLoads()) return { done: Promise.resolve() };
  const missing = ['python3', 'make', 'g++'].filter((tool) => !onPath(tool));
  if (missing.length > 0) await aptInstall(missing, 'what compiles sqlite3', log);
  log('Installing npm packages; sqlite3 is compiled, which takes about three minutes');
  await run('npm', ['ci', '--no-audit', '--no-fund', '--ignore-scripts'], log);
  const compile = async () => {
    const said = await run('npm', ['rebuild', 'sqlite3', '--foreground-scripts'], log);
    if (!sqliteLoads()) throw new Error(`${said}\nsqlite3 does not load; see the messages of its compilation above`);
    writeStamp('packages', wanted);
  };
  return { done: compile() };
}

function sqliteLoads() {
  const { status } = spawnSync(process.execPath, ['-e', "require('sqlite3')"], { cwd: root, stdio: 'ignore' });
  return status === 0;
}

/** For npm: compile against the headers that lie beside this very Node.js, and download nothing ready-made. */
function compilerEnvironment() {
  const prefix = dirname(dirname(process.execPath));
  const headers = existsSync(join(prefix, 'include/node/node.h')) ? { npm_config_nodedir: prefix } : {};
  return { ...process.env, ...headers, npm_config_build_from_source: 'true', npm_config_update_notifier: 'false' };
}

// ---------------------------------------------------------------------------------------------------- builds

/** What the builds make, one file each. */
const built = [
  'packages/wire/dist/schemas.js',
  'packages/cli/dist/main.js',
  'packages/client/dist/browser/client.js',
  'packages/console/dist/index.html',
  'packages/core/dist-simulator/main.js',
  'demo/dist/index.js',
  'demo/dist-page/index.html',
];

/** Builds what has changed: the TypeScript projects, then the pages. */
export async function build(log = console.log) {
  const sources = [
    'packages',
    'demo',
    'scripts/makeSchemas.mjs',
    'tsconfig.json',
    'tsconfig.base.json',
    'package-lock.json',
  ].map((name) => join(root, name));
  const wanted = hashOf(sources.flatMap(filesUnder));
  if (readStamp('build') === wanted && built.every((file) => existsSync(join(root, file)))) return;
  log('Building');
  // A build that fails leaves some of its output: the next one must not take that for its own.
  writeStamp('build', '');
  await buildWriter(log);
  const bin = join(root, 'node_modules/.bin');
  await run(process.execPath, [join(root, 'scripts/makeSchemas.mjs')], log);
  await run(join(bin, 'tsc'), ['-b', '.', 'packages/core/simulator'], log);
  for (const folder of ['packages/client', 'packages/console', 'demo'])
    await run(join(bin, 'vite'), ['build', '--logLevel', 'warn'], log, join(root, folder));
  writeStamp('build', wanted);
}

/** Builds the native writer, where that is possible: the service runs without it too. */
async function buildWriter(log) {
  const folder = join(root, 'packages/writer');
  const wanted = hashOf(
    ['writer.c', 'binding.gyp'].map((name) => join(folder, name)),
    `${process.version} ${process.arch}`,
  );
  if (readStamp('writer') === wanted) return;
  const said = await run('npm', ['run', '--silent', 'install'], log, folder);
  const why = /^The native writer was not built.*/m.exec(said)?.[0];
  if (why !== undefined) log(why);
  writeStamp('writer', wanted);
}

/** The source files under a path, without what is built or installed. */
function filesUnder(path) {
  if (!statSync(path).isDirectory()) return [path];
  return readdirSync(path, { withFileTypes: true })
    .filter(({ name }) => !['node_modules', 'build', 'test'].includes(name) && !name.startsWith('dist'))
    .flatMap(({ name }) => filesUnder(join(path, name)));
}

// --------------------------------------------------------------------------------------------------- details

/** Runs a command and gives what it prints; that is shown only if it fails. */
export function run(command, args, log, cwd = root) {
  return new Promise((resolve, reject) => {
    const child = spawn(command, args, { cwd, env: compilerEnvironment(), stdio: ['ignore', 'pipe', 'pipe'] });
    const output = [];
    child.stdout.on('data', (data) => output.push(data));
    child.stderr.on('data', (data) => output.push(data));
    child.on('error', reject);
    child.on('close', (code) => {
      if (code === 0) return resolve(Buffer.concat(output).toString());
      log(Buffer.concat(output).toString());
      reject(new Error(`${command} ${args.join(' ')} failed with exit code ${code}`));
    });
  });
}

function hashOf(files, more = '') {
  const hash = createHash('sha256').update(more);
  // By its place in the checkout, which may be moved or copied.
  for (const file of files.sort()) hash.update(relative(root, file)).update(readFileSync(file));
  return hash.digest('hex');
}

function readStamp(name) {
  try {
    return readFileSync(join(stamps, name), 'utf8');
  } catch {
    return '';
  }
}

function writeStamp(name, value) {
  mkdirSync(stamps, { recursive: true });
  writeFileSync(join(stamps, name), value);
}
