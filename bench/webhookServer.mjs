// What `bench webhooks` measures, each in a process of its own: the service, an intake written by hand, a receiver of hooks
// or an application that is called.
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { createServer } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { parseConfiguration, Service, signToken } from '@nine-bells/service';
import express from 'express';
import { QueryTypes, Sequelize } from 'sequelize';
import { Webhook } from 'standardwebhooks';

export const secret = 'whsec_QmVuY2hSZWdhdHRhQmVuY2hSZWdhdHRhQmVuY2hSZWc=';
const folder = mkdtempSync(join(tmpdir(), 'bells-bench-'));
const served = {};

const acts = {
  /** The service with a configuration. */
  async service({ text }) {
    const configuration = parseConfiguration(text, join(folder, 'bells.yaml'), { data: folder });
    served.service = await Service.start(configuration);
    const token = await signToken(configuration.tokens, { user: 'tomas', roles: [], claims: {}, forMs: 3_600_000 });
    return { url: served.service.url, key: readFileSync(join(folder, 'api-key'), 'utf8').trim(), token };
  },

  /** An intake as people write it: the signature is checked, the body is inserted and committed, then it is answered. */
  async byHand() {
    const database = new Sequelize({ dialect: 'sqlite', storage: join(folder, 'by-hand.sqlite'), logging: false });
    for (const each of ['PRAGMA journal_mode = WAL', 'PRAGMA synchronous = FULL']) await database.query(each);
    await database.query('CREATE TABLE events (id TEXT PRIMARY KEY, at INTEGER, body TEXT)');
    const webhook = new Webhook(secret);
    const app = express();
    app.post('/in/buoy', express.text({ type: () => true }), async (request, response) => {
      webhook.verify(request.body, request.headers);
      await database.query('INSERT INTO events VALUES (:id, :at, :body)', {
        replacements: { id: request.headers['webhook-id'], at: Date.now(), body: request.body },
        type: QueryTypes.INSERT,
      });
      response.status(202).json({});
    });
    return listen(createServer(app));
  },

  /** Takes whatever comes, and counts it. `hang`: says nothing. */
  async receiver({ hang = false }) {
    served.count = 0;
    served.lastMs = 0;
    return listen(
      createServer((request, response) => {
        request.resume();
        request.on('end', () => {
          served.count += 1;
          served.lastMs = Date.now();
          if (!hang) response.end('ok');
        });
      }),
    );
  },

  /** Answers calls. */
  async application() {
    const answer = JSON.stringify({ data: { number: 7 } });
    return listen(
      createServer((request, response) => {
        request.resume();
        request.on('end', () => {
          const answerNow = () => response.setHeader('content-type', 'application/json').end(answer);
          if (request.url === '/slow') setTimeout(answerNow, 1_000);
          else answerNow();
        });
      }),
    );
  },

  async look() {
    const cpu = process.cpuUsage();
    return {
      count: served.count,
      lastMs: served.lastMs,
      rss: process.memoryUsage.rss(),
      cpuMs: (cpu.user + cpu.system) / 1000,
    };
  },
};

async function listen(server) {
  await new Promise((resolve) => server.listen(0, '127.0.0.1', resolve));
  return { url: `http://127.0.0.1:${server.address().port}` };
}

process.on('message', async ({ act, ...more }) => {
  process.send(await acts[act](more));
});
process.on('exit', () => rmSync(folder, { recursive: true, force: true }));
process.on('SIGTERM', () => process.exit());
