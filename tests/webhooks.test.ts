import { createHmac } from 'node:crypto';
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect, LineError } from '@nine-bells/client';
import { Backend, type BackendError } from '@nine-bells/client/backend';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { WebSocket } from 'ws';
import { ninebells, startNinebells } from './support/command.js';
import { type Behaviour, type Received, Receiver, secret, signed } from './support/receiver.js';
import { configurationText, type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

const clean: (() => unknown)[] = [];
afterEach(async () => {
  for (const each of clean.splice(0).reverse()) await each();
});

const formHeaders = {
  authorization: `Basic ${btoa('office:pass')}`,
  'content-type': 'application/x-www-form-urlencoded',
};
/** YAML whose aliases multiply: each line has ten times as many values as the one before. */
const bomb = ['- &a0 [x]', ...Array.from({ length: 9 }, (_, n) => `- &a${n + 1} [${Array(10).fill(`*a${n}`)}]`)].join(
  '\n',
);

const other = 'whsec_T3RoZXJSZWdhdHRhT3RoZXJSZWdhdHRhT3RoZXJSZWdhdHRh';

const intakesText = `
intakes:
  buoy:
    verify: { standard: [${other}, ${secret}] }
    drop: [/keeper, /crew/phone]
    size: 64KiB
    rate: 300/s
    routes:
      - when: { at: /kind, is: wind }
        message: { channel: "race/:race/signals", type: reading, data: { knots: /speed, from: { from: /direction, or: variable } } }
      - when: { any: [{ at: /kind, matches: "ber*" }, { header: x-kind, is: berth }] }
        notice: { users: /crew, title: /text }
      - when: { at: /kind, is: quiet }
        nothing: true
  hex: { verify: { hmac: { header: X-Signature, secrets: [one, two], prefix: "sha256=" } }, routes: [{ nothing: true }] }
  photo: { verify: { hmac: { header: X-Signature, secrets: one } }, body: raw, routes: [{ nothing: true }] }
  scan: { verify: { standard: ${secret} }, body: raw, routes: [{ nothing: true }] }
  timed:
    verify: { hmac: { header: X-Sig, secrets: one, encoding: base64, algorithm: sha512, timestamp: X-Time, signed: "{timestamp}:{header:X-Id}:{body}" } }
    eventId: { at: /id }
    routes: [{ nothing: true }]
  bearer: { verify: { bearer: [one, two] }, body: raw, challenge: echo, routes: [{ nothing: true }] }
  basic: { verify: { basic: { user: office, passwords: [pass] } }, body: form, routes: [{ message: { channel: "race/1/signals", data: { text: /text, all: /n } } }] }
  ids: { verify: none, eventId: { at: /id }, routes: [{ message: { channel: "race/19/signals" } }] }
  large: { verify: none, routes: [{ nothing: true }] }
  open: { verify: none, routes: [{ message: { channel: "race/1/signals" } }] }
`;

describe('an intake', () => {
  let started: StartedService;
  beforeAll(async () => {
    started = await startService({ text: configurationText + intakesText });
  });
  afterAll(() => started.remove());

  const post = (intake: string, body: string | Buffer, headers: Record<string, string> = {}, more: RequestInit = {}) =>
    fetch(`${started.url}/in/${intake}`, {
      method: 'POST',
      body: typeof body === 'string' ? body : new Uint8Array(body),
      headers: { 'content-type': 'application/json', ...headers },
      ...more,
    });
  const settled = (id: string) =>
    until(async () => {
      const found = await started.backend.arrival(id);
      return found.state !== 'waiting' && found;
    });
  let count = 0;
  const arrive = async (event: object, headers: Record<string, string> = {}) => {
    const body = JSON.stringify(event);
    const response = await post('buoy', body, { ...signed(`e${++count}`, body), ...headers });
    expect(response.status).toBe(202);
    const { id } = (await response.json()) as { id: string };
    return settled(id);
  };
  const mac = (algorithm: string, key: string, text: string) => createHmac(algorithm, key).update(text);

  const now = () => String(Math.floor(Date.now() / 1000));
  const body = '{"kind":"quiet"}';
  const timed = (time: string, id = 'i1', key = 'one') => ({
    'x-time': time,
    'x-id': id,
    'x-sig': mac('sha512', key, `${time}:${id}:${body}`).digest('base64'),
  });
  it.each<[string, string, () => Record<string, string>, string?]>([
    ['buoy', 'a signature', () => signed('ok1', body)],
    ['buoy', 'a signature by the other secret', () => signed('ok2', body, new Date(), other)],
    [
      'buoy',
      'two signatures',
      () => {
        const headers = signed('ok3', body);
        return { ...headers, 'webhook-signature': `v1,AAAA ${headers['webhook-signature']}` };
      },
    ],
    ['buoy', 'no signature', () => ({}), 'webhook-id is missing'],
    [
      'buoy',
      'another secret',
      () => signed('x', body, new Date(), `whsec_${Buffer.alloc(32, 7).toString('base64')}`),
      'no v1 signature',
    ],
    ['buoy', 'another id', () => ({ ...signed('x', body), 'webhook-id': 'y' }), 'no v1 signature'],
    ['buoy', 'an old time', () => signed('x', body, new Date(Date.now() - 400_000)), ' s old'],
    ['buoy', 'a time to come', () => signed('x', body, new Date(Date.now() + 400_000)), ' s ahead'],
    ['buoy', 'no time', () => ({ ...signed('x', body), 'webhook-timestamp': 'soon' }), 'is no time'],
    ['hex', 'an HMAC', () => ({ 'x-signature': `sha256=${mac('sha256', 'two', body).digest('hex')}` })],
    [
      'hex',
      'an HMAC without its prefix',
      () => ({ 'x-signature': mac('sha256', 'one', body).digest('hex') }),
      'does not begin',
    ],
    [
      'hex',
      'an HMAC of another body',
      () => ({ 'x-signature': `sha256=${mac('sha256', 'one', 'x').digest('hex')}` }),
      'no sha256 signature',
    ],
    ['hex', 'an HMAC that is none', () => ({ 'x-signature': 'sha256=zz' }), 'no sha256 signature'],
    ['timed', 'an HMAC with time and id', () => timed(now())],
    ['timed', 'a time in milliseconds', () => timed(String(Date.now()))],
    ['timed', 'an old HMAC', () => timed('1700000000'), 'old'],
    ['timed', 'another id', () => ({ ...timed(now()), 'x-id': 'i2' }), 'no sha512 signature'],
    ['bearer', 'a bearer secret', () => ({ authorization: 'Bearer two' })],
    ['bearer', 'another bearer secret', () => ({ authorization: 'Bearer three' }), 'not one of this intake'],
    ['bearer', 'no secret', () => ({}), 'send the secret'],
    [
      'basic',
      'a password',
      () => ({ authorization: `Basic ${btoa('office:pass')}`, 'content-type': 'application/x-www-form-urlencoded' }),
    ],
    ['basic', 'another user', () => ({ authorization: `Basic ${btoa('x:pass')}` }), 'user or password'],
    ['open', 'nothing at all', () => ({})],
  ])('%s, with %s', async (intake, _, headers, fault) => {
    const response = await post(intake, body, headers());
    if (fault === undefined) expect(response.status).toBe(202);
    else {
      expect(response.status).toBe(401);
      expect(await response.json()).toMatchObject({
        code: 'signature-invalid',
        detail: expect.stringContaining(fault),
      });
    }
  });

  it('becomes what its route says, and the phone number is nowhere', async () => {
    const keeper = { name: 'x', phone: '+00 555 0144' };
    const wind = await arrive({ kind: 'wind', race: 7, speed: 12, keeper });
    expect(wind.became?.messages).toMatchObject([{ channel: 'race/7/signals' }]);
    const { messages } = await started.backend.read('race/7/signals');
    expect(messages).toMatchObject([{ type: 'reading', data: { knots: 12, from: 'variable' } }]);
    const berth = await arrive({ kind: 'berth', text: 'Petrel: A1', crew: [{ phone: '+00 555 0144' }], x: 1 });
    expect(berth).toMatchObject({ state: 'failed', problem: '[{}] are no user ids' });
    expect(await arrive({ text: 'Petrel: A1', crew: ['tomas'] }, { 'x-kind': 'berth' })).toMatchObject({
      state: 'done',
    });
    expect((await started.backend.inbox('tomas')).notices).toMatchObject([{ title: 'Petrel: A1' }]);
    expect(wind.body).toEqual({ kind: 'wind', race: 7, speed: 12 });
    for (const file of readdirSync(started.folder).filter((name) => name.startsWith('bells.sqlite')))
      expect(readFileSync(join(started.folder, file)).includes('555 0144')).toBe(false);
  });

  it('takes an event once that comes again under its id, and says so', async () => {
    const event = JSON.stringify({ kind: 'wind', race: 8, speed: 1 });
    const ids: { id: string }[] = [];
    for (let n = 0; n < 3; n++)
      ids.push((await (await post('buoy', event, signed('same', event))).json()) as { id: string });
    expect(ids.slice(1)).toEqual([1, 2].map(() => ({ ...ids[0], repeated: true })));
    await settled(ids[0]?.id ?? '');
    expect((await started.backend.read('race/8/signals')).messages).toHaveLength(1);
  });

  it('tells events apart by ids that are very long, or that no database takes', async () => {
    const ids = [`${'x'.repeat(300)}a`, `${'x'.repeat(300)}b`, 'half \ud83d', 'half \ud83e', 'NUL \u0000'];
    const take = async (id: string) => (await post('ids', JSON.stringify({ id }))).json();
    const first = await Promise.all(ids.map(take));
    expect(new Set(first.map(({ id }) => id)).size).toBe(ids.length);
    const again = await Promise.all(ids.map(take));
    expect(again).toEqual(first.map(({ id }) => ({ id, repeated: true })));
  });

  it('reads forms and bytes', async () => {
    const form = (await (await post('basic', 'text=a+b&n=1&n=2', formHeaders)).json()) as { id: string };
    expect((await settled(form.id)).body).toEqual({ text: 'a b', n: ['1', '2'] });
    expect((await started.backend.read('race/1/signals')).messages.at(-1)?.data).toEqual({
      text: 'a b',
      all: ['1', '2'],
    });
    const bytes = Buffer.from([0, 255, 128]);
    const raw = (await (
      await post('bearer', bytes, { authorization: 'Bearer one', 'content-type': 'image/png' })
    ).json()) as { id: string };
    expect((await settled(raw.id)).body).toBe(bytes.toString('base64'));
  });

  it.each([
    [
      'form of as many fields as fit into it',
      () => post('basic', 'a&'.repeat(131_072), formHeaders),
      /more than 1000 fields/,
    ],
    [
      'trial of routes whose aliases stand for a thousand million values',
      () => started.backend.tryIntake('basic', { text: 'a', routes: bomb }),
      /more than 4000 values/,
    ],
    [
      'trial of routes that are too long',
      () => started.backend.tryIntake('basic', { text: 'a', routes: `[${'x,'.repeat(20_000)}]` }),
      /more than 16384 characters/,
    ],
  ])('refuses a %s at once', async (_, send, why) => {
    const answer = await send().then(
      async (response) => (response instanceof Response ? response.json() : response),
      ({ problem }: BackendError) => problem,
    );
    expect(answer).toMatchObject({ code: 'bad-value', detail: expect.stringMatching(why) });
  });

  it('answers a challenge where configured, as text', async () => {
    const answer = await fetch(`${started.url}/in/bearer?echo=${encodeURIComponent('<b>1</b>')}`);
    expect(await answer.text()).toBe('<b>1</b>');
    expect(answer.headers.get('content-type')).toMatch('text/plain');
    expect((await fetch(`${started.url}/in/buoy?echo=1`)).status).toBe(404);
  });

  it.each<[string, string, string | (() => Promise<Response>), number, string]>([
    ['broken JSON', 'open', '{"a":', 400, 'bad-value'],
    ['JSON nested too deep', 'open', '['.repeat(30_000) + ']'.repeat(30_000), 400, 'bad-value'],
    ['another content type', 'open', () => post('open', '{}', { 'content-type': 'text/html' }), 400, 'bad-value'],
    ['a compressed body', 'open', () => post('open', '{}', { 'content-encoding': 'gzip' }), 400, 'bad-value'],
    ['20 MB', 'open', `"${'x'.repeat(20_000_000)}"`, 413, 'too-large'],
    ['an intake that is none', 'none', '{}', 404, 'no-such-intake'],
    ['a circle', 'open', () => post('open', '{}', { 'ninebells-hops': '5' }), 508, 'circle'],
    ['another method', 'open', () => post('open', '{}', {}, { method: 'DELETE' }), 404, 'no-such-path'],
  ])('refuses %s', async (_, intake, given, status, code) => {
    const response = await (typeof given === 'string' ? post(intake, given) : given()).catch(() => undefined);
    // What is far too large may end the connection before there is an answer.
    if (response === undefined) return;
    expect(response.status).toBe(status);
    expect(await response.json()).toMatchObject({ code });
  });

  it('stays quick for others while one address sends garbage', async () => {
    const garbage = await Promise.all(Array.from({ length: 1_000 }, () => post('buoy', body, { 'webhook-id': 'x' })));
    const statuses = garbage.map(({ status }) => status);
    expect(new Set(statuses)).toEqual(new Set([401, 429]));
    expect(statuses.filter((status) => status === 429).length).toBeGreaterThan(500);
    await started.backend.publish({ channel: 'race/1/signals', data: 'meanwhile' });
    // The address may post again soon.
    await until(async () => (await post('buoy', body, signed('again', body))).status === 202);
  });

  it('takes so many bytes of an address, in requests that are refused too', async () => {
    const large = 'x'.repeat(250_000);
    const statuses = new Set<number>();
    const send = async () => {
      for (let n = 0; n < 200 && !statuses.has(429); n++)
        statuses.add((await post('large', large, { 'content-type': 'text/plain' })).status);
    };
    await Promise.all(Array.from({ length: 8 }, send));
    expect(statuses).toEqual(new Set([400, 429]));
    await until(async () => (await post('large', '{}')).status === 202);
  });

  it('is forwarded to a developer’s machine, signed as its sender signs', async () => {
    const mine = await Receiver.start();
    clean.push(() => mine.stop());
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    for (const [intake, headers] of [
      ['buoy', () => signed('forward', body)],
      ['timed', () => timed(now(), 'forward')],
      ['bearer', () => ({ authorization: 'Bearer two' })],
    ] as const) {
      const command = startNinebells(['forward', intake, mine.url, '--count', '1'], env);
      await until(() => command.err.includes('from now on'));
      expect((await post(intake, body, headers())).status).toBe(202);
      await command.ended;
      const { headers: all, body: gotBody } = mine.got.at(-1) as Received;
      const { 'content-length': _, host: __, connection: ___, ...got } = all;
      // What is signed anew is good for the intake itself.
      expect((await post(intake, gotBody, got)).status).toBe(202);
    }
  });

  it.each<[string, (bytes: Buffer) => Record<string, string>]>([
    ['photo', (bytes) => ({ 'x-signature': createHmac('sha256', 'one').update(bytes).digest('hex') })],
    [
      'scan',
      (bytes) => {
        const key = Buffer.from(secret.slice('whsec_'.length), 'base64');
        const mac = createHmac('sha256', key).update(`scan1.${now()}.`).update(bytes).digest('base64');
        return { 'webhook-id': 'scan1', 'webhook-timestamp': now(), 'webhook-signature': `v1,${mac}` };
      },
    ],
  ])('%s is forwarded byte by byte, and signed over its bytes', async (intake, signedBy) => {
    const bytes = Buffer.from([0xff, 0xd8, 0x00, 0xe9, 0x80, 0x0a]);
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    // The intake is its own receiver: it accepts valid signatures only.
    const command = startNinebells(['forward', intake, `${started.url}/in/${intake}`, '--count', '1', '--json'], env);
    await until(() => command.err.includes('from now on'));
    expect((await post(intake, bytes, signedBy(bytes))).status).toBe(202);
    await command.ended;
    expect(JSON.parse(command.out)).toMatchObject({ status: 202 });
    const { arrivals } = await started.backend.arrivals({ intake, limit: 2 });
    expect(arrivals).not.toEqual([]);
    const shown = await ninebells(['arrivals', arrivals[0]?.id as string], env);
    expect(shown.out).toContain(`6 bytes, shown in base64\n${bytes.toString('base64')}`);
    for (const { id } of arrivals)
      expect(await started.backend.arrival(id)).toMatchObject({ body: bytes.toString('base64'), isBase64: true });
  });

  it('is tried, seen, and run again from the command line', async () => {
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    const run = (...args: string[]) => ninebells(args, env);
    const file = join(started.folder, 'body.json');
    writeFileSync(file, '{"kind":"wind","race":9,"speed":4,"keeper":"x"}');
    const tried = await run('intake', 'test', 'buoy', '--file', file);
    expect(tried).toMatchObject({ code: 0 });
    expect(tried.out).toMatch(
      /Body: \{"kind":"wind","race":9,"speed":4\}\nRoute: 1\n {2}message in race\/9\/signals \(reading\)/,
    );
    expect((await started.backend.read('race/9/signals')).messages).toEqual([]);
    const routes = join(started.folder, 'routes.yaml');
    writeFileSync(routes, '- message: { channel: race/1/signals, data: /none }\n');
    const odd = await run('intake', 'test', 'buoy', '--file', file, '--routes', routes);
    expect([odd.code, odd.out]).toEqual([1, expect.stringContaining('/none finds nothing')]);
    writeFileSync(routes, '- mesage: {}\n');
    expect((await run('intake', 'test', 'buoy', '--file', file, '--routes', routes)).err).toMatch(
      /did you mean "message"/,
    );
    const { arrivals } = await started.backend.arrivals({ state: 'failed', limit: 1 });
    const id = arrivals[0]?.id as string;
    expect((await run('arrivals', '--state', 'failed')).out).toContain('are no user ids');
    expect((await run('arrivals', id)).out).toContain('"kind":"berth"');
    expect((await run('arrivals', id, '--again')).code).toBe(1);
    expect((await run('arrivals', 'none')).err).toContain('Unknown event');
    expect((await run('intake', 'list')).out).toMatch(/buoy +\/in\/buoy +standard/);
  });
});

/** A service whose hook leads to a receiver. */
async function withHook(behave?: Behaviour, more = '', isSecure = false) {
  const receiver = await Receiver.start(behave, isSecure);
  clean.push(() => receiver.stop());
  const started = await startService({
    text: `${configurationText}
hooks:
  bureau: { url: "${receiver.url}/finishes?of=race", secrets: ${secret}, retry: { first: 100ms, most: 1s }, within: 1s ${more} }
`,
  });
  clean.push(() => started.remove());
  const say = (data: unknown, channel = 'race/3/signals', type = 'finish') =>
    started.backend.publish({ channel, type, data: data as never });
  return { receiver, started, say };
}

describe('a hook', () => {
  it('gets CloudEvents, signed, with an id that stays the same', async () => {
    let fails = 2;
    const { receiver, say, started } = await withHook((_, response) => {
      response.statusCode = fails-- > 0 ? 503 : 204;
      response.end();
    });
    const { id } = await say({ boat: 'petrel' });
    await until(() => receiver.got.length === 3);
    expect(new Set(receiver.got.map(({ headers }) => headers['webhook-id']))).toEqual(new Set([`bureau_${id}`]));
    expect(receiver.got.every(({ isSigned, url }) => isSigned && url === '/finishes?of=race')).toBe(true);
    expect(receiver.got[0]?.headers['content-type']).toBe('application/cloudevents+json; charset=utf-8');
    expect(receiver.events[0]).toMatchObject({
      specversion: '1.0',
      id,
      source: '/test-regatta',
      type: 'ninebells.message',
      subject: 'race/3/signals',
      time: expect.any(String),
      data: { channel: 'race/3/signals', type: 'finish', data: { boat: 'petrel' } },
    });
    const detail = await until(async () => {
      const found = await started.backend.delivery(`bureau_${id}`);
      return found.state === 'delivered' && found;
    });
    expect(detail.tried.map(({ status }) => status)).toEqual([204, 503, 503]);
    expect(detail.tried[0]?.sent?.['webhook-signature']).toBe('v1,***');
  });

  it.each<[string, Behaviour, RegExp, boolean?]>([
    [
      'redirects',
      (_, response) => void response.writeHead(302, { location: 'http://10.0.0.1/' }).end(),
      /redirects are not followed \(to http:\/\/10\.0\.0\.1/,
    ],
    ['never answers', () => {}, /no answer within 1 s/],
    ['answers without end', (_, response) => endless(response), /no answer within 1 s|status 500/],
    ['ends the connection', (_, response) => void response.destroy(), /closed|socket|hang up|reset/i],
    ['has a certificate that is not valid', (_, response) => void response.end(), /the certificate is not valid/, true],
  ])('tries again where the receiver %s, and says why', async (_, behave, problem, isSecure = false) => {
    const { say, started } = await withHook(behave, '', isSecure);
    const { id } = await say(1);
    const [tried] = await until(async () => {
      const { tried: all } = await started.backend.delivery(`bureau_${id}`);
      return all.length > 0 && all;
    });
    expect(tried?.problem).toMatch(problem);
    expect((await started.backend.hooks()).hooks).toMatchObject([{ name: 'bureau', waiting: 1 }]);
  });

  it('sends several events in one request where wished', async () => {
    const { receiver, say } = await withHook(undefined, ', batch: { most: 10, within: 200ms }');
    await Promise.all(Array.from({ length: 10 }, (_, n) => say(n)));
    await until(() => receiver.events.length === 10);
    expect(receiver.got.length).toBeLessThan(6);
    expect(receiver.got[0]?.headers['content-type']).toMatch(/^application\/cloudevents-batch\+json/);
    expect(receiver.got.every(({ isSigned }) => isSigned)).toBe(true);
  });

  it('that leads back to an intake goes round no more than a few times', async () => {
    const started = await startService({ text: configurationText });
    const { port } = new URL(started.url);
    await started.stop();
    const text = `${configurationText}
intakes: { back: { verify: { standard: ${secret} }, routes: [{ message: { channel: race/3/signals, data: round } }] } }
hooks: { circle: { url: "http://127.0.0.1:${port}/in/back", secrets: ${secret}, retry: { first: 50ms } } }
`.replace(/verify: \{ standard/, 'eventId: { header: x-none }, verify: { standard');
    const again = await startService({ folder: started.folder, port: Number(port), text });
    clean.push(() => again.remove());
    await again.backend.publish({ channel: 'race/3/signals', data: 'first' });
    const dead = await until(async () => {
      const { deliveries } = await again.backend.deliveries({ state: 'dead' });
      return deliveries[0];
    });
    expect(dead).toMatchObject({ status: 508, attempts: 1 });
    expect((await again.backend.delivery(dead.id)).tried[0]?.answer).toContain('leads back to it');
    expect((await again.backend.read('race/3/signals')).messages).toHaveLength(6);
  });

  it('is registered with a key, for what the key may read and for public addresses only, until the key ends', async () => {
    const { started, say } = await withHook();
    const make = (rights: string[]) => started.backend.makeKey({ name: rights.join(), rights });
    const hooksOnly = await make(['hooks', 'read:race/:race/signals']);
    const app = new Backend(started.url, { key: hooksOnly.key });
    const signals = { name: 'mine', url: 'https://mine.example/', channels: ['race/:race/signals'] };
    const refused = (wish: object, backend = app) =>
      backend.addHook({ ...signals, ...wish } as never).then(
        () => 'taken',
        ({ problem }: BackendError) => `${problem?.code} ${problem?.where ?? ''} ${problem?.detail}`,
      );
    expect(await refused({ channels: ['crew/:boat'] })).toMatch(/not-allowed.*may not read crew\/:boat/);
    expect(await refused({ channels: undefined })).toMatch(/not-allowed.*`read:PATTERN` and `channels` of the hook/);
    expect(await refused({ events: ['messages'] })).toMatch(/bad-value \/events\/0.*"message"/);
    for (const event of ['pending', 'reported', 'silence', 'ban'])
      expect(await refused({ events: ['message', event] })).toMatch(
        `may not hear of \`${event}\` in race/:race/signals`,
      );
    expect(await refused({ name: 'bureau' })).toMatch(/not-allowed.*configuration/);
    expect(await refused({ name: 'A' })).toMatch(/bad-value \/name/);
    expect(await refused({ secrets: ['short'] })).toMatch(/bad-value \/secrets/);
    for (const host of ['127.0.0.1', '10.1.2.3', '[::1]', '169.254.1.1', '[::ffff:127.0.0.1]', '0x7f.1', 'localhost'])
      expect(await refused({ url: `http://${host}:80/` }), host).toMatch(/not-allowed \/url.*not a public address/);
    const blind = new Backend(started.url, { key: (await make(['hooks'])).key });
    for (const act of [
      () => blind.pauseHook('bureau'),
      () => blind.resumeHook('bureau'),
      () => blind.resend({ hook: 'bureau', since: '2031-06-14T16:00:00Z' }),
      () => blind.resend({ ids: ['bureau_e1'] }),
    ])
      await expect(act()).rejects.toMatchObject({ problem: { code: 'not-allowed' } });
    const without = await make(['read', 'publish']);
    expect(await refused({}, new Backend(started.url, { key: without.key }))).toMatch(/not-allowed.*right `hooks`/);

    const added = await app.addHook(signals);
    expect(added.secrets).toEqual([expect.stringMatching(/^whsec_/)]);
    expect(JSON.stringify(await app.hooks().catch(() => started.backend.hooks()))).not.toContain('whsec_');
    await say(1);
    await started.backend.revokeKey(hooksOnly.id);
    const after = await say(2);
    await until(async () => (await started.backend.delivery(`bureau_${after.id}`)).state === 'delivered');
    await expect(started.backend.delivery(`mine_${after.id}`)).rejects.toThrow('Unknown event');
  });

  it('is forwarded to a developer’s machine, as its receiver gets it', async () => {
    const { started, say } = await withHook(undefined, ', batch: { most: 5, within: 50ms }');
    const mine = await Receiver.start();
    clean.push(() => mine.stop());
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    const command = startNinebells(['forward', 'bureau', mine.url, '--count', '2'], env);
    await until(() => command.err.includes('from now on'));
    const { id } = await say('one');
    await say('two');
    expect((await command.ended).out).toMatch(new RegExp(`message in race/3/signals bureau_${id} 200 \\d+ ms`));
    expect(mine.got.map(({ isSigned }) => isSigned)).toEqual([true, true]);
    expect(mine.events[0]).toMatchObject({ id, type: 'ninebells.message', data: { data: 'one' } });
    const { tried } = await until(async () => {
      const found = await started.backend.delivery(`bureau_${id}`);
      return found.tried.length === 2 && found;
    });
    expect(tried.some(({ sent }) => sent?.forwarded !== undefined)).toBe(true);
    expect((await ninebells(['forward', 'none', mine.url], env)).err).toContain('Unknown hook');
    expect((await ninebells(['forward', 'bureau', 'nowhere'], env)).code).toBe(2);
    // Who sees all that a hook hears must be allowed to read it.
    const { key } = await started.backend.makeKey({ name: 'narrow', rights: ['hooks', 'read:race/:race/signals'] });
    const narrow = new Backend(started.url, { key });
    const refused = { problem: { code: 'not-allowed' } };
    await expect(narrow.forwarded('bureau')).rejects.toMatchObject(refused);
    await expect(narrow.reportForwarded('bureau', { id: `bureau_${id}`, tookMs: 1 })).rejects.toMatchObject(refused);
    await narrow.addFeed({ name: 'own', channels: ['race/:race/signals'] });
    expect((await narrow.forwarded('own')).requests).toEqual([]);
    // What waits for something may take longer than other requests.
    const hasty = new Backend(started.url, { key, timeoutMs: 500 });
    expect((await hasty.forwarded('own', { after: 0, waitS: 1 })).requests).toEqual([]);
    expect((await hasty.fetchFeed('own', { waitS: 1 })).events).toEqual([]);
    await expect(narrow.reportForwarded('own', { id: `bureau_${id}`, tookMs: 1 })).rejects.toMatchObject({
      problem: { code: 'no-such-event' },
    });
  });

  it('is listed, paused, resumed and sent to again from the command line', async () => {
    let isDown = true;
    const { started, say } = await withHook(
      (_, response) => void response.writeHead(isDown ? 400 : 200).end('so it is'),
    );
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    const run = (...args: string[]) => ninebells(args, env);
    const { id } = await say({ boat: 'knot' });
    await until(async () => (await started.backend.deliveries({ failed: true })).deliveries[0]);
    expect((await run('deliveries', '--failed')).out).toMatch(
      new RegExp(`bureau_${id} +message +race/3/signals +waiting +[0-9]+ +status 400; again`),
    );
    expect((await run('deliveries', `bureau_${id}`)).out).toMatch(/webhook-signature: v1,\*\*\*[\s\S]*so it is/);
    expect((await run('hook', 'pause', 'bureau')).out).toBe('bureau: paused.\n');
    expect((await run('hook', 'list')).out).toMatch(/bureau +paused +1/);
    isDown = false;
    await run('hook', 'resume', 'bureau');
    await until(async () => (await started.backend.delivery(`bureau_${id}`)).state === 'delivered');
    expect((await run('resend', `bureau_${id}`)).out).toBe('1 delivery is sent again.\n');
    expect((await run('resend', '--hook', 'bureau', '--since', '1h')).code).toBeLessThan(2);
    expect((await run('resend')).err).toContain('ids, or --hook with --since');
    expect((await run('hook', 'add', 'mine', 'http://10.0.0.1/')).code).toBe(3);
    expect((await run('hook', 'remove', 'none')).err).toContain('Unknown hook');
  });
});

function endless(response: { write(text: string): boolean; destroyed: boolean }): void {
  const more = (): void => {
    if (response.destroyed) return;
    response.write('x'.repeat(100));
    setTimeout(more, 20);
  };
  (response as { statusCode?: number }).statusCode = 500;
  more();
}

describe('a feed', () => {
  const text = `${configurationText}
feeds: { finishes: { channels: ["race/:race/signals"], types: [finish], lease: 1s } }
`;
  let started: StartedService;
  beforeAll(async () => {
    started = await startService({ text });
  });
  afterAll(() => started.remove());
  const finish = (n: number) => started.backend.publish({ channel: 'race/3/signals', type: 'finish', data: n });

  it('is read as an async iterator: several share it, and what one leaves comes to another', async () => {
    for (let n = 0; n < 30; n++) await finish(n);
    const seen: number[][] = [[], []];
    const ends = [new AbortController(), new AbortController()];
    const reads = seen.map(async (mine, index) => {
      for await (const event of started.backend.feed('finishes', {
        most: 4,
        signal: ends[index]?.signal as AbortSignal,
      })) {
        mine.push((event.data as { data: number }).data);
        // The first one dies in the middle of an event.
        if (index === 0 && mine.length === 6) return;
      }
    });
    await reads[0];
    await until(() => new Set(seen.flat()).size === 30 && seen[1]?.includes(seen[0]?.at(-1) as number));
    ends[1]?.abort();
    await finish(99);
    await reads[1];
    const [info] = (await started.backend.feeds()).feeds;
    expect(info).toMatchObject({ name: 'finishes', from: 'configuration', leaseMs: 1_000 });
  });

  it('is read as an event stream, which stops at what is not acknowledged', async () => {
    await started.backend.addFeed({ name: 'stream', channels: ['race/:race/signals'], lease: '20s' });
    for (let n = 0; n < 5; n++) await finish(n);
    const abort = new AbortController();
    const open = async () => {
      const response = await fetch(`${started.url}/v1/feeds/stream?most=2`, {
        headers: { authorization: `Bearer ${started.key}`, accept: 'text/event-stream' },
        signal: abort.signal,
      });
      let got = '';
      void (async () => {
        for await (const chunk of response.body ?? []) got += Buffer.from(chunk as Uint8Array).toString();
      })().catch(() => {});
      return { ids: () => [...got.matchAll(/^id: (.*)$/gm)].map((match) => match[1] as string), text: () => got };
    };
    const stream = await open();
    await until(() => stream.ids().length === 2);
    await new Promise((resolve) => setTimeout(resolve, 300));
    expect(stream.ids()).toHaveLength(2);
    expect(stream.text()).toMatch(/event: ninebells\.message\ndata: \{"specversion":"1\.0"/);
    await started.backend.acknowledge('stream', stream.ids());
    await until(() => stream.ids().length === 4);
    // The reader goes: what it has not acknowledged is there for others at once.
    abort.abort();
    const left = new Set<string>();
    await until(async () => {
      for (const { id } of (await started.backend.fetchFeed('stream', { waitS: 0 })).events) left.add(id);
      return left.size === 3;
    });
  });

  it('is made, rewound and removed from the command line', async () => {
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    const run = (...args: string[]) => ninebells(args, env);
    expect((await run('feed', 'add', 'mine', '--channel', 'race/:race/signals')).out).toContain('mine has message');
    await finish(1);
    const read = await run('feed', 'read', 'mine', '--count', '1');
    expect(JSON.parse(read.out)).toMatchObject({ type: 'ninebells.message', data: { data: 1 } });
    expect((await run('feed', 'rewind', 'mine', '--since', '1h')).out).toBe('1 event comes again.\n');
    expect((await run('feed', 'list')).out).toMatch(/mine +active +1/);
    expect((await run('feed', 'remove', 'mine')).out).toBe('mine: removed.\n');
    expect((await run('feed', 'read', 'mine', '--count', '1')).code).toBe(3);
  });
});

describe('a call', () => {
  const behaviour: { now: Behaviour } = { now: () => {} };
  let receiver: Receiver;
  let started: StartedService;
  beforeAll(async () => {
    receiver = await Receiver.start((received, response) => behaviour.now(received, response));
    started = await startService({
      text: `${configurationText}
ask: { secret: ${secret} }
calls:
  declare-turn:
    url: ${receiver.url}/turn
    channel: race/:race/signals
    allow: { role: skipper }
    within: 500ms
    rate: 100/s
  hello: { url: "${receiver.url}/hello", allow: signed-in, within: 500ms, rate: 100/s }
`,
    });
  });
  afterAll(async () => {
    await started.remove();
    await receiver.stop();
  });
  const answer =
    (json: unknown): Behaviour =>
    (_, response) =>
      void response.end(JSON.stringify(json));
  const come = async (more = {}) => {
    const line = connect(started.url, {
      token: () => started.token('tomas', 60_000, { roles: ['skipper'] }),
      backOff: { firstMs: 20, maxMs: 100 },
      ...more,
    });
    clean.push(() => line.close());
    await line.opened();
    return line;
  };
  const turn = { channel: 'race/3/signals' };

  it('is signed, says who asks, and is answered with what it publishes, by SDK over WebSocket and over HTTP', async () => {
    behaviour.now = answer({
      data: { number: 7 },
      publish: [
        { message: { ...turn, type: 'penalty-turn', data: 'Turn 7' } },
        { notice: { users: ['mira'], title: 'Turn 7' } },
      ],
    });
    for (const transport of ['websocket', 'stream', 'poll'] as const) {
      const line = await come({ transport });
      const seen: unknown[] = [];
      const entry = line.enter('race/3/signals');
      entry.addEventListener('message', ({ detail }) => seen.push(detail.data));
      await entry.ready;
      expect(await line.call<{ number: number }>('declare-turn', { reason: 'touched the mark' }, turn)).toEqual({
        number: 7,
      });
      expect(seen).toEqual(['Turn 7']);
    }
    const [asked] = receiver.got;
    expect(asked?.isSigned).toBe(true);
    expect(JSON.parse(asked?.body ?? '')).toMatchObject({
      type: 'call',
      data: {
        call: 'declare-turn',
        channel: 'race/3/signals',
        parameters: { race: '3' },
        user: 'tomas',
        roles: ['skipper'],
        session: expect.any(String),
        key: expect.any(String),
        data: { reason: 'touched the mark' },
      },
    });
    expect((await started.backend.inbox('mira')).notices).toHaveLength(3);
  });

  it.each<[string, Behaviour]>([
    ['is late', () => {}],
    ['answers with HTML', (_, response) => void response.end('<html>')],
    ['answers with 10 MB', (_, response) => void response.end(JSON.stringify({ data: 'x'.repeat(10_000_000) }))],
    ['fails', (_, response) => void response.writeHead(500).end('{}')],
    ['redirects', (_, response) => void response.writeHead(302, { location: '/' }).end()],
    ['says more than an answer has', answer({ data: 1, dat: 2 })],
    ['publishes where it may not', answer({ data: 1, publish: [{ message: { channel: 'committee', data: 1 } }] })],
    ['publishes what there is not', answer({ data: 1, publish: [{ mesage: { channel: 'race/3/signals', data: 1 } }] })],
  ])('fails where the application %s', async (_, behave) => {
    const line = await come();
    // Each failure counts for the breaker: a good answer between them closes it again.
    behaviour.now = answer({ data: 0 });
    await line.call('declare-turn', 1, turn);
    behaviour.now = behave;
    const error = await line.call('declare-turn', 1, turn).catch((failed: unknown) => failed);
    expect(error).toBeInstanceOf(LineError);
    expect((error as LineError).code).toBe('call-failed');
    expect((error as LineError).message).not.toMatch(/127\.0\.0\.1|html/);
  });

  it('is refused in the application’s words', async () => {
    behaviour.now = answer({ refuse: { code: 'banned', text: 'The race is over' } });
    const line = await come();
    const error = (await line.call('hello').catch((failed: unknown) => failed)) as LineError;
    expect([error.code, error.problem?.refusal]).toEqual([
      'call-refused',
      { code: 'banned', text: 'The race is over' },
    ]);
  });

  it('is forwarded to a developer’s machine, while the configured application answers', async () => {
    const mine = await Receiver.start((_, response) => void response.writeHead(418).end());
    clean.push(() => mine.stop());
    behaviour.now = answer({ data: 'theirs' });
    const before = receiver.got.length;
    const command = startNinebells(['forward', 'declare-turn', mine.url, '--count', '2'], {
      NINEBELLS_URL: started.url,
      NINEBELLS_KEY: started.key,
    });
    await until(() => command.err.includes('from now on'));
    const line = await come();
    for (const n of [1, 2]) expect(await line.call('declare-turn', { n }, turn)).toBe('theirs');
    const { out } = await command.ended;
    expect(out).toMatch(/call by tomas in race\/3\/signals call_\w+ 418/);
    const shown = ({ headers, body, isSigned }: Received) => [isSigned, headers['webhook-id'], JSON.parse(body).data];
    expect(mine.got.map(shown)).toEqual(receiver.got.slice(before).map(shown));
  });

  it('gets the first answer over a connection that broke', async () => {
    let count = 0;
    const sockets: WebSocket[] = [];
    class Breakable extends WebSocket {
      constructor(url: string, protocols: string[]) {
        super(url, protocols);
        sockets.push(this);
      }
    }
    behaviour.now = async (_, response) => {
      count += 1;
      sockets.at(-1)?.terminate();
      await new Promise((resolve) => setTimeout(resolve, 200));
      response.end(JSON.stringify({ data: count, publish: [{ message: { ...turn, data: `once ${count}` } }] }));
    };
    const line = await come({ WebSocket: Breakable as never });
    expect(await line.call('declare-turn', null, turn)).toBe(1);
    expect(count).toBe(1);
    const { messages } = await started.backend.read('race/3/signals');
    expect(messages.filter(({ data }) => data === 'once 1')).toHaveLength(1);
  });

  it('is explained', async () => {
    const env = { NINEBELLS_URL: started.url, NINEBELLS_KEY: started.key };
    const run = (...args: string[]) => ninebells(['explain', 'call', ...args], env);
    const refused = await run('declare-turn', '--channel', 'race/3/signals', '--user', 'pia');
    expect([refused.code, refused.out]).toEqual([
      3,
      expect.stringMatching(/call declare-turn by pia: refused, not-allowed/),
    ]);
    expect((await run('hello', '--user', 'pia')).code).toBe(0);
    expect((await run('none', '--user', 'pia')).err).toContain('Unknown call');
  });
});
