// The clients of `bench contracts`.
import { openRaw } from './rawClient.mjs';

const data = JSON.stringify({
  boat: 'petrel',
  leg: 3,
  speed: 6.4,
  heading: 215,
  sail: 'spinnaker',
  crew: ['tomas', 'bram'],
  flags: { protest: false, recall: false },
  note: 'Turnstone is lifting on the left. Watch her!',
  protest: false,
  place: null,
});
let publishers = [];
let publishing;
let keys = 0;
let wrong = 0;

const acts = {
  async open({ port, connections }) {
    for (let index = 0; index < connections; index++) {
      const client = { acknowledged: 0, open: 0 };
      client.connection = await openRaw({ port, protocol: 'nine-bells.v1', onFrame: (text) => heard(client, text) });
      client.connection.send('{"do":"hello","id":1}');
      publishers.push(client);
    }
    return {};
  },

  async publish({ prefix, underWay, roundMs }) {
    publishing = prefix;
    for (const client of publishers) client.acknowledged = 0;
    const fromMs = performance.now();
    for (const client of publishers) for (let n = 0; n < underWay; n++) publish(client);
    await new Promise((resolve) => setTimeout(resolve, roundMs));
    publishing = undefined;
    while (publishers.some(({ open }) => open > 0)) await new Promise((resolve) => setTimeout(resolve, 2));
    return {
      acknowledged: publishers.reduce((sum, { acknowledged }) => sum + acknowledged, 0),
      ms: performance.now() - fromMs,
    };
  },

  async close() {
    for (const { connection } of publishers) connection.destroy();
    publishers = [];
    return {};
  },

  /** Clients in groups: each with a channel of its own, or all in one channel, each with a filter of its own. */
  async listen({ kind, port, clients, groups }) {
    for (let index = 0; index < clients; index++) {
      const boat = `b${index % groups}`;
      const wish =
        kind === 'channels'
          ? { channel: `fan/${index % groups}` }
          : { channel: 'fan/all', filter: { where: { '/boat': boat } } };
      await new Promise((resolve, reject) => {
        const onFrame = (text) => {
          if (text.startsWith('{"re":')) resolve();
          else if (text.startsWith('{"on":"message"') && !text.includes(`"boat":"${boat}"`)) wrong += 1;
        };
        openRaw({ port, protocol: 'nine-bells.v1', onFrame }).then(
          ({ send }) => send(JSON.stringify({ do: 'hello', id: 1, enter: [wish] })),
          reject,
        );
      });
    }
    return {};
  },

  async received() {
    return { wrong };
  },

  /** Enters from the beginning, again and again, and once to the end. */
  async enter({ port, filter, record }) {
    let answer;
    const { send, destroy } = await openRaw({
      port,
      protocol: 'nine-bells.v1',
      onFrame: (text) => text.startsWith('{"re":') && answer?.(JSON.parse(text)),
    });
    const ask = (request) =>
      new Promise((resolve) => {
        answer = resolve;
        send(JSON.stringify({ id: 2, ...request }));
      });
    await ask({ do: 'hello' });
    const { cursor: head } = await ask({ do: 'enter', channel: 'record/1' });
    const volume = head.split(':')[0];
    const first = [];
    for (let round = 0; round < 60; round++) {
      await ask({ do: 'leave', channel: 'record/1' });
      const fromMs = performance.now();
      const at = Math.floor((record / 61) * round);
      await ask({ do: 'enter', channel: 'record/1', after: `${volume}:${at}`, filter });
      if (round >= 10) first.push(performance.now() - fromMs);
    }
    const fromMs = performance.now();
    let pages = 0;
    let found = 0;
    for (let after = `${volume}:0`, more = true; more; pages++) {
      const reply = await ask({ do: 'enter', channel: 'record/1', after, filter });
      found += reply.messages.length;
      ({ cursor: after, more } = reply);
    }
    destroy();
    return { first, pages, found, all: performance.now() - fromMs };
  },
};

function publish(client) {
  client.open += 1;
  keys += 1;
  client.connection.send(
    `{"do":"publish","id":2,"channel":"${publishing}/${keys % 10}","key":"k${keys}","data":${data}}`,
  );
}

function heard(client, text) {
  if (!text.startsWith('{"re":2,')) return;
  if (text.includes('"problem"')) throw new Error(text);
  client.open -= 1;
  client.acknowledged += 1;
  if (publishing !== undefined) publish(client);
}

process.on('message', async (message) => process.send(await acts[message.act](message)));
// The parent has ended.
process.on('disconnect', () => process.exit());
