// The clients of the storm: open, lose their connections all at once, and come back.
import { openRaw } from './rawClient.mjs';

let clients = [];

process.on('message', async (message) => process.send(await acts[message.act](message)));

const acts = {
  /** Opens all, those of the service with hello. */
  async open({ port, path, protocol, tokens, channels, count }) {
    clients = Array.from({ length: count }, (_, index) => ({
      index,
      port,
      path,
      protocol,
      token: tokens?.[index],
      channels,
    }));
    await inParallel(clients, 200, begin);
    return {};
  },

  /** Cuts all connections at once. */
  async cut() {
    for (const { connection } of clients) connection.destroy();
    return {};
  },

  /** Brings all back; how long that took, and how many missed messages were given. */
  async recover() {
    const started = performance.now();
    await inParallel(clients, 1000, begin);
    return { ms: performance.now() - started, missed: clients.reduce((sum, { missed }) => sum + missed, 0) };
  },
};

async function inParallel(all, width, act) {
  let next = 0;
  await Promise.all(
    Array.from({ length: width }, async () => {
      while (next < all.length) {
        next += 1;
        await act(all[next - 1]);
      }
    }),
  );
}

async function begin(client) {
  let welcomed;
  const welcome = new Promise((resolve) => {
    welcomed = resolve;
  });
  client.connection = await openRaw({
    ...client,
    onFrame: (text) => text.startsWith('{"re":1,') && welcomed(JSON.parse(text)),
  });
  if (client.channels === undefined) return;
  const { session, secret, cursors, token, channels } = client;
  client.connection.send(
    JSON.stringify({
      do: 'hello',
      id: 1,
      token,
      ...(session === undefined ? {} : { session, secret }),
      enter: channels.map((channel, index) => ({
        channel,
        ...(cursors === undefined ? {} : { after: cursors[index] }),
      })),
    }),
  );
  const reply = await welcome;
  if (reply.problem !== undefined) throw new Error(JSON.stringify(reply.problem));
  if (session !== undefined && !reply.continued) throw new Error('the session was not continued');
  client.session = reply.session;
  client.secret = reply.secret;
  client.cursors = reply.entered.map(({ cursor }) => cursor);
  client.missed = reply.entered.reduce((sum, { messages }) => sum + messages.length, 0);
}

// The parent has ended.
process.on('disconnect', () => process.exit());
