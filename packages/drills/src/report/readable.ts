import type { Drill } from '../format/drill.js';
import type { DrillResult, LoadFigures, StepResult } from '../run/results.js';
import { loadLines } from './loadText.js';
import { cut, failureLines, stepName } from './text.js';

type Paint = (text: string) => string;

/** Terminal colours. */
export interface ReportColors {
  readonly green: Paint;
  readonly red: Paint;
  readonly dim: Paint;
  readonly bold: Paint;
}

/** A report for people, with details of the failed step. */
export class ReadableReport {
  readonly #colors: ReportColors;
  /** Maximum width of a line, in characters. */
  readonly #columns: number;
  readonly #earlier: LoadFigures | undefined;

  /** @param earlier - figures of an earlier load to compare with */
  constructor(colors: ReportColors, columns: number, earlier?: LoadFigures) {
    this.#colors = colors;
    this.#earlier = earlier;
    this.#columns = columns;
  }

  /** Formats the result of one drill. */
  drill(result: DrillResult): string {
    const { bold, dim, red } = this.#colors;
    const { drill } = result;
    const lines = [`${bold(drill.name)}  ${dim(drill.file)}`];
    if (result.problem !== undefined) lines.push(red(`  it could not begin: ${result.problem}`));
    if (result.load !== undefined) lines.push(...loadLines(result.load, this.#earlier).map((line) => `  ${line}`));
    for (const step of shown(result.steps)) lines.push(...this.#step(step));
    return `${lines.join('\n')}\n`;
  }

  #step(result: StepResult): readonly string[] {
    const { green, red, dim } = this.#colors;
    const indent = '  '.repeat(result.depth + 1);
    const mark = { passed: green('ok  '), failed: red('FAIL'), skipped: dim('-   ') }[result.status];
    const time = result.ms >= 1 ? `${Math.round(result.ms)} ms` : '';
    const room = Math.max(40, this.#columns - indent.length - 16);
    const name = cut(stepName(result), room);
    const line = `${indent}${mark} ${result.status === 'skipped' ? dim(name) : name}${' '.repeat(Math.max(1, room - name.length))}${dim(time.padStart(9))}`;
    return [
      line,
      ...failureLines(result, this.#columns - indent.length - 5).map(
        (each, index) => `${indent}     ${index === 0 ? dim(each) : each}`,
      ),
    ];
  }

  /** Formats the summary: how many drills passed, and which failed. */
  sum(results: readonly DrillResult[], ms: number): string {
    const failed = results.filter(({ status }) => status === 'failed');
    const { green, red } = this.#colors;
    const seconds = `${(ms / 1000).toFixed(1)} s`;
    const steps = results.reduce(
      (all, { steps: some }) => all + some.filter(({ status }) => status === 'passed').length,
      0,
    );
    if (failed.length === 0) return green(`${drills(results.length)} passed, ${steps} steps, ${seconds}`);
    return red(
      `${drills(failed.length)} of ${results.length} failed: ${failed.map(({ drill: { name } }: { drill: Drill }) => name).join('; ')} (${seconds})`,
    );
  }
}

/** Omits the rounds of repetitions that passed, since there may be very many. */
function* shown(steps: readonly StepResult[]): Iterable<StepResult> {
  let hiddenFrom = Number.POSITIVE_INFINITY;
  for (const step of steps) {
    if (step.depth > hiddenFrom) continue;
    hiddenFrom = step.step.kind === 'repeat' && step.status === 'passed' ? step.depth : Number.POSITIVE_INFINITY;
    yield step;
  }
}

function drills(count: number): string {
  return count === 1 ? '1 drill' : `${count} drills`;
}
