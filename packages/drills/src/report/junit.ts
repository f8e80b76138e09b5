import { XMLBuilder } from 'fast-xml-parser';
import type { DrillResult } from '../run/results.js';
import { failureLines, stepName } from './text.js';

/** The results as JUnit XML: each drill a suite, each step a case. */
export function junitReport(results: readonly DrillResult[]): string {
  const builder = new XMLBuilder({ ignoreAttributes: false, format: true, suppressEmptyNode: true });
  const suites = results.map(({ drill, steps, ms, problem }) => {
    const cases: object[] = steps.map((step) => ({
      '@_name': clean(stepName(step)),
      '@_classname': clean(drill.name),
      '@_file': step.step.file,
      '@_line': step.step.line,
      '@_time': seconds(step.ms),
      ...(step.status === 'skipped' ? { skipped: '' } : {}),
      ...(step.failure === undefined
        ? {}
        : { failure: { '@_message': clean(step.failure.came), '#text': clean(failureLines(step).join('\n')) } }),
    }));
    if (problem !== undefined)
      cases.push({
        '@_name': 'begins',
        '@_classname': clean(drill.name),
        '@_file': drill.file,
        error: { '@_message': clean(problem) },
      });
    const failed = cases.filter((each) => 'failure' in each).length;
    const skipped = cases.filter((each) => 'skipped' in each).length;
    return {
      '@_name': clean(drill.name),
      '@_tests': cases.length,
      '@_failures': failed,
      '@_errors': problem === undefined ? 0 : 1,
      '@_skipped': skipped,
      '@_time': seconds(ms),
      testcase: cases,
    };
  });
  return `<?xml version="1.0" encoding="UTF-8"?>\n${builder.build({ testsuites: { testsuite: suites } })}`;
}

function seconds(ms: number): string {
  return (ms / 1000).toFixed(3);
}

/** Characters that XML 1.0 cannot hold (section 2.2) are shown as escapes. */
function clean(text: string): string {
  return text.replace(unfit, (each) => `\\u${each.charCodeAt(0).toString(16).padStart(4, '0')}`);
}

const unfit = /[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\u{10000}-\u{10ffff}]/gu;
