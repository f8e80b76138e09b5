export type { Drill, DrillUser, OutboundKind, Step } from './format/drill.js';
export { DrillFault, faultLine, parseDrill, readDrill } from './format/readDrill.js';
export { type LoadOptions, runLoad } from './load/runLoad.js';
export { junitReport } from './report/junit.js';
export { figuresIn, loadPage } from './report/loadHtml.js';
export { secondLine } from './report/loadText.js';
export { ReadableReport, type ReportColors } from './report/readable.js';
export { tapReport } from './report/tap.js';
export { DrillClient } from './run/client.js';
export { expectFrames, expectNone } from './run/expectations.js';
export { FrameQueue, type FrameSource } from './run/frameQueue.js';
export { nodeNetwork } from './run/network.js';
export { seededRandom } from './run/random.js';
export {
  type DrillResult,
  type Failure,
  type LoadFigures,
  type SecondFigures,
  StepFailure,
  type StepResult,
} from './run/results.js';
export { type RunOptions, runDrill } from './run/runner.js';
export type { StandIn, StandInAnswer, Surroundings } from './run/surroundings.js';
export { differences } from './values/matching.js';
