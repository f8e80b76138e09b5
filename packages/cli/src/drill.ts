import { readdirSync, readFileSync, statSync, watch, writeFileSync } from 'node:fs';
import { basename, dirname, join, resolve } from 'node:path';
import type { Drill, DrillResult, LoadFigures, LoadOptions, Surroundings } from '@nine-bells/drills';
import { type Command, Option } from 'commander';
import colors from 'picocolors';
import { claimsOf } from './claims.js';
import { CommandError, Exit, exitCodes } from './exitCodes.js';
import { onInterrupt } from './interrupt.js';
import { collect, keyOption, wholeFrom } from './options.js';
import { note, printJson } from './output.js';

interface DrillOptions {
  readonly config?: string;
  readonly url?: string;
  readonly key?: string;
  readonly with?: string[];
  readonly seed?: number;
  readonly jobs: number;
  readonly report: 'readable' | 'tap' | 'junit' | 'json' | 'html';
  readonly processes: number;
  readonly compare?: string;
  readonly out?: string;
  readonly watch?: boolean;
  readonly outbound?: boolean;
}

/** File names of drills in a folder. */
const drillName = /\.drill\.ya?ml$/;
/** Changes within this time trigger one run, in milliseconds. */
const settleMs = 150;

/** `ninebells drill`: runs drills, and reports which expectations were met. */
export function addDrill(program: Command): void {
  program
    .command('drill')
    .description('run drills: scripted clients and what they must see, against a service in memory or a running one')
    .argument('<files...>', 'drills, or folders with files named *.drill.yaml')
    .option('--config <file>', 'start a service in memory for each drill, with this configuration')
    .option('--url <url>', 'run against this service instead; --config then only signs tokens')
    .addOption(keyOption())
    .option('--outbound', 'send hooks, questions and calls to the configured URLs; by default the drill answers')
    .option('--with <name=value>', 'a parameter of the drills, its value as JSON or else text', collect)
    .option('--seed <n>', 'seed of all random values', wholeFrom(0, 4_294_967_295))
    .option('--jobs <n>', 'number of drills that run concurrently', wholeFrom(1, 64), 4)
    .addOption(
      new Option('--report <form>', 'form of the report')
        .choices(['readable', 'tap', 'junit', 'json', 'html'])
        .default('readable'),
    )
    .option('--out <file>', 'write the report to a file, and a readable one to the terminal')
    .option('--processes <n>', 'processes that the clients of a load are spread over', wholeFrom(1, 64), 1)
    .option('--compare <file>', 'an earlier report of a load (html) to compare with')
    .option('--watch', 'run again when a drill or a configuration changes')
    .action(async (files: string[], options: DrillOptions) => {
      const forget = onInterrupt(() => void endAll());
      try {
        if (options.watch) await runAgainAndAgain(files, options);
        else if (!(await runAll(files, options))) throw new Exit(exitCodes.failed);
      } finally {
        forget();
      }
    });
}

/** Services in memory, which must be stopped to remove their data. */
const running = new Set<() => Promise<void>>();

/** Stops all services when the command is interrupted. */
async function endAll(): Promise<void> {
  await Promise.allSettled([...running].map((end) => end()));
  process.exit(exitCodes.failed);
}

/** Runs all drills once. Returns whether all have passed. */
async function runAll(names: readonly string[], options: DrillOptions): Promise<boolean> {
  const drills = await readAll(names);
  const parameters = claimsOf(options.with ?? []);
  for (const name of Object.keys(parameters))
    if (!drills.some((drill) => Object.hasOwn(drill.parameters, name)))
      throw new CommandError(exitCodes.usage, `none of these drills has a parameter ${JSON.stringify(name)}`);
  if (options.outbound && options.url !== undefined)
    throw new CommandError(
      exitCodes.usage,
      '--outbound goes with a service that the drill starts; the one at --url already sends to its configured URLs',
    );
  await checkConfigurations(drills, options);
  const { figuresIn, ReadableReport, runDrill, runLoad, seededRandom } = await import('@nine-bells/drills');
  checkForm(drills, options);
  const earlier = options.compare === undefined ? undefined : earlierIn(options.compare, figuresIn);
  const seed = options.seed ?? Math.floor(Math.random() * 4_294_967_296);
  const isTold = options.report === 'readable' || options.out !== undefined;
  const report = new ReadableReport(colors, process.stdout.columns ?? 100, earlier);
  const startMs = performance.now();
  const results: (DrillResult | undefined)[] = [];
  let told = 0;
  /** Prints results in the given order, each as soon as its predecessors have ended. */
  const tell = (): void => {
    for (let next = results[told]; next !== undefined; next = results[told]) {
      if (isTold) process.stdout.write(`${report.drill(next)}\n`);
      told += 1;
    }
  };
  let taken = 0;
  const worker = async (): Promise<void> => {
    for (let index = taken++; index < drills.length; index = taken++) {
      const drill = drills[index] as Drill;
      const { surroundings, end } = await surroundingsOf(drill, options);
      const own = Object.fromEntries(
        Object.entries(parameters).filter(([name]) => Object.hasOwn(drill.parameters, name)),
      );
      const running =
        drill.load === undefined
          ? runDrill(drill, surroundings, { random: seededRandom(seed + index), with: own })
          : runLoad(drill, surroundings, {
              seed: seed + index,
              processes: options.processes,
              with: own,
              told: await progress(isTold),
            });
      results[index] = await running.finally(end);
      tell();
    }
  };
  // Beside another, a load would measure that one, too.
  const jobs = drills.some(({ load }) => load !== undefined) ? 1 : options.jobs;
  await Promise.all(Array.from({ length: Math.min(jobs, drills.length) }, worker));
  const all = results as DrillResult[];
  const failed = all.some(({ status }) => status === 'failed');
  await giveReport(all, options, earlier);
  if (isTold) process.stdout.write(`${report.sum(all, performance.now() - startMs)}\n`);
  if (failed) note(`With the same random numbers again: --seed ${seed}`);
  return !failed;
}

