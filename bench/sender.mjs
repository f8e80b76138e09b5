// The sending process of a benchmark: one subject, told what to do by its parent over IPC.
import { turn } from './child.mjs';
import { subjects } from './subjects.mjs';

let subject;

const acts = {
  /** Starts what is measured. */
  async start({ name, options }) {
    subject = await subjects[name](options);
    const { port, path, protocol, isRaw = false, tokens } = subject;
    return { port, path, protocol, isRaw, tokens };
  },

  /** Publishes for a while, burst by burst, each after the one before is out. */
  async publish({ burst, ms }) {
    const cpuBefore = process.cpuUsage();
    const started = performance.now();
    let messages = 0;
    for (let i = 0; performance.now() - started < ms; i++) {
      subject.publish(burst);
      messages += burst;
      await subject.flushed();
      await turn();
      if (i % 10 === 9) while (subject.waiting() > 0) await turn();
    }
    while (subject.waiting() > 0) await turn();
    const elapsedMs = performance.now() - started;
    const cpu = process.cpuUsage(cpuBefore);
    return { messages, elapsedMs, cpuUs: cpu.user + cpu.system, userUs: cpu.user };
  },

  /** Publishes so many messages to each channel. */
  async fill({ channels, count }) {
    for (const channel of channels) await subject.publishTo(channel, count);
    return {};
  },

  /** Publishes at an even pace, each with the time at which it was sent. */
  async pace({ perSecond, ms }) {
    const started = performance.now();
    for (let published = 0; performance.now() - started < ms; ) {
      const due = ((performance.now() - started) / 1000) * perSecond;
      for (; published < due; published++) subject.timed(process.hrtime.bigint());
      await turn();
    }
    return {};
  },

  async quit() {
    process.exit();
  },

  /** What it has in memory, after what is garbage has gone. */
  async memory() {
    for (let i = 0; i < 5; i++) {
      globalThis.gc();
      await new Promise((resolve) => setTimeout(resolve, 200));
    }
    const { rss, heapUsed: heap } = process.memoryUsage();
    return { rss, heap, connections: subject.connections() };
  },
};

process.on('message', async ({ act, ...rest }) => process.send(await acts[act](rest)));
// The parent has ended.
process.on('disconnect', () => process.exit());
