import type { DrillResult, StepResult } from '../run/results.js';

/** Describes a failure, one fact per line. */
export function failureLines({ step, failure }: StepResult, columns = 240): readonly string[] {
  if (failure === undefined) return [];
  const lines = [`at ${step.file}:${step.line}`, `expected ${failure.expected}`, failure.came];
  for (const { where, expected, found } of failure.differences)
    lines.push(`${where === '' ? 'it' : where}: expected ${expected}, found ${found}`);
  for (const each of failure.why) lines.push(`why: ${each}`);
  if (failure.frames.length > 0) lines.push(`the latest frames of ${failure.client}:`);
  for (const { atMs, direction, text } of failure.frames)
    lines.push(`  ${(atMs / 1000).toFixed(3).padStart(8)} s ${arrows[direction]} ${cut(text, columns - 16)}`);
  return lines;
}

const arrows = { sent: '->', heard: '<-', lost: '<x', link: '--' } as const;

/** The innermost step that failed. */
export function failedStep({ steps }: DrillResult): StepResult | undefined {
  return steps.find(({ status, failure }) => status === 'failed' && failure !== undefined);
}

export function cut(text: string, most: number): string {
  return text.length > most ? `${text.slice(0, most - 3)}...` : text;
}

/** The step's note, or else its source. */
export function stepName({ step, round }: StepResult): string {
  const name = step.note ?? step.text;
  return round === undefined ? name : `${name} (${round})`;
}
