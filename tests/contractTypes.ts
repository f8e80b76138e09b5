// Compiled with the tests and never run: what the types that `ninebells types` writes let pass, and what they do not.
import { connect, type Line, Typing } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import type { Position, Regatta, Talk } from '../demo/src/regatta.js';

interface Layered {
  'race/:race': {
    messages: { message: number };
    clients: 'message';
    applications: 'message';
    hails: Record<never, never>;
    board: never;
    status: string;
  };
  'race/final': {
    messages: { wind: { knots: number } };
    clients: 'wind';
    applications: never;
    hails: Record<never, never>;
    board: never;
    status: never;
  };
  ':any/:thing': {
    messages: { [type: string]: string };
    clients: string;
    applications: string;
    hails: { [type: string]: string };
    board: never;
    status: string;
  };
}

export async function typed(line: Line<Regatta>, race: number, name: string): Promise<void> {
  const chat = line.enter('race/3/chat', { last: 5 });
  chat.addEventListener('message', ({ detail }) => {
    const text: string = detail.data.text;
    // @ts-expect-error what others say has no number
    const wrong: number = detail.data.text;
    void [text, wrong];
  });
  await chat.publish({ text: 'Petrel is ahead!' });
  // @ts-expect-error a member is mistyped
  await chat.publish({ tekst: 'Petrel is ahead!' });
  // @ts-expect-error there is no such type
  await chat.publish({ text: 'Petrel is ahead!' }, { type: 'shout' });
  chat.hail('typing', true);
  // @ts-expect-error it says whether, not who
  chat.hail('typing', 'pia');
  // @ts-expect-error there is no such hail
  chat.hail('wave');
  new Typing(chat);

  // A name that is put together is known by its fixed parts.
  await line.publish(`race/${race}/chat`, { text: 'Go!' });
  // @ts-expect-error clients publish nothing there
  await line.publish(`race/${race}/signals`, { signal: 'start', text: 'Start' });
  // @ts-expect-error no pattern matches the name
  line.enter('race/3/chats');
  // Of a name that is not known yet, nothing is known of the data.
  await line.publish(name, { anything: 1 });

  for await (const message of line.enter('race/3/signals'))
    if (message.type === 'finish') void ({ boat: message.data.boat, at: message.data.at } satisfies object);
    else if (message.type === 'signal') void message.data.signal;
    // @ts-expect-error a penalty turn has a number
    else void message.data.signal;

  const positions = line.enter('race/3/positions');
  const position: Position | undefined = positions.board.get('petrel');
  await positions.set('petrel', { x: 1, y: 2 });
  // @ts-expect-error a position has two coordinates
  await positions.set('petrel', { x: 1 });
  const { messages } = await line.read('race/3/chat');
  const said: readonly Talk[] = messages.map(({ data }) => data);
  void [position, said];
}

export async function specific(line: Line<Layered>): Promise<void> {
  await line.publish('race/3', 1);
  await line.publish('race/final', { knots: 3 }, { type: 'wind' });
  // @ts-expect-error the most specific pattern holds: it has no type `message`
  await line.publish('race/final', 1);
  await line.publish('crew/petrel', 'Tack!', { type: 'order' });
}

export async function untyped(): Promise<void> {
  const line = connect('http://127.0.0.1:9119');
  await line.publish('race/3/chat', { anything: true }, { type: 'shout' });
  const entry = line.enter<Position>('race/3/positions');
  const x: number | undefined = entry.board.get('petrel')?.x;
  void x;
}

export async function backend(bells: Backend<Regatta>): Promise<void> {
  await bells.publish({ channel: 'race/3/chat', data: { text: 'Racing is postponed' } });
  await bells.publish({ channel: 'race/3/signals', type: 'signal', data: { signal: 'start', text: 'Start' } });
  // @ts-expect-error there is no such signal
  await bells.publish({ channel: 'race/3/signals', type: 'signal', data: { signal: 'go', text: 'Start' } });
  // @ts-expect-error signals say their type
  await bells.publish({ channel: 'race/3/signals', data: { signal: 'start', text: 'Start' } });
  await bells.publishAll([
    { channel: 'race/3/chat', data: { text: 'One' } },
    { channel: 'weather/north-mark', type: 'reading', data: { knots: 3, from: 'west' } },
  ]);
  // @ts-expect-error a reading has its knots
  await bells.publishAll([{ channel: 'weather/north-mark', type: 'reading', data: { from: 'west' } }]);
  await bells.setEntries({ channel: 'race/3/positions', set: { petrel: { x: 1, y: 2 }, knot: null } });
  // @ts-expect-error a position has two coordinates
  await bells.setEntries({ channel: 'race/3/positions', set: { petrel: { x: 1 } } });
  const { messages } = await bells.read('weather/north-mark');
  void messages.map(({ data }) => data.knots);
  const plain = new Backend('http://127.0.0.1:9119');
  await plain.publish({ channel: 'race/3/chat', data: 1, type: 'anything' });
}
