import { defined, refusal } from '@nine-bells/wire';
import { makeLog } from '../log.js';
import { Service } from '../service.js';
import { Calls } from './calls.js';
import { remoteExchange } from './remoteExchange.js';
import { remoteStore } from './remoteStore.js';
import { type FromWorker, type ToWorker, type WorkerModule, workerEnvironment } from './workers.js';

/** One of several processes of a service on this machine: a whole instance, but for the store and the order. */
async function main(): Promise<void> {
  const { module, args, name } = JSON.parse(process.env[workerEnvironment] ?? '{}');
  const { workerService } = (await import(module)) as WorkerModule;
  const { configuration, options } = await workerService(args);
  let heard: (topic: string, text: string) => void = () => {};
  let service: Service | undefined;
  let failedCommits = 0;
  const calls = new Calls(
    {
      send: (parcels) => say({ parcels }),
      listen: (receive) => process.on('message', (told: ToWorker) => told.parcels && receive(told.parcels)),
    },
    {
      call: async (method) => {
        throw refusal('internal', `a worker is not asked for ${method}`);
      },
      word: (word, [topic, text]) => {
        if (word === 'heard') heard(topic as string, text as string);
      },
    },
  );
  const { exchange, heard: hears } = remoteExchange(calls);
  heard = hears;
  process.on('message', (told: ToWorker) => {
    if (told.stop === undefined) return;
    const stopping = service?.stop({ drainMs: told.stop.drainMs ?? undefined }) ?? Promise.resolve();
    stopping.then(
      () => process.exit(0),
      () => process.exit(1),
    );
  });
  // Without the first process there is neither store nor order: a supervisor starts all of them again.
  process.on('disconnect', () => process.exit(1));
  // Signals to all processes are the first one's to act on.
  process.on('SIGINT', () => {});
  process.on('SIGTERM', () => {});

  service = await Service.start(
    { ...configuration, engine: { ...configuration.engine, instance: name } },
    {
      ...options,
      link: {
        ...(configuration.relay === undefined ? { exchange } : {}),
        store: remoteStore(calls, () => {
          failedCommits += 1;
        }),
        failedCommits: () => failedCommits,
        drain: (withinMs) => say({ drain: { withinMs: withinMs ?? null } }),
      },
    },
  );
  say({ listening: { url: service.url } });
}

function say(told: FromWorker): void {
  // An error means that the first process has ended: `disconnect` says so too.
  process.send?.(told, undefined, undefined, () => {});
}

main().catch((error: NodeJS.ErrnoException) => {
  makeLog({ level: 'error', readable: false }).error({ err: error }, 'a worker could not start');
  say({ failed: { message: error.message, ...defined({ code: error.code }) } });
  setTimeout(() => process.exit(1), 100);
});
