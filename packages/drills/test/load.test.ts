import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { DrillFault, figuresIn, parseDrill, readDrill, runLoad } from '@nine-bells/drills';
import { afterEach, describe, expect, it } from 'vitest';
import { type WebSocket, WebSocketServer } from 'ws';
import { Tally } from '../src/load/figures.js';
import { LeanSocket } from '../src/load/leanSocket.js';
import { LoadClient, nowMs } from '../src/load/loadClient.js';
import { dueTimes, pausedTimes } from '../src/load/schedule.js';
import { loadPage } from '../src/report/loadHtml.js';
import { seededRandom } from '../src/run/random.js';

const head = `drill: 1
users: { pia: { name: Pia Lund } }
clients: { pia: pia, fan: { guest: true, times: 20 } }
`;
const load = (text: string): string => `${head}load: { for: 1s, ${text} }\n`;
const act = 'acts: [{ pia: { publish: race/3/chat }, rate: 10/s }]';
function faultsOf(text: string): string {
  try {
    parseDrill(text, 'x.drill.yaml');
    return '';
  } catch (error) {
    if (!(error instanceof DrillFault)) throw error;
    return error.message;
  }
}

describe('a load is read', () => {
  it('with all that it may say', () => {
    const { load: read, steps } = parseDrill(
      `${head}load:
  for: 1m
  connect: 600/m
  first: [{ fan: { enter: "race/$(own)/chat" } }]
  acts:
    - { pia: { publish: race/3/chat, data: { text: Ahoy } }, rate: 2/s to 20/s }
    - { fan: { hail: race/3/chat }, every: 5s to 15s }
    - { application: { publish: race/3/chat }, rate: 1/s }
  must: { delivery p99: 100ms, lost: 0, received: 1000/s }
`,
      'x.drill.yaml',
    );
    expect(steps).toEqual([]);
    expect(read).toMatchObject({
      forMs: 60_000,
      connectPerS: 10,
      acts: [{ rate: { from: 2, to: 20 } }, { pause: { least: 5_000, most: 15_000 } }, { rate: { from: 1, to: 1 } }],
      must: [
        { of: 'delivery', share: 'p99', atMostMs: 100 },
        { of: 'lost', atMost: 0 },
        { of: 'received', atLeastPerS: 1000 },
      ],
    });
  });

  it.each([
    ['both', `${load(act)}steps: [{ wait: 1s }]\n`, 'either `steps` or a `load`'],
    ['neither', head, 'either `steps` or a `load`'],
    ['no time', `${head}load: { ${act} }\n`, 'with `for`'],
    ['no acts', load('acts: []'), 'a list of acts'],
    ['an unknown word', load(`${act}, musst: {}`), 'must'],
    ['no rate', load('acts: [{ pia: { publish: x } }]'), '`rate`'],
    ['a rate and a pause', load('acts: [{ pia: { publish: x }, rate: 1/s, every: 1s }]'), '`rate`'],
    ['a rate that is none', load('acts: [{ pia: { publish: x }, rate: 10 }]'), '10/s'],
    ['a pause that is none', load('acts: [{ pia: { publish: x }, every: 5s to 1s }]'), '5s to 15s'],
    ['an act that is none', load('acts: [{ pia: { gets: message }, rate: 1/s }]'), 'requests of clients'],
    ['one client of a group', load('acts: [{ fan 2: { publish: x }, rate: 1/s }]'), 'of all clients'],
    ['data that is no map', load('acts: [{ pia: { publish: x, data: 7 }, rate: 1/s }]'), 'must be a map'],
    ['a message that is not for all', load('acts: [{ pia: { publish: x, echo: false }, rate: 1/s }]'), '`echo`'],
    [
      'an answer compared',
      load('acts: [{ pia: { publish: x, refused: banned }, rate: 1/s }]'),
      'counted, not compared',
    ],
    ['a first act that is none', load(`${act}, first: [{ wait: 1s }]`), '`first`'],
    ['an unknown limit', load(`${act}, must: { delivery p98: 1s }`), 'delivery p9'],
    ['a limit that is no time', load(`${act}, must: { delivery p99: 3 }`), '100ms'],
    ['a limit that is no number', load(`${act}, must: { lost: few }`), 'such as 0'],
    [
      'another transport',
      `drill: 1\nclients: { fan: { guest: true, transport: poll } }\nload: { for: 1s, acts: [{ fan: { publish: x }, rate: 1/s }] }\n`,
      'WebSockets',
    ],
  ])('and tells of %s', (_, text, told) => expect(faultsOf(text)).toContain(told));
});

