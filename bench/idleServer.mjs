// A server in a process of its own: its memory is measured, or it is driven from outside.
import { subjects } from './subjects.mjs';

let subject;

process.on('message', async ({ act, name, channels, count }) => {
  if (act === 'start') {
    subject = await subjects[name](count);
    const { port, path, protocol, tokens } = subject;
    process.send({ port, path, protocol, tokens, rss: await settledRss() });
  } else if (act === 'publish') {
    for (const channel of channels) await subject.publishTo(channel, count);
    process.send({ done: act });
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

// The parent has ended.
process.on('disconnect', () => process.exit());
