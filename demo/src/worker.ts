import {
  type Configuration,
  makeLog,
  type Overrides,
  readConfiguration,
  type WorkerService,
} from '@nine-bells/service';
import { regattaApplication } from './application.js';

/** Options of a process of the demo. */
export interface DemoArguments {
  readonly file: string;
  readonly overrides: Overrides;
  /** URLs of the results office and the results bureau. */
  readonly office: string;
  readonly bureau: string;
}

export const workerModule: string = import.meta.url;

/** Starts an instance of the demo with the regatta's application beside it. */
export async function workerService({ file, overrides, office, bureau }: DemoArguments): Promise<WorkerService> {
  const configuration = placed(readConfiguration(file, overrides), office, bureau);
  const log = makeLog({ level: 'warn', readable: true });
  return { configuration, options: { log, routes: regattaApplication(configuration.tokens) } };
}

/** The configuration with the other systems where they really are: beside a demo on another port they are elsewhere. */
function placed(configuration: Configuration, office: string, bureau: string): Configuration {
  const url = `${office}/may-sit-at-the-desk`;
  const channels = configuration.channels.map((rule) => {
    if (rule.pattern.startsWith('desk/')) return { ...rule, allow: { enter: { ask: url }, publish: { ask: url } } };
    return rule.review === undefined ? rule : { ...rule, review: { ...rule.review, ask: `${office}/look-at-chat` } };
  });
  const hooks = configuration.hooks.map((hook) => (hook.name === 'bureau' ? { ...hook, url: bureau } : hook));
  const calls = configuration.calls.map((call) => ({ ...call, url: `${office}/declare-turn` }));
  return { ...configuration, channels, hooks, calls };
}