async function giveReport(
  results: readonly DrillResult[],
  { report, out }: DrillOptions,
  earlier: LoadFigures | undefined,
): Promise<void> {
  if (report === 'readable' && out === undefined) return;
  const { junitReport, loadPage, tapReport, ReadableReport } = await import('@nine-bells/drills');
  const plain = { green: String, red: String, dim: String, bold: String };
  const html = (): string =>
    results.flatMap(({ load }) => (load === undefined ? [] : [loadPage(load, earlier)])).join('');
  const readable = (): string => results.map((each) => new ReadableReport(plain, 120).drill(each)).join('\n');
  const text = { readable, tap: () => tapReport(results), junit: () => junitReport(results), json: () => '', html }[
    report
  ]();
  if (out !== undefined) writeFileSync(out, report === 'json' ? `${JSON.stringify(results.map(shownResult))}\n` : text);
  else if (report === 'json') for (const result of results) printJson(shownResult(result));
  else process.stdout.write(text);
}

/** A report as a page is of one load. */
function checkForm(drills: readonly Drill[], { report, compare, out }: DrillOptions): void {
  const loads = drills.filter(({ load }) => load !== undefined).length;
  if (report === 'html' && (drills.length !== 1 || loads !== 1))
    throw new CommandError(exitCodes.usage, 'a report as html is of one drill with a load');
  if (report === 'html' && out === undefined)
    throw new CommandError(exitCodes.usage, 'say with --out into which file the report is written');
  if (compare !== undefined && loads !== 1)
    throw new CommandError(exitCodes.usage, '--compare goes with one drill that has a load');
}

function earlierIn(file: string, read: (page: string) => LoadFigures): LoadFigures {
  try {
    return read(readFileSync(file, 'utf8'));
  } catch (error) {
    throw new CommandError(exitCodes.usage, `${file}: ${(error as Error).message}`);
  }
}

/** How often a line is printed where there is no terminal, in seconds. */
const linesEvery = 10;

/** Tells how a load goes: one line that changes, or a line now and then. */
async function progress(isTold: boolean): Promise<NonNullable<LoadOptions['told']>> {
  const { secondLine } = await import('@nine-bells/drills');
  return (second, _, forMs) => {
    if (!isTold) return;
    const line = secondLine(second, forMs);
    const isLast = (second.second + 1) * 1000 >= forMs;
    if (process.stderr.isTTY) process.stderr.write(`\r\x1b[K${isLast ? '' : line}`);
    else if ((second.second + 1) % linesEvery === 0 && !isLast) note(line);
  };
}

/** A result for scripts. */
function shownResult({ drill, status, ms, steps, problem, load }: DrillResult): object {
  return {
    drill: drill.name,
    file: drill.file,
    status,
    ms: Math.round(ms),
    ...(problem === undefined ? {} : { problem }),
    ...(load === undefined ? {} : { load }),
    steps: steps.map(({ step, depth, round, status: how, ms: tookMs, failure }) => ({
      step: step.text,
      file: step.file,
      line: step.line,
      depth,
      round,
      status: how,
      ms: Math.round(tookMs),
      failure,
    })),
  };
}

/** Reads the drills of files and folders, and reports every mistake in them. */
async function readAll(names: readonly string[]): Promise<readonly Drill[]> {
  const { DrillFault, readDrill } = await import('@nine-bells/drills');
  const faults: string[] = [];
  const drills: Drill[] = [];
  for (const file of names.flatMap(filesOf))
    try {
      drills.push(readDrill(file));
    } catch (error) {
      if (!(error instanceof DrillFault)) throw error;
      faults.push(error.message);
    }
  if (faults.length > 0) throw new CommandError(exitCodes.usage, `nothing was run:\n${faults.join('\n')}`);
  return drills;
}

