import { connect, type MessageFilter } from '@nine-bells/client';
import type { Json } from '@nine-bells/wire';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { WebSocket } from 'ws';
import { ninebells, startNinebells } from './support/command.js';
import { type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

const text = `
service: { name: The Regatta, guests: true }
tokens: { secret: "a secret that is long enough for HS256, surely" }
channels:
  - pattern: race/:race/signals
    logbook: kept
    allow: { enter: { any: [anyone, token-allows] }, publish: nobody }
    types: { finish: { schema: { type: object, required: [boat] } }, start: {} }
  - { pattern: "weather/:station", allow: { enter: anyone, publish: anyone } }
`;

let service: StartedService;
const lines: { close(): void }[] = [];

beforeAll(async () => {
  service = await startService({ text });
});

afterAll(async () => {
  for (const line of lines) line.close();
  await service.remove();
});

const lineOf = (transport: 'websocket' | 'stream' | 'poll', token?: string) => {
  const line = connect(service.url, {
    transport,
    WebSocket: WebSocket as never,
    ...(token === undefined ? {} : { token }),
  });
  lines.push(line);
  return line;
};
const publish = (race: number, type: string, data: Json) =>
  service.backend.publish({ channel: `race/${race}/signals`, type, data });

describe('filters', () => {
  it.each(['websocket', 'stream', 'poll'] as const)(
    'hold on a line by %s, live and after a break',
    async (transport) => {
      const race = { websocket: 1, stream: 2, poll: 3 }[transport];
      const filter: MessageFilter = { types: ['finish'], where: { '/boat': 'petrel' } };
      const seen: Json[] = [];
      const entry = lineOf(transport).enter(`race/${race}/signals`, { filter });
      entry.addEventListener('message', ({ detail }) => seen.push(detail.data));
      await entry.ready;
      for (const boat of ['knot', 'petrel']) await publish(race, 'finish', { boat });
      await publish(race, 'start', { boat: 'petrel' });
      await until(() => seen.length > 0);
      expect(seen).toEqual([{ boat: 'petrel' }]);
      const late = lineOf(transport).enter(`race/${race}/signals`, { filter, last: 5 });
      const [first] = await Promise.all([late[Symbol.asyncIterator]().next(), late.ready]);
      expect(first.value).toMatchObject({ data: { boat: 'petrel' }, live: false });
    },
  );

  it('of several entries of a line are each held to, whichever comes first', async () => {
    const line = lineOf('websocket');
    const seen = { finishes: [] as Json[], all: [] as Json[], starts: [] as Json[] };
    const listen = (name: keyof typeof seen, filter?: MessageFilter) => {
      const entry = line.enter('race/4/signals', filter === undefined ? {} : { filter });
      entry.addEventListener('message', ({ detail }) => seen[name].push(detail.data));
      return entry.ready;
    };
    await listen('finishes', { types: ['finish'] });
    await publish(4, 'finish', { boat: 'a' });
    await publish(4, 'start', 'b');
    await listen('all');
    await listen('starts', { types: ['start'] });
    await publish(4, 'finish', { boat: 'c' });
    await publish(4, 'start', 'd');
    await until(() => seen.all.length === 2 && seen.starts.length === 1 && seen.finishes.length === 2);
    expect(seen).toEqual({ finishes: [{ boat: 'a' }, { boat: 'c' }], all: [{ boat: 'c' }, 'd'], starts: ['d'] });
  });

  it('can be imposed by a token', async () => {
    const access = [{ pattern: 'race/:race/signals', only: { where: { '/boat': 'petrel' } } }];
    for (const boat of ['knot', 'petrel']) await publish(5, 'finish', { boat });
    const line = lineOf('websocket', await service.token('tomas', 60_000, { claims: { access } }));
    await line.opened();
    const { messages } = await line.read('race/5/signals');
    expect(messages.map(({ data }) => data)).toEqual([{ boat: 'petrel' }]);
  });

  /** Reads events of a stream that only listens until there are so many. */
  const events = async (query: string, count: number, during: () => Promise<unknown>) => {
    const ended = new AbortController();
    const response = await fetch(`${service.url}/line/listen?${query}`, { signal: ended.signal });
    const found: { event: string; data: string }[] = [];
    let rest = '';
    let began = false;
    for await (const piece of response.body as unknown as AsyncIterable<Uint8Array>) {
      rest += Buffer.from(piece).toString();
      const parts = rest.split('\n\n');
      rest = parts.pop() ?? '';
      for (const part of parts) {
        const [, event = ''] = /^event: (.*)$/m.exec(part) ?? [];
        const [, data = ''] = /^data: (.*)$/m.exec(part) ?? [];
        if (event === 'message') found.push({ event, data });
        if (event === 'entered' && !began) {
          began = true;
          void during();
        }
      }
      if (found.length >= count) break;
    }
    ended.abort();
    return found.map(({ data }) => JSON.parse(data));
  };

  it('hold for a stream that only listens, which gives messages as CloudEvents too', async () => {
    const run = async () => {
      await publish(6, 'start', {});
      await publish(6, 'finish', { boat: 'knot', place: 2 });
      await publish(6, 'finish', { boat: 'petrel', place: 2 });
    };
    const [frame] = await events('channel=race/6/signals&type=finish&where=/boat:petrel&where=/place:2', 1, run);
    expect(frame).toMatchObject({ on: 'message', type: 'finish', data: { boat: 'petrel' } });
    const [event] = await events(
      'channel=race/6/signals&format=cloudevents&type=finish&last=1&where=/boat:knot',
      1,
      async () => {},
    );
    expect(event).toEqual({
      specversion: '1.0',
      id: expect.any(String),
      source: '/the-regatta',
      type: 'finish',
      subject: 'race/6/signals',
      time: expect.stringMatching(/Z$/),
      datacontenttype: 'application/json',
      cursor: expect.stringMatching(/:2$/),
      data: { boat: 'knot', place: 2 },
    });
  });

  it.each([
    ['channel=a&where=boat', 'bad-filter'],
    ['channel=a&where=boat:petrel', 'bad-filter'],
    ['channel=a&type=', 'bad-filter'],
    ['channel=a&format=xml', 'bad-value'],
    ['channel=a&types=finish', 'bad-value'],
  ])('that are none are refused: %s', async (query, code) => {
    const response = await fetch(`${service.url}/line/listen?${query}`);
    expect(await response.json()).toMatchObject({ status: 400, code });
  });

  it('are options of the command, which prints CloudEvents', async () => {
    const env = { NINEBELLS_URL: service.url, NINEBELLS_KEY: service.key };
    const listening = startNinebells(
      [
        'listen',
        'race/7/signals',
        '--type',
        'finish',
        '--where',
        '/boat=petrel',
        '/place=1',
        '--cloudevents',
        '--count',
        '1',
      ],
      env,
    );
    await until(() => listening.err.includes('connected'));
    await publish(7, 'finish', { boat: 'petrel', place: 2 });
    await publish(7, 'finish', { boat: 'petrel', place: 1 });
    const { code, out } = await listening.ended;
    expect(code).toBe(0);
    expect(JSON.parse(out)).toMatchObject({
      specversion: '1.0',
      source: '/the-regatta',
      data: { boat: 'petrel', place: 1 },
    });
    expect((await ninebells(['listen', 'a', '--where', 'boat'], env)).code).toBe(2);
  });
});

describe('CloudEvents', () => {
  const event = {
    specversion: '1.0',
    id: 'e1',
    source: '/timing',
    type: 'finish',
    subject: 'race/8/signals',
    data: { boat: 'knot' },
  };
  const post = async (body: unknown, type: string, headers: Readonly<Record<string, string>> = {}) => {
    const response = await fetch(`${service.url}/v1/messages`, {
      method: 'POST',
      headers: { authorization: `Bearer ${service.key}`, 'content-type': type, ...headers },
      body: typeof body === 'string' ? body : JSON.stringify(body),
    });
    return {
      status: response.status,
      headers: response.headers,
      answer: (await response.json()) as { code?: string; where?: string; cursor?: string },
    };
  };
  const structured = 'application/cloudevents+json; charset=utf-8';

  it('are published in structured, batched and binary mode, each once by source and id', async () => {
    const signed = { ...event, author: 'mira', authorname: 'Mira Holt' };
    expect((await post(signed, structured)).status).toBe(201);
    expect((await post(signed, structured)).answer).toMatchObject({
      cursor: expect.stringMatching(/:1$/),
      repeated: true,
    });
    const batch = [{ ...event, id: 'e2' }, signed, { ...event, id: 'e3', source: `/${'long'.repeat(100)}` }];
    const batched = await post(batch, 'application/cloudevents-batch+json');
    expect(batched.answer).toMatchObject([
      { cursor: expect.stringMatching(/:2$/) },
      { repeated: true },
      { cursor: expect.stringMatching(/:3$/) },
    ]);
    const attributes = {
      'ce-specversion': '1.0',
      'ce-id': 'e4',
      'ce-source': '/timing',
      'ce-type': 'start',
      'ce-subject': 'race/8/signals',
      'ce-author': 'mira',
      'ce-authorname': 'M%C3%ADra',
    };
    expect((await post('"now"', 'application/json', attributes)).status).toBe(201);
    const { messages } = await service.backend.read('race/8/signals');
    expect(messages).toMatchObject([
      { type: 'finish', by: { user: 'mira', name: 'Mira Holt' }, data: { boat: 'knot' } },
      { type: 'finish' },
      { type: 'finish' },
      { type: 'start', by: { user: 'mira', name: 'Míra' }, data: 'now' },
    ]);
  });

  it.each([
    ['another version', { ...event, specversion: '0.3' }, 400, 'bad-value', '/specversion'],
    ['no id', { ...event, id: '' }, 400, 'bad-value', '/id'],
    ['no channel', { ...event, subject: undefined }, 400, 'bad-name', '/subject'],
    ['a type that no message has', { ...event, type: 'a finish' }, 400, 'bad-value', '/type'],
    ['binary data', { ...event, data_base64: 'AA==' }, 400, 'bad-value', '/data_base64'],
    ['data that is not JSON', { ...event, datacontenttype: 'text/xml' }, 415, 'unsupported-type', '/datacontenttype'],
    ['data that does not fit', { ...event, data: {} }, 422, 'bad-data', '/data/boat'],
    ['no event at all', [], 400, 'bad-value', ''],
  ])('are refused with %s', async (_, body, status, code, where) => {
    expect(await post(body, structured)).toMatchObject({ status, answer: { code, where } });
  });

  it('and JSON are all that is taken: other content is refused with what is', async () => {
    const { status, headers, answer } = await post('<finish/>', 'text/xml');
    expect({ status, code: answer.code }).toEqual({ status: 415, code: 'unsupported-type' });
    expect(headers.get('accept-post')).toBe(
      'application/json, application/cloudevents+json, application/cloudevents-batch+json',
    );
  });
});
