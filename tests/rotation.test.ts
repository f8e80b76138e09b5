import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type Line } from '@nine-bells/client';
import { parseConfiguration, signToken } from '@nine-bells/service';
import { afterAll, describe, expect, it } from 'vitest';
import { Balancer } from './support/balancer.js';
import { RealRedis, redisIsThere } from './support/realRedis.js';
import { type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

const clean: (() => unknown)[] = [];
afterAll(async () => {
  for (const each of clean.reverse()) await each();
});

const [old, next] = ['the-old-secret-of-the-test-regatta-32', 'the-new-secret-of-the-test-regatta-32'];
/** The steps of the recipe in docs/security.md: the secrets of the instances, and that of the application. */
const steps = [
  { service: [old], application: old },
  { service: [old, next], application: old },
  { service: [old, next], application: next },
  { service: [next, old], application: next },
  { service: [next], application: next },
] as const;

const textOf = (name: string, secrets: readonly string[]): string => `
service: { name: Test Regatta, port: 0, instance: ${name}, secret: [${secrets}] }
tokens: { secret: [${secrets}] }
channels:
  - { pattern: talk, logbook: kept, allow: { enter: signed-in, publish: signed-in } }
`;

describe.skipIf(!redisIsThere)('a rotation of secrets, one instance after the other', () => {
  it('keeps every session of every client, and loses no message, under load', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'bells-rotation-'));
    clean.push(() => rmSync(folder, { recursive: true, force: true }));
    const redis = await RealRedis.start();
    clean.push(() => redis.remove());
    const urls: string[] = [];
    const instances: StartedService[] = [];
    const restart = async (index: number, secrets: readonly string[]): Promise<void> => {
      await instances[index]?.service.stop({ drainMs: 500 });
      const text = textOf(`i${index + 1}`, secrets);
      instances[index] = await startService({ folder, text, relay: redis.url });
      urls[index] = instances[index].url;
    };
    for (const index of [0, 1]) await restart(index, steps[0].service);
    clean.push(() => Promise.all(instances.map(({ service }) => service.stop())));
    const balancer = await Balancer.start(urls);
    clean.push(() => balancer.stop());

    let applicationSecret: string = old;
    const tokenFor = (user: string): Promise<string> => {
      const { tokens } = parseConfiguration(textOf('any', [applicationSecret]), 'bells.yaml');
      return signToken(tokens, { user, forMs: 600_000 });
    };
    const lines: Line[] = [];
    const ids: (string | undefined)[] = [];
    const received = new Map<string, string[]>();
    const complaints: string[] = [];
    for (let n = 0; n < 6; n++) {
      const user = `user${n}`;
      const line = connect(balancer.url, { token: () => tokenFor(user), backOff: { firstMs: 20, maxMs: 200 } });
      clean.push(() => line.close());
      line.addEventListener('state', ({ detail }) => {
        if (detail.name === 'closed') complaints.push(`${user}: ${detail.reason}`);
        if (detail.name === 'open' && ids[n] !== undefined && (!detail.continued || detail.session !== ids[n]))
          complaints.push(`${user}: the session was not continued`);
        if (detail.name === 'open') ids[n] = detail.session;
      });
      line.addEventListener('problem', ({ detail }) => complaints.push(`${user}: ${detail.code}`));
      const talk = line.enter('talk');
      const texts: string[] = [];
      received.set(user, texts);
      talk.addEventListener('message', ({ detail }) => texts.push(String(detail.data)));
      await talk.ready;
      lines.push(line);
    }
    const published: string[] = [];
    let isOver = false;
    const publishing = lines.map(async (line, n) => {
      for (let count = 0; !isOver; count++) {
        const text = `${n}:${count}`;
        await line.publish('talk', text);
        published.push(text);
        await new Promise((resolve) => setTimeout(resolve, 20));
      }
    });
    for (const { service, application } of steps) {
      for (const index of [0, 1]) await restart(index, service);
      applicationSecret = application;
      // Each client has fetched a token of this step.
      for (const line of lines) await line.refresh();
    }
    isOver = true;
    await Promise.all(publishing);
    for (const [user, texts] of received) {
      await until(() => texts.length >= published.length);
      expect([user, [...texts].sort()]).toEqual([user, [...published].sort()]);
    }
    expect(published.length).toBeGreaterThan(200);
    expect(complaints).toEqual([]);
  });
});
