import {
  type Configuration,
  makeLog,
  type Overrides,
  readConfiguration,
  type WorkerService,
} from '@nine-bells/service';
import { regattaApplication } from './application.js';

/** What a process of the demo is told. */
export interface DemoArguments {
  readonly file: string;
  readonly overrides: Overrides;
  /** Where the results office is. */
  readonly office: string;
}

export const workerModule: string = import.meta.url;

/** How an instance of the demo is started: with the regatta's application beside it. */
export async function workerService({ file, overrides, office }: DemoArguments): Promise<WorkerService> {
  const configuration = asking(readConfiguration(file, overrides), office);
  const log = makeLog({ level: 'warn', readable: true });
  return { configuration, options: { log, routes: regattaApplication(configuration.tokens) } };
}

/** The configuration with the results office where it really is: beside a demo on another port it is elsewhere. */
function asking(configuration: Configuration, url: string): Configuration {
  const channels = configuration.channels.map((rule) =>
    rule.pattern.startsWith('desk/') ? { ...rule, allow: { enter: { ask: url }, publish: { ask: url } } } : rule,
  );
  return { ...configuration, channels };
}