it('of the demo is read', () => {
  const file = new URL('../../../demo/load/chat.drill.yaml', import.meta.url).pathname;
  expect(readDrill(file).load?.must).not.toEqual([]);
});

describe('what is due', () => {
  const step = parseDrill(load(act), 'x.drill.yaml').load?.acts[0]?.step as never;
  it.each([
    [20, 20, 1, 200],
    [0, 20, 1, 100],
    [20, 0, 1, 100],
    [20, 20, 3, 200],
  ])('at %d to %d a second in %d processes is planned beforehand', (from, to, of, wanted) => {
    const all = Array.from({ length: of }, (_, index) => [
      ...dueTimes({ step, rate: { from, to } }, 10_000, { index, of }, seededRandom(index)),
    ]);
    for (const times of all) {
      expect(times).toEqual([...times].sort((a, b) => a - b));
      expect(times.every((at) => at >= 0 && at < 10_000)).toBe(true);
    }
    const times = all.flat();
    expect(Math.abs(times.length - wanted)).toBeLessThanOrEqual(of + 1);
    const inFirstHalf = times.filter((at) => at < 5_000).length / times.length;
    expect(inFirstHalf).toBeCloseTo(from === to ? 0.5 : from < to ? 0.25 : 0.75, 1);
  });

  it('with pauses keeps to them', () => {
    const times = [...pausedTimes({ least: 100, most: 300 }, 10_000, seededRandom(1))];
    for (const [index, at] of times.slice(1).entries()) {
      expect(at - (times[index] as number)).toBeGreaterThanOrEqual(100);
      expect(at - (times[index] as number)).toBeLessThanOrEqual(300);
    }
    expect(times.length).toBeGreaterThan(30);
  });
});

