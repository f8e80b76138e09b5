import { channelName } from '@nine-bells/wire';
import { expect, it } from 'vitest';
import { harness } from './harness.js';

const chat = channelName('race/3/chat');
const rules = [
  {
    pattern: 'race/:race/chat',
    logbook: { type: 'kept' },
    reactions: { kinds: 20, each: 5 },
    allow: { enter: 'anyone', publish: 'anyone', react: 'anyone' },
  },
] as const;

it.each([
  ['entered when the channel was empty', (version: string) => version],
  ['has a version that the record has lost', (_: string, cursor: string) => `${cursor.split(':')[0]}:99`],
])('reactions come after a break to a client that %s', async (_, versionOf) => {
  const { welcomed, engine, clock, settle } = harness({}, undefined, { rules });
  const first = await welcomed('ines', { enter: [{ channel: chat }] });
  const { version } = first.frames[0].entered[0].reactions;
  const { cursor } = await engine.messages.publish({ channel: chat, data: 'Petrel wins', by: { user: 'mira' } });
  await clock.run(1_000);
  first.connection.closed(1006);
  const jory = await welcomed('jory', { enter: [{ channel: chat }] });
  jory.send({ do: 'react', channel: chat, cursor, word: 'wow' });
  await settle();
  const back = await welcomed('ines', {
    enter: [{ channel: chat, after: cursor, reactions: versionOf(version, cursor) }],
  });
  expect(back.frames[0].entered[0]).toMatchObject({ messages: [], reactions: { counts: { [cursor]: { wow: 1 } } } });
});
