// The other process: follows channels, barely or through a relay, and counts what comes.
import { channelTopic } from '@nine-bells/core';
import { createClient } from 'redis';
import { openRelay } from './relayParts.mjs';

let opened;
let bare;
let followed = [];
let left = 0;
let count = 0;
let waiting;
let times = [];

function came(messages, sentMs) {
  count += messages;
  left -= messages;
  if (sentMs !== undefined) times.push(performance.timeOrigin + performance.now() - sentMs);
  if (left <= 0) {
    waiting?.();
    waiting = undefined;
  }
}

const acts = {
  async open({ url }) {
    opened = await openRelay(url, `receiver-${process.pid}`);
    bare = createClient({ url, commandOptions: { timeout: undefined } });
    await bare.connect();
  },
  async follow({ topics, how, timed }) {
    for (const end of followed) await end();
    followed = [];
    for (const topic of topics) {
      if (how === 'bare') {
        const hear = (text) => came(1, timed ? JSON.parse(text).data.sent : undefined);
        await bare.sSubscribe(topic, hear);
        followed.push(() => bare.sUnsubscribe(topic, hear));
      } else {
        const receive = (messages) => {
          for (const each of messages) {
            // As an instance does: the frame is made ready.
            void each.toPush();
            came(1, timed ? each.message.data.sent : undefined);
          }
        };
        await opened.relay.subscribe(channelTopic(topic), { receive, hear: () => {} });
        followed.push(async () => opened.relay.unsubscribe(channelTopic(topic)));
      }
    }
  },
  async expect({ count: expected }) {
    left = expected;
    times = [];
  },
  all: () => (left <= 0 ? undefined : new Promise((resolve) => (waiting = resolve))),
  async times() {
    await acts.all();
    times.sort((a, b) => a - b);
    const at = (part) => times[Math.floor(times.length * part)];
    return { p50: at(0.5), p99: at(0.99), p999: at(0.999) };
  },
  count: async () => ({ texts: count }),
};

process.on('message', async ({ act, ...more }) => {
  process.send((await acts[act](more)) ?? {});
});
