// The service of `bench messages`, in a process of its own: with a channel that has many old messages.
import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { parseConfiguration, Service } from '@nine-bells/service';
import sqlite3 from 'sqlite3';

const folder = mkdtempSync(join(tmpdir(), 'bells-bench-'));
const text = `
service: { port: 0, guests: true, pulse: 1h, limits: { publishes: 1000000/s, requests: 1000000/s } }
tokens: { secret: the-secret-of-the-benchmarks-of-32-bytes }
channels:
  - { pattern: old, logbook: kept, keep: { for: 1d }, allow: { enter: anyone, publish: anyone } }
  - { pattern: "talk/:n", logbook: kept, allow: { enter: anyone, publish: anyone } }
  - { pattern: talk/revised, logbook: kept, reactions: true, replies: true, allow: { enter: anyone } }
  - { pattern: talk/cheers, logbook: kept, reactions: true, allow: { enter: anyone } }
  - { pattern: "found/:n", logbook: kept, search: true, allow: { enter: anyone, publish: anyone } }
  - { pattern: "live/:n", logbook: kept, allow: { enter: anyone, publish: anyone } }
`;

let service;
let isPruning = false;
const by = { kind: 'service', id: 'bench' };

const start = () => Service.start(parseConfiguration(text, join(folder, 'bells.yaml'), { data: folder }));