function filesOf(name: string): readonly string[] {
  let isFolder = false;
  try {
    isFolder = statSync(name).isDirectory();
  } catch {
    // Reading it will report why it cannot be read.
  }
  if (!isFolder) return [name];
  const found = drillsUnder(name);
  if (found.length === 0) throw new CommandError(exitCodes.usage, `there is no file *.drill.yaml in ${name}`);
  return found.sort();
}

/** Drills in a folder and its subfolders, except node_modules and hidden folders. */
function drillsUnder(folder: string): string[] {
  return readdirSync(folder, { withFileTypes: true }).flatMap((each) => {
    const path = join(folder, each.name);
    if (each.isDirectory()) return each.name === 'node_modules' || each.name.startsWith('.') ? [] : drillsUnder(path);
    return drillName.test(each.name) ? [path] : [];
  });
}

/** Finds mistakes in configurations before anything runs. */
async function checkConfigurations(drills: readonly Drill[], { config, url }: DrillOptions): Promise<void> {
  const files = new Set<string>();
  for (const drill of drills) {
    const file = config ?? (url === undefined ? drill.config : undefined);
    if (file !== undefined) files.add(file);
    else if (url === undefined)
      throw new CommandError(
        exitCodes.usage,
        `${drill.file} does not say with which configuration: give one with --config, or a service that runs with --url`,
      );
  }
  const { ConfigurationError, readConfiguration } = await import('@nine-bells/service');
  try {
    for (const file of files) readConfiguration(file);
  } catch (error) {
    if (error instanceof ConfigurationError) throw new CommandError(exitCodes.usage, error.message);
    throw error;
  }
}

/** The service for a drill: its own in memory, or the one at `--url`. */
async function surroundingsOf(
  drill: Drill,
  { config, url, key, outbound }: DrillOptions,
): Promise<{ surroundings: Surroundings; end: () => Promise<void> }> {
  if (url !== undefined) {
    const { readConfiguration, signToken } = await import('@nine-bells/service');
    const tokens = config === undefined ? undefined : readConfiguration(config).tokens;
    const surroundings: Surroundings = {
      url: url.replace(/\/+$/, ''),
      key,
      tokenFor: async (user, { name, roles, claims }, forMs) => {
        if (tokens === undefined)
          throw new Error(
            'there is nothing to sign tokens with: give the configuration with --config, or clients a `token`',
          );
        return signToken(tokens, { user, name, roles: roles ?? [], claims: claims ?? {}, forMs });
      },
    };
    return { surroundings, end: () => Promise.resolve() };
  }
  const { TestService } = await import('@nine-bells/testing');
  const service = await TestService.start({
    config: config ?? (drill.config as string),
    ...(outbound ? { outbound } : {}),
  });
  const end = async (): Promise<void> => {
    await service.stop();
    running.delete(end);
  };
  running.add(end);
  return { surroundings: service, end };
}

// ------------------------------------------------------------------------------------------------- watching

/** Runs the drills now, and again whenever one of their files changes, until interrupted. */
async function runAgainAndAgain(names: readonly string[], options: DrillOptions): Promise<void> {
  for (;;) {
    const sinceMs = Date.now();
    let files = names.flatMap((name) => [...filesOf(name)]);
    try {
      await runAll(names, options);
    } catch (error) {
      if (!(error instanceof CommandError)) throw error;
      process.stdout.write(`${colors.red(error.message)}\n`);
    }
    try {
      files = (await readAll(names)).flatMap(filesIn);
    } catch {
      // While a drill has a mistake, only the given files are watched.
    }
    if (options.config !== undefined) files.push(options.config);
    note(`Watching ${new Set(files).size} files; Ctrl+C ends it.`);
    await changeIn(files, sinceMs);
  }
}

/** Files of a drill, its includes and its configuration. */
function filesIn(drill: Drill): string[] {
  const included = (steps: Drill['steps']): string[] =>
    steps.flatMap((step) => {
      if (step.kind === 'include') return filesIn(step.drill);
      return 'steps' in step ? included(step.steps) : [];
    });
  return [drill.file, ...(drill.config === undefined ? [] : [drill.config]), ...included(drill.steps)];
}

/**
 * Resolves when one of the files has changed since `sinceMs`. It watches folders, since editors replace files instead of
 * writing into them.
 */
function changeIn(files: readonly string[], sinceMs: number): Promise<void> {
  const meant = new Set(files.map((file) => resolve(file)));
  return new Promise((done) => {
    let timer: NodeJS.Timeout | undefined;
    const changed = (): void => {
      clearTimeout(timer);
      timer = setTimeout(() => {
        for (const each of watchers) each.close();
        done();
      }, settleMs);
    };
    const watchers = [...new Set([...meant].map(dirname))].map((folder) =>
      watch(folder, (_, name) => {
        if (name !== null && meant.has(join(folder, basename(name)))) changed();
      }),
    );
    // A file may have changed while the drills ran.
    if ([...meant].some((file) => (statSync(file, { throwIfNoEntry: false })?.mtimeMs ?? 0) >= sinceMs)) changed();
  });
}