describe('a load', () => {
  const servers: Server[] = [];
  afterEach(() => {
    for (const server of servers.splice(0)) {
      server.closeAllConnections();
      server.close();
    }
  });
  /** A service that answers as it is told. */
  async function fake(answer: (socket: WebSocket, request: { do: string; id: number }) => void): Promise<string> {
    const server = createServer((_, response) => response.end());
    servers.push(server);
    const sockets = new WebSocketServer({ server, path: '/line', handleProtocols: () => 'nine-bells.v1' });
    sockets.on('connection', (socket) => socket.on('message', (text) => answer(socket, JSON.parse(text.toString()))));
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  }
  const surroundings = (url: string) => ({ url, key: undefined, tokenFor: async () => 'token' });
  const drillOf = (text: string) => parseDrill(text, 'x.drill.yaml');
  const options = { seed: 1, processes: 2 };

  it('counts what is lost, refused and cut off, and what came too late for the plan', async () => {
    let published = 0;
    const url = await fake((socket, { do: verb, id }) => {
      const say = (frame: object): void => socket.send(JSON.stringify(frame));
      if (verb === 'enter') say({ re: id, channel: 'race/3/chat', cursor: 'v:0', messages: [], more: false });
      else if (verb !== 'publish') say({ re: id });
      else {
        published += 1;
        // The fifth is never told, and the seventh refused.
        if (published === 7) say({ re: id, problem: { code: 'rate-limited' } });
        else if (published === 8) return;
        else say({ re: id, cursor: `v:${published}` });
        if (published !== 5) say({ on: 'message', channel: 'race/3/chat', cursor: `v:${published}`, data: {} });
        if (published === 10) socket.terminate();
      }
    });
    const result = await runLoad(
      drillOf(`drill: 1
users: { pia: }
clients: { pia: pia }
load:
  for: 1s
  first: [{ pia: { enter: race/3/chat } }]
  acts: [{ pia: { publish: race/3/chat }, rate: 40/s }]
  must: { lost: 0, refused: 0, failed: 0, unanswered: 0, received: 1/s }
`),
      surroundings(url),
      options,
    );
    const { total } = result.load ?? {};
    expect(total).toMatchObject({ sent: 40, lost: 2, refused: { 'rate-limited': 1 }, failed: 1, unanswered: 31 });
    expect(result.steps.map(({ status }) => status)).toEqual(['failed', 'failed', 'failed', 'failed', 'passed']);
    expect(result.steps[1]?.failure?.came).toContain('1 rate-limited');
    expect(result.status).toBe('failed');
    const page = loadPage(result.load as never, result.load);
    expect(figuresIn(page)).toEqual(JSON.parse(JSON.stringify(result.load)));
    expect(page).not.toMatch(/(src|href)=/);
    expect(() => figuresIn('<html></html>')).toThrow('not a report');
  });

  it('counts times from when a request was due: a service that stalls does not look fast', async () => {
    let stalledUntil = 0;
    let first = 0;
    const url = await fake((socket, { id, do: verb }) => {
      if (verb === 'publish' && first === 0) {
        first = Date.now();
        stalledUntil = first + 600;
      }
      setTimeout(() => socket.send(JSON.stringify({ re: id })), Math.max(0, stalledUntil - Date.now()));
    });
    const { load: figures } = await runLoad(
      drillOf(`drill: 1
users: { pia: }
clients: { pia: pia }
load: { for: 2s, acts: [{ pia: { publish: race/3/chat }, rate: 50/s }] }
`),
      surroundings(url),
      options,
    );
    expect(figures?.total.sent).toBe(100);
    // 30 of the 100 were due while it stalled, for 300 ms on average.
    expect(figures?.total.reply?.p90).toBeGreaterThan(250);
    expect(figures?.total.reply?.p50).toBeLessThan(figures?.total.reply?.p90 as number);
  });

  it('counts the time of a request that is sent late, too', async () => {
    const url = await fake((socket, { id }) => socket.send(JSON.stringify({ re: id })));
    const host = { url, tally: new Tally(), isOver: false, published: new Map(), lost: 0 };
    const client = new LoadClient(host);
    expect(await client.open('token')).toBe(true);
    client.request('publish', { channel: 'race/3/chat' }, nowMs() - 500);
    await expect.poll(() => host.tally.ms('reply', 50) ?? 0).toBeGreaterThan(499);
    client.close();
  });

  it('says why it cannot begin', async () => {
    const url = await fake((socket, { id }) =>
      socket.send(JSON.stringify({ re: id, problem: { code: 'token-invalid' } })),
    );
    const refused = await runLoad(drillOf(load(act)), surroundings(url), options);
    expect(refused).toMatchObject({ status: 'failed', problem: expect.stringContaining('21 token-invalid') });
    const nowhere = await runLoad(drillOf(load(act)), surroundings('http://127.0.0.1:1'), options);
    expect(nowhere.problem).toContain('21 connections failed');
  });

  it('reads frames however they are cut, answers pings, and says goodbye', async () => {
    const heard: string[] = [];
    const seen: string[] = [];
    const texts = ['short', 'x'.repeat(300), 'y'.repeat(70_000), 'ünïcode 🔔'];
    const url = await fake((socket, request) => {
      seen.push(JSON.stringify(request));
      socket.ping('here?');
      socket.on('pong', (data) => seen.push(`pong ${data}`));
      socket.on('close', (code) => seen.push(`close ${code}`));
      for (const text of texts) socket.send(text);
      socket.send('in ', { fin: false });
      socket.send('parts', { fin: true });
    });
    const ended = new Promise<void>((resolve) => {
      const socket: LeanSocket = new LeanSocket(`${url}/line`, 'nine-bells.v1', {
        opened: () => socket.send('{"do":"hello","id":1}'),
        text: (bytes, start, end) => {
          heard.push(bytes.toString('utf8', start, end));
          if (heard.length === texts.length + 1) socket.close();
        },
        closed: resolve,
      });
    });
    await ended;
    expect(heard).toEqual([...texts, 'in parts']);
    await expect.poll(() => seen).toEqual(expect.arrayContaining(['pong here?', 'close 1000']));
  });
});
