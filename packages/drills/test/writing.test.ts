import { parseDrill } from '@nine-bells/drills';
import { drillText, type RecordedEvent, type Recording } from '@nine-bells/drills/write';
import { describe, expect, it } from 'vitest';

const recording = (events: readonly RecordedEvent[]): Recording => ({
  name: 'Tried: twice',
  users: { ines: { name: 'Ines Okoro', roles: ['jury'] }, tomas: { claims: { cases: ['7'] } }, bram: {} },
  clients: [
    { name: 'chair', user: 'ines', transport: 'websocket' },
    { name: 'party', user: 'tomas', transport: 'poll' },
    { name: 'guest-1', transport: 'websocket' },
    { name: 'unused', user: 'bram', transport: 'websocket' },
  ],
  events: [{ type: 'connected', client: 'chair' }, { type: 'connected', client: 'party' }, ...events],
});
const message = { on: 'message', channel: 'protest/7', cursor: 'v:1', id: 'm1', at: 'now', type: 'message' };

describe('what was tried becomes a drill', () => {
  const cases: [RecordedEvent, string][] = [
    [{ type: 'act', client: 'chair', verb: 'enter', members: { channel: 'protest/7' } }, 'chair: { enter: protest/7 }'],
    [
      { type: 'act', client: 'chair', verb: 'enter', members: { channel: 'direct/a,b', last: 3 }, refused: 'banned' },
      'chair: { enter: "direct/a,b", last: 3, refused: banned }',
    ],
    [
      { type: 'act', client: 'chair', verb: 'enter', members: { channel: 'c' }, isAnswered: false },
      'chair: { send: { do: enter, channel: c } }',
    ],
    [{ type: 'act', client: 'chair', verb: 'status', members: { status: null } }, 'chair: { status: null }'],
    [{ type: 'sent', client: 'chair', text: '{ no JSON' }, 'chair: { send: "{ no JSON" }'],
    [{ type: 'network', client: 'party', word: 'offline', value: '5s' }, 'party: { offline: 5s }'],
    [{ type: 'ended', client: 'party', code: 1012 }, 'party: { ends: 1012 }'],
    [{ type: 'connected', client: 'guest-1' }, 'guest-1: { connect: true }'],
    [
      { type: 'application', publish: { channel: 'race/3/signals', data: 1 }, refused: 'no-such-channel' },
      'application: { publish: race/3/signals, data: 1, refused: no-such-channel }',
    ],
    [
      {
        type: 'got',
        client: 'party',
        frame: { ...message, by: { user: 'ines', name: 'Ines' }, data: { text: 'a: b' } },
      },
      'party: { gets: message, channel: protest/7, by: { user: ines }, data: { text: "a: b" } }',
    ],
    [
      { type: 'got', client: 'party', frame: { ...message, type: 'mark', by: { user: 'guest:1' }, data: null } },
      'party: { gets: message, channel: protest/7, type: mark, by: {}, data: null }',
    ],
    [
      { type: 'act', client: 'chair', verb: 'publish', members: { channel: 'c', data: { text: '$(own) costs $3' } } },
      'chair: { publish: c, data: { text: $$(own) costs $3 } }',
    ],
    [
      { type: 'got none', client: 'party', frame: { ...message, data: 'no: 1' } },
      'party: { gets no: message, channel: protest/7, data: "no: 1", for: 200ms }',
    ],
  ];
  it.each(cases)('%j', (event, step) => {
    const enter: RecordedEvent = { type: 'act', client: 'party', verb: 'pulse', members: {} };
    const text = drillText(recording([enter, event]));
    expect(text).toContain(`\n  - ${step}\n`);
    expect(parseDrill(text, 'tried.drill.yaml').steps).toHaveLength(2);
  });

  it('with the users and clients that took part, and no others', () => {
    const drill = parseDrill(drillText(recording(cases.map(([event]) => event))), 'tried.drill.yaml');
    expect(drill.name).toBe('Tried: twice');
    expect(drill.users).toEqual({ ines: { name: 'Ines Okoro', roles: ['jury'] }, tomas: { claims: { cases: ['7'] } } });
    expect(drill.clients).toMatchObject([
      { name: 'chair', user: 'ines', isLater: false },
      { name: 'party', user: 'tomas', transport: 'poll' },
      { name: 'guest-1', isLater: true },
    ]);
  });
});
