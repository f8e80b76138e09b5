import { stringify } from 'yaml';
import type { DrillResult } from '../run/results.js';
import { failedStep, failureLines, stepName } from './text.js';

/** The results as TAP 14 (testanything.org), each drill with its steps as a subtest. */
export function tapReport(results: readonly DrillResult[]): string {
  const lines = ['TAP version 14'];
  for (const [index, result] of results.entries()) {
    const { steps, drill, status, problem } = result;
    lines.push(`# Subtest: ${escaped(drill.name)}`);
    for (const [at, step] of steps.entries()) {
      const skipped = step.status === 'skipped' ? ' # SKIP a step before it failed' : '';
      lines.push(`    ${step.status === 'failed' ? 'not ok' : 'ok'} ${at + 1} - ${escaped(stepName(step))}${skipped}`);
      const details = failureLines(step);
      if (details.length > 0) lines.push(...diagnostics({ message: details.join('\n') }, 6));
    }
    lines.push(`    1..${steps.length}`);
    lines.push(`${status === 'passed' ? 'ok' : 'not ok'} ${index + 1} - ${escaped(drill.name)}`);
    const failed = failedStep(result);
    if (problem !== undefined) lines.push(...diagnostics({ message: problem, file: drill.file }, 2));
    else if (failed !== undefined) lines.push(...diagnostics({ file: failed.step.file, line: failed.step.line }, 2));
  }
  lines.push(`1..${results.length}`);
  return `${lines.join('\n')}\n`;
}

function diagnostics(about: object, indent: number): string[] {
  const pad = ' '.repeat(indent);
  return ['---', ...stringify(about, { lineWidth: 0 }).trimEnd().split('\n'), '...'].map((line) => `${pad}${line}`);
}

/** A description may hold neither a line end nor an unescaped `#`. */
function escaped(text: string): string {
  return text.replaceAll('\\', '\\\\').replaceAll('#', '\\#').replaceAll('\n', ' ');
}
