import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type Line } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { parseConfiguration, Service, signToken } from '@nine-bells/service';
import { quietLog } from './log.js';
import { copyMigratedFile } from './migratedFile.js';
import { until } from './until.js';

export const configurationText = `
service: { name: Test Regatta, port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
channels:
  - { pattern: "race/:race/chat", about: Chat of a race, logbook: kept, data: 4KiB, allow: { enter: anyone, publish: signed-in } }
  - { pattern: "race/:race/signals", logbook: kept, allow: { enter: anyone, publish: nobody } }
  - { pattern: weather/wind, logbook: { recent: { messages: 5, for: 10m } }, allow: { enter: anyone, publish: anyone } }
  - pattern: crew/:boat
    allow:
      enter: { any: [{ claim: boats, holds: ":boat" }, { role: coach }] }
      publish: { claim: boats, holds: ":boat" }
  - { pattern: committee, logbook: kept, allow: { enter: signed-in, publish: signed-in } }
`;

/** The same, with channels that are recent, show members, and are open to anyone. */
export const pontoonText = `${configurationText}
  - pattern: pontoon/:name
    presence: { grace: 1s }
    allow: { enter: anyone, publish: anyone, hail: anyone }
`;

/** A service in this process, in a data folder of its own, on a free port. */
export interface StartedService {
  readonly service: Service;
  readonly url: string;
  readonly key: string;
  readonly backend: Backend;
  readonly folder: string;
  token(user: string, forMs?: number, more?: object): Promise<string>;
  /** Ends it, and leaves the data folder. */
  stop(): Promise<void>;
  /** Ends it if it still runs, and removes the data folder. */
  remove(): Promise<void>;
}

export async function startService(
  options: { text?: string; file?: string; folder?: string; port?: number; relay?: string } = {},
): Promise<StartedService> {
  const folder = options.folder ?? mkdtempSync(join(tmpdir(), 'bells-test-'));
  // What the text refers to lies beside the file.
  const file = options.file ?? join(folder, 'bells.yaml');
  const configuration = parseConfiguration(options.text ?? configurationText, file, {
    data: folder,
    port: options.port ?? 0,
    relay: options.relay,
  });
  if (configuration.database === undefined) await copyMigratedFile(folder);
  const service = await Service.start(configuration, { log: quietLog() });
  const key = readFileSync(join(folder, 'api-key'), 'utf8').trim();
  const { tokens } = configuration;
  return {
    service,
    url: service.url,
    key,
    backend: new Backend(service.url, { key }),
    folder,
    token: (user, forMs = 60_000, more = {}) =>
      signToken(tokens, { user, name: `${user} of the test`, forMs, ...more }),
    stop: () => service.stop(),
    remove: async () => {
      await service.stop();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

/**
 * Starts instances of one service, on one data folder, and waits until they know of each other. `text` has `port: 0,` in it.
 *
 * @param clean - what ends them is added to it
 */
export async function startInstances(
  text: string,
  clean: (() => unknown)[],
  { count = 1, relay, database }: { count?: number; relay?: string; database?: string | undefined } = {},
): Promise<StartedService[]> {
  const folder = mkdtempSync(join(tmpdir(), 'bells-instances-'));
  const all: StartedService[] = [];
  clean.push(async () => {
    for (const each of all) await each.stop();
    rmSync(folder, { recursive: true, force: true });
  });
  const shared = database === undefined ? '' : ` database: ${JSON.stringify(database)},`;
  for (let n = 1; n <= count; n++)
    all.push(
      await startService({
        folder,
        ...(relay === undefined ? {} : { relay }),
        text: text.replace('port: 0,', `port: 0, instance: i${n},${shared}`),
      }),
    );
  await until(() => all.every(({ service: { engine } }) => engine.cluster.instances.length === count));
  return all;
}

/**
 * An open line of a user, or of a guest, which tries again soon.
 *
 * @param clean - what closes it is added to it
 */
export async function openLine(
  clean: (() => unknown)[],
  { url, token }: Pick<StartedService, 'url' | 'token'>,
  user: string | undefined,
  {
    rights,
    ...options
  }: NonNullable<Parameters<typeof connect>[1]> & { readonly rights?: Parameters<StartedService['token']>[2] } = {},
): Promise<Line> {
  const line = connect(url, {
    ...(user === undefined ? {} : { token: () => token(user, 600_000, rights) }),
    backOff: { firstMs: 20 },
    ...options,
  });
  clean.push(() => line.close());
  await line.opened();
  return line;
}