const acts = {
  /** Starts with so many messages of two days ago. */
  async start({ messages }) {
    service = await start();
    await service.engine.messages.publish({ channel: 'old', data: 0 });
    await service.stop();
    const database = new sqlite3.Database(join(folder, 'bells.sqlite'));
    await new Promise((resolve, reject) =>
      database.exec(
        `WITH RECURSIVE n(n) AS (SELECT 2 UNION ALL SELECT n + 1 FROM n WHERE n <= ${messages})
         INSERT INTO messages (channel_id, number, message_id, type, author, key_owner, at_ms, data_json, notes)
         SELECT 1, n, 'm' || n, 'message', '', '', ${Date.now() - 2 * 86_400_000}, '{"text":"${'Petrel is ahead! '.repeat(6)}"}', 0 FROM n;
         UPDATE messages SET at_ms = at_ms - 259200000 WHERE number = 1;
         UPDATE channels SET head = ${messages + 1};
         -- As many in two channels that are read: as they were published, and a tenth of them revised.
         INSERT INTO channels (id, name, volume, head, notes, last_at_ms, oldest, pruned_notes)
         SELECT k.id, k.name, c.volume, ${messages + 1} + k.changes, k.changes, c.last_at_ms, 1, 0 FROM channels c, (
           SELECT 2 AS id, 'talk/plain' AS name, 0 AS changes UNION ALL SELECT 3, 'talk/revised', ${messages / 10}) k WHERE c.id = 1;
         INSERT INTO messages (channel_id, number, message_id, type, author, key_owner, at_ms, data_json, notes)
         SELECT k.id, number, 'c' || k.id || message_id, type, author, key_owner, at_ms, data_json, 0
         FROM messages, (SELECT 2 AS id UNION ALL SELECT 3) k WHERE channel_id = 1;
         INSERT INTO messages (channel_id, number, message_id, type, author, key_owner, at_ms, data_json, notes, target)
         SELECT 3, ${messages + 1} + number / 10, 'r' || number, 'change', '', '~', at_ms, 'null', number / 10, number
         FROM messages WHERE channel_id = 1 AND number % 10 = 0 AND number <= ${messages};
         UPDATE messages SET revision = ${messages + 1} + number / 10, revised_at_ms = at_ms, revised_by_json = '{"user":"mira"}'
         WHERE channel_id = 3 AND number % 10 = 0 AND number <= ${messages};
         -- Users have reacted to another tenth.
         INSERT INTO reaction_counts (channel_id, number, counts_json, version)
         SELECT 3, number, '{"aye":2,"bravo":1}', number / 10 FROM messages
         WHERE channel_id = 1 AND number % 10 = 5 AND number <= ${messages};
         INSERT INTO reactions (channel_id, number, word, user_id, at_ms)
         SELECT 3, number, word, user, at_ms FROM messages, (
           SELECT 'aye' AS word, 'pia' AS user UNION ALL SELECT 'aye', 'jory' UNION ALL SELECT 'bravo', 'oona')
         WHERE channel_id = 1 AND number % 10 = 5 AND number <= ${messages};
         INSERT INTO reaction_heads (channel_id, version) VALUES (3, ${messages / 10});
         -- Another tenth are answers.
         INSERT INTO replies (channel_id, number, reply_to, thread)
         SELECT 3, number, number - 3, number - 3 FROM messages WHERE channel_id = 1 AND number % 10 = 7;
         INSERT INTO threads (channel_id, root, replies, number, at_ms)
         SELECT channel_id, thread, 1, number, 0 FROM replies;
         UPDATE channels SET threads = 1 WHERE id = 3;
         -- As many that are searched: "wind" is in every second one, and one word is in that one alone.
         INSERT INTO channels (id, name, volume, head, notes, last_at_ms, oldest, pruned_notes)
         SELECT 4, 'found/old', volume, ${messages}, 0, last_at_ms, 1, 0 FROM channels WHERE id = 1;
         INSERT INTO messages (channel_id, number, message_id, type, author, key_owner, at_ms, data_json, notes)
         SELECT 4, number, 'f' || number, 'message', '', '', at_ms, json_object('text',
           CASE number % 2 WHEN 0 THEN 'wind ' ELSE '' END || 'buoy' || number || ' t' || (number % 7) || ' h' || (number % 83)
           || ' k' || (number * 7919 % 1009) || ' m' || (number * 104729 % 20011) || ' over the mark and past the pier'), 0
         FROM messages WHERE channel_id = 1 AND number <= ${messages};
         INSERT INTO searched (id, channel_id, number, at_ms) SELECT number, 4, number, at_ms FROM messages WHERE channel_id = 4;
         INSERT INTO search_words (rowid, words, about) SELECT number, data_json ->> 'text', 'c4' FROM messages WHERE channel_id = 4;
         INSERT INTO search_heads (channel_id, number) VALUES (4, ${messages});
         -- As it comes to be when it is made in small commits, each of which merges a little.
         INSERT INTO search_words (search_words, rank) VALUES ('merge', -100000)`,
        (error) => {
          database.close();
          if (error === null) resolve();
          else reject(error);
        },
      ),
    );
    service = await start();
    await service.engine.pruner.hold('old', by);
    return { port: Number(new URL(service.url).port) };
  },

  /** So many users react to one message in a second, for some seconds. Gives how long each took, sorted, in milliseconds. */
  async react({ perSecond, seconds }) {
    const { messages } = service.engine;
    const { cursor } = await messages.publish({ channel: 'talk/cheers', data: { text: 'Petrel wins' } });
    const [volume, number] = cursor.split(':');
    const place = { volume, number: Number(number) };
    const took = [];
    const under = [];
    const begunMs = performance.now();
    for (let n = 0; n < perSecond * seconds; n++) {
      while (performance.now() < begunMs + (n * 1000) / perSecond)
        await new Promise((resolve) => setTimeout(resolve, 1));
      const sinceMs = performance.now();
      const by = { user: `user-${n}` };
      const done = messages.react('talk/cheers', place, by, n % 3 === 0 ? 'bravo' : 'aye', true);
      under.push(done.then(() => took.push(performance.now() - sinceMs)));
    }
    await Promise.all(under);
    return { took: took.sort((a, b) => a - b) };
  },

  /** Searches for so many texts. Gives how long each took, in milliseconds. */
  async search({ searches }) {
    const took = [];
    for (const words of searches) {
      const sinceMs = performance.now();
      const { hits } = await service.engine.search.find(
        { words, in: ['found/old'] },
        { mayRead: async () => undefined },
      );
      took.push(performance.now() - sinceMs);
      if (hits.length === 0) throw new Error(`${words} is not found`);
    }
    return { took };
  },

  /** Publishes to a channel for so long, 64 at a time. Gives how many were acknowledged in a second. */
  async flood({ channel, ms }) {
    const endMs = performance.now() + ms;
    let count = 0;
    const publish = async () => {
      for (; performance.now() < endMs; count++)
        await service.engine.messages.publish({ channel, data: { text: 'Turnstone is lifting on the left.' } });
    };
    await Promise.all(Array.from({ length: 64 }, publish));
    return { rate: count / (ms / 1000) };
  },

  /** Prunes from now on, until `rest`. */
  async prune() {
    const { pruner } = service.engine;
    await pruner.endHold('old', by);
    isPruning = true;
    void (async () => {
      while (isPruning) await pruner.run();
    })();
    return {};
  },

  /** Prunes nothing any more; gives how many messages have gone. */
  async rest() {
    const { pruner, counters } = service.engine;
    isPruning = false;
    await pruner.hold('old', by);
    await pruner.run();
    return { pruned: counters.pruned.messages };
  },
};

process.on('message', async (message) => process.send(await acts[message.act](message)));
// The parent has ended.
process.on('disconnect', () => process.exit());
