// The publishers of the bench `kept`: each keeps so many messages under way, and counts what is acknowledged.
import { openRaw } from './rawClient.mjs';

const clients = [];
let underWay;
let publishing = false;
let data;
let keys = 0;
let channels = 10;

process.on('message', async (message) => process.send(await acts[message.act](message)));
// The parent has ended.
process.on('disconnect', () => process.exit());

const acts = {
  async open({ port, path, protocol, connections, underWay: most, channels: count = 10 }) {
    underWay = most;
    channels = count;
    for (let index = 0; index < connections; index++) {
      const client = { acknowledged: 0, open: 0 };
      const connection = await openRaw({ port, path, protocol, onFrame: (text) => heard(client, text) });
      client.connection = connection;
      connection.send('{"do":"hello","id":1}');
      clients.push(client);
    }
    return {};
  },

  async publish({ roundMs, text }) {
    data = JSON.stringify({ text });
    publishing = true;
    for (const client of clients) client.acknowledged = 0;
    const started = performance.now();
    for (const client of clients) for (let n = 0; n < underWay; n++) publish(client);
    await new Promise((resolve) => setTimeout(resolve, roundMs));
    publishing = false;
    while (clients.some(({ open }) => open > 0)) await new Promise((resolve) => setTimeout(resolve, 5));
    return {
      acknowledged: clients.reduce((sum, { acknowledged }) => sum + acknowledged, 0),
      ms: performance.now() - started,
    };
  },
};

function publish(client) {
  client.open += 1;
  keys += 1;
  client.connection.send(
    `{"do":"publish","id":2,"channel":"race/${keys % channels}/bench","key":"k${keys}","data":${data}}`,
  );
}

function heard(client, text) {
  if (!text.startsWith('{"re":2,')) return;
  if (text.includes('"problem"')) throw new Error(text);
  client.open -= 1;
  client.acknowledged += 1;
  if (publishing) publish(client);
}
