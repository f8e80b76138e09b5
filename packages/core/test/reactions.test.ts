import { channelName, type Entered } from '@nine-bells/wire';
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

it.each([
  ['knows no version', undefined],
  ['has a version of a volume that is gone', 'gone:0'],
])('reactions between two replies to one entering reach a client that %s', async (_, version) => {
  const { welcomed, engine, clock, settle } = harness({ backlogBytes: 400 }, undefined, { rules });
  const publish = (data: string) => engine.messages.publish({ channel: chat, data, by: { user: 'mira' } });
  const [{ cursor }] = await Promise.all([publish('x'.repeat(300)), publish('y'.repeat(300)), clock.run(100)]);
  const jory = await welcomed('jory', { enter: [{ channel: chat }] });
  const ines = await welcomed('ines');
  const enter = async (after: string, reactions: string | undefined) => {
    const id = ines.send({ do: 'enter', channel: chat, after, ...(reactions && { reactions }) });
    await settle();
    return ines.reply(id) as unknown as Entered;
  };
  const first = await enter(`${cursor.split(':')[0]}:0`, version);
  expect(first).toMatchObject({ messages: [{ cursor }], more: true });
  jory.send({ do: 'react', channel: chat, cursor, word: 'wow' });
  await settle();
  const second = await enter(first.cursor, first.reactions?.version ?? version);
  expect(second).toMatchObject({ more: false, reactions: { counts: { [cursor]: { wow: 1 } } } });
});
