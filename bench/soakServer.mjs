// The service of `npm run soak`, in its own process. It reports its memory after a garbage collection.
import { writeHeapSnapshot } from 'node:v8';
import { parseConfiguration, Service } from '@nine-bells/service';

const [text, folder, engine] = process.argv.slice(2);
const configuration = parseConfiguration(text, `${folder}/bells.yaml`, { data: folder, port: 0 });
const service = await Service.start({ ...configuration, engine: { ...configuration.engine, ...JSON.parse(engine) } });
process.on('message', async ({ act, file }) => {
  if (act === 'stop') {
    await service.stop();
    process.exit(0);
  }
  globalThis.gc();
  if (act === 'snapshot') process.send({ file: writeHeapSnapshot(file) });
  else {
    const { rss, heapTotal, heapUsed, external, arrayBuffers } = process.memoryUsage();
    process.send({
      rss,
      heapTotal,
      heapUsed,
      external: external + arrayBuffers,
      channels: service.engine.stats.enteredChannels,
    });
  }
});
process.send({ url: service.url });
