// A server in a process of its own, whose memory is measured.
import { subjects } from './subjects.mjs';

let subject;

process.on('message', async ({ act, name }) => {
  if (act === 'start') {
    subject = await subjects[name]();
    const { port, path, protocol } = subject;
    process.send({ port, path, protocol, rss: await settledRss() });
  } else process.send({ rss: await settledRss(), connections: subject.connections() });
});

/** Resident bytes, after what is garbage has gone. */
async function settledRss() {
  for (let i = 0; i < 5; i++) {
    globalThis.gc();
    await new Promise((resolve) => setTimeout(resolve, 200));
  }
  return process.memoryUsage.rss();
}
