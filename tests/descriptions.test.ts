import { hookEvents } from '@nine-bells/core';
import { TestService } from '@nine-bells/testing';
import { Ajv2020, type ValidateFunction } from 'ajv/dist/2020.js';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { routesOf } from '../packages/service/dist/http/app.js';
import { membersOf } from '../packages/service/dist/http/body.js';
import { describedText } from './support/described.js';
import { RawLine } from './support/rawLine.js';
import { type StartedService, startService } from './support/service.js';
import { until } from './support/until.js';

// biome-ignore lint/suspicious/noExplicitAny: a description is plain data
type Any = any;

let service: StartedService;
let http: Any;
let line: Any;
let ajv: Ajv2020;
const compiled = new Map<string, ValidateFunction>();
let someKey: string;

const get = async (path: string, bearer?: string) => {
  const headers = bearer === undefined ? {} : { authorization: `Bearer ${bearer}` };
  const response = await fetch(service.url + path, { headers });
  return { status: response.status, body: (await response.json()) as Any };
};
const token = (user: string, more: object = {}) => service.token(user, 60_000, more);
/** What does not fit a schema that stands at a JSON Pointer of a description. */
const misfits = (document: string, pointer: string, value: unknown): string => {
  const place = `${document}#${pointer}`;
  const check = compiled.get(place) ?? ajv.compile({ $ref: place });
  compiled.set(place, check);
  if (check(value)) return '';
  return (check.errors ?? [])
    .map((each) => `${each.instancePath} ${each.message} ${JSON.stringify(each.params)}`)
    .join('\n');
};
const pointed = (...steps: readonly string[]): string =>
  steps.map((each) => `/${encodeURIComponent(each.replaceAll('~', '~0').replaceAll('/', '~1'))}`).join('');

beforeAll(async () => {
  service = await startService({ text: describedText });
  const pia = await RawLine.open(service.url);
  await pia.hello({ token: await token('pia'), enter: [{ channel: 'race/3/chat' }] });
  for (const id of [2, 3]) {
    pia.send({ do: 'publish', id, channel: 'watched', data: id });
    await pia.reply(id);
  }
  someKey = (await service.backend.makeKey({ name: 'some', rights: ['read:jury/:case'] })).key;
  http = (await get('/openapi.json')).body;
  line = (await get('/asyncapi.json', service.key)).body;
  ajv = new Ajv2020({ strict: false, allErrors: true, validateFormats: false });
  ajv.addSchema(http, 'http');
  ajv.addSchema(line, 'line');
});

afterAll(() => service.remove());

describe('/openapi.json', () => {
  it('names every route of the table with its query and its body', () => {
    expect(http.openapi).toBe('3.1.0');
    const routes = routesOf({ engine: service.service.engine, facts: { name: 'x' } } as Parameters<typeof routesOf>[0]);
    for (const { name, query = [], body } of routes) {
      const [method = '', path = ''] = name.split(' ');
      const operation = http.paths[path.replace(/:(\w+)/, '{$1}')][method.toLowerCase()];
      const parameters = (operation.parameters ?? []) as { in: string; name: string }[];
      const asked = parameters.filter((each) => each.in === 'query').map((each) => each.name);
      expect([name, asked.sort()]).toEqual([name, [...query].sort()]);
      if (body === undefined) continue;
      // What the class takes is what the type says.
      const found = new Set<string>();
      const collect = (schema: Any): void => {
        if (schema.$ref !== undefined) collect(http.components.schemas[schema.$ref.split('/').at(-1)]);
        for (const each of schema.anyOf ?? schema.allOf ?? []) collect(each);
        if (schema.items !== undefined && schema.properties === undefined) collect(schema.items);
        for (const member of Object.keys(schema.properties ?? {})) found.add(member);
      };
      collect(operation.requestBody.content['application/json'].schema);
      expect([name, [...found].sort()]).toEqual([name, [...membersOf(body).keys()].sort()]);
    }
    for (const path of ['/line/listen', '/line/sessions', '/in/{name}', '/healthz', '/readyz'])
      expect(Object.keys(http.paths)).toContain(path);
    expect(http.components.schemas.Draft.properties.type.maxLength).toBe(64);
  });

  it('has examples that fit', () => {
    let count = 0;
    const look = (value: Any, steps: readonly string[]): void => {
      if (typeof value !== 'object' || value === null) return;
      if ('schema' in value && ('example' in value || 'examples' in value)) {
        const all = 'example' in value ? [value.example] : Object.values(value.examples).map((each: Any) => each.value);
        for (const each of all)
          expect([steps, misfits('http', pointed(...steps, 'schema'), each)]).toEqual([steps, '']);
        count += all.length;
      }
      for (const [name, each] of Object.entries(value)) look(each, [...steps, name]);
    };
    look(http.paths, ['paths']);
    expect(count).toBeGreaterThan(100);
  });

  const entry = '{"channel":"race/3/chat","set":{"petrel":{"x":1},"knot":{"x":2}}}';
  it.each<[string, string, number, string?]>([
    ['POST', '/v1/messages', 201, '{"channel":"race/3/chat","data":{"text":"Go"},"key":"k1","by":{"user":"mira"}}'],
    ['POST', '/v1/messages', 200, '{"channel":"race/3/chat","data":{"text":"Go"},"key":"k1","by":{"user":"mira"}}'],
    ['POST', '/v1/messages', 200, '[{"channel":"race/3/chat","data":{"text":"On"}}]'],
    ['POST', '/v1/messages', 422, '{"channel":"race/3/chat","data":{"txt":"Go"}}'],
    ['POST', '/v1/messages', 422, '{"channel":"race/3/chat","data":1,"type":"nothing"}'],
    ['POST', '/v1/messages', 404, '{"channel":"nowhere/at/all","data":1}'],
    ['POST', '/v1/messages', 400, '{"channel":"a//b","data":1,"more":2}'],
    ['GET', '/v1/messages?channel=race/3/chat&limit=2', 200],
    ['GET', '/v1/messages?channel=race/3/chat&after=zzz:9', 200],
    ['GET', '/v1/messages?channel=race/3/chat&after=x', 400],
    [
      'POST',
      '/v1/revisions',
      201,
      '{"channel":"race/3/chat","cursor":"PLACE","data":{"text":"Off"},"by":{"user":"mira"}}',
    ],
    [
      'POST',
      '/v1/revisions',
      409,
      '{"channel":"race/3/chat","cursor":"PLACE","data":{"text":"Off"},"ifRevision":null}',
    ],
    ['POST', '/v1/revisions', 422, '{"channel":"race/3/chat","cursor":"PLACE","data":{"txt":"Off"}}'],
    ['POST', '/v1/withdrawals', 404, '{"channel":"race/3/chat","cursor":"PLACE","message":"other","reason":"rude"}'],
    ['GET', '/v1/messages?channel=race/3/chat&after=PLACE', 200],
    ['GET', '/v1/revisions?channel=race/3/chat&cursor=PLACE', 200],
    ['POST', '/v1/reactions', 200, '{"channel":"race/3/chat","cursor":"PLACE","word":"wow","by":{"user":"pia"}}'],
    ['GET', '/v1/messages?channel=race/3/chat&limit=5', 200],
    ['GET', '/v1/reactions?channel=race/3/chat&cursor=PLACE&limit=1', 200],
    ['GET', '/v1/rules', 200],
    ['POST', '/v1/boards', 200, entry],
    ['POST', '/v1/boards', 200, `[${entry}]`],
    ['POST', '/v1/boards', 409, '{"channel":"race/3/chat","set":{"petrel":{"x":1}},"ifVersion":null}'],
    ['POST', '/v1/boards', 422, '{"channel":"race/3/chat","set":{"petrel":7}}'],
    ['GET', '/v1/boards?channel=race/3/chat', 200],
    ['GET', '/v1/channels', 200],
    ['GET', '/v1/channels?channel=race/3/chat', 200],
    ['GET', '/v1/sessions', 200],
    ['GET', '/v1/members?channel=race/3/chat', 200],
    ['GET', '/v1/members?user=pia', 200],
    ['GET', '/v1/instances', 200],
    ['GET', '/v1/traffic', 200],
    ['GET', '/v1/refusals', 200],
    ['GET', '/v1/overview', 200],
    ['POST', '/v1/explain', 200, '{"act":"publish","channel":"crew/petrel","user":"ines","claims":{"boats":["knot"]}}'],
    ['POST', '/v1/explain', 200, '{"act":"enter","channel":"race/3/chat","guest":true}'],
    [
      'POST',
      '/v1/bans',
      201,
      '{"user":"tomas","channel":"race/3/chat","forMs":60000,"reason":"shouting","by":{"user":"mira"}}',
    ],
    ['POST', '/v1/explain', 200, '{"act":"enter","channel":"race/3/chat","user":"tomas"}'],
    ['GET', '/v1/bans', 200],
    ['DELETE', '/v1/bans/BAN?reason=enough', 200],
    ['DELETE', '/v1/bans/none', 404],
    ['POST', '/v1/silences', 201, '{"user":"oona","channel":"race/3/chat","forMs":60000,"reason":"shouting"}'],
    ['GET', '/v1/silences', 200],
    ['DELETE', '/v1/silences/SILENCE', 200],
    ['POST', '/v1/reports', 201, '{"channel":"race/3/chat","cursor":"PLACE","reason":"rude","by":{"user":"pia"}}'],
    ['GET', '/v1/reports', 200],
    ['POST', '/v1/reports/REPORT/end', 200, '{"note":"settled"}'],
    ['GET', '/v1/reports?state=ended', 200],
    ['GET', '/v1/pending?channel=watched&user=pia&limit=1', 200],
    ['POST', '/v1/pending/PENDING/approve', 200, '{"by":{"user":"mira"}}'],
    ['POST', '/v1/pending/PENDING/reject', 404, '{"reason":"rude"}'],
    ['GET', '/v1/pending?state=refused', 200],
    ['POST', '/v1/removals', 201, '{"channel":"race/3/chat","user":"tomas","banMs":1000}'],
    ['POST', '/v1/sign-outs', 201, '{"user":"tomas"}'],
    ['POST', '/v1/token-revocations', 201, '{"user":"tomas","reason":"lost"}'],
    ['POST', '/v1/prune', 200, '{"dryRun":true}'],
    ['POST', '/v1/holds', 200, '{"channel":"race/3/chat","reason":"an appeal","by":{"user":"mira"}}'],
    ['POST', '/v1/holds', 400, '{"channel":"weather/buoy"}'],
    ['GET', '/v1/holds', 200],
    ['DELETE', '/v1/holds?channel=race/3/chat', 200],
    ['POST', '/v1/erasures', 201, '{"user":"nobody","messages":"blank","by":{"user":"mira"}}'],
    ['POST', '/v1/erasures', 400, '{"user":"erased:user"}'],
    ['GET', '/v1/erasures', 200],
    ['GET', '/v1/erasures/none', 404],
    ['GET', '/v1/persons?user=pia', 200],
    ['GET', '/v1/persons?user=pia&after=x', 400],
    ['GET', '/v1/audit', 200],
    ['POST', '/v1/notices', 201, '{"users":["pia"],"title":"At 17:30","key":"k","forMs":60000,"data":{"a":[1]}}'],
    ['POST', '/v1/notices', 400, '{"title":"","users":[7]}'],
    ['GET', '/v1/notices?user=pia', 200],
    ['POST', '/v1/notices/done', 200, '{"user":"pia","done":true}'],
    ['GET', '/v1/users?user=pia', 200],
    ['GET', '/v1/users?user=nobody', 404],
    ['POST', '/v1/marks', 200, '{"user":"pia","channel":"race/3/chat","cursor":"CURSOR"}'],
    ['GET', '/v1/unread?user=pia', 200],
    ['GET', '/v1/marks?channel=race/3/chat', 200],
    ['GET', '/v1/threads?user=pia&channel=race/3/chat', 200],
    ['GET', '/v1/search?words=recall&by=mira&limit=3', 200],
    ['GET', '/v1/search?words=%22', 400],
    ['GET', '/v1/search/progress', 200],
    ['POST', '/v1/levels', 200, '{"user":"pia","channel":"race/3/chat","level":"mentions","forMs":60000}'],
    ['POST', '/v1/levels', 400, '{"user":"pia","channel":"race/3/chat","level":"loud"}'],
    ['GET', '/v1/levels?user=pia', 200],
    ['GET', '/v1/digest?user=pia&since=2031-06-14T06:00:00Z&lines=2', 200],
    ['GET', '/v1/digest?user=pia&since=noon', 400],
    ['POST', '/v1/invitations', 201, '{"channel":"race/3/chat","user":"pia","by":{"user":"mira"}}'],
    ['POST', '/v1/invitations', 400, '{"channel":"race/3/chat","uses":0}'],
    ['GET', '/v1/invitations?channel=race/3/chat', 200],
    ['POST', '/v1/invitations/INVITATION/end', 404, '{"admitted":true}'],
    ['GET', '/v1/admissions?channel=race/3/chat', 200],
    ['POST', '/v1/admissions/end', 200, '{"channel":"race/3/chat","user":"pia"}'],
    ['POST', '/v1/blocks', 200, '{"user":"pia","blocks":"jory","as":"muted"}'],
    ['POST', '/v1/blocks', 400, '{"user":"pia","blocks":"jory","as":"hated"}'],
    ['GET', '/v1/blocks?user=pia', 200],
    ['POST', '/v1/blocks', 200, '{"user":"pia","blocks":"jory","as":null}'],
    ['GET', '/v1/traces/MESSAGE?user=pia', 200],
    ['GET', '/v1/traces/none', 404],
    ['POST', '/in/buoy', 202, '{"kind":"wind","reading":{"knots":7}}'],
    ['GET', '/v1/intakes', 200],
    ['POST', '/v1/intakes/buoy/test', 200, '{"body":{"kind":"wind","reading":{"knots":7}}}'],
    ['POST', '/v1/intakes/none/test', 404, '{"body":{}}'],
    ['GET', '/v1/arrivals', 200],
    ['GET', '/v1/arrivals/ARRIVAL', 200],
    ['GET', '/v1/arrivals/none', 404],
    ['POST', '/v1/arrivals/ARRIVAL/again', 400, '{}'],
    [
      'POST',
      '/v1/hooks',
      201,
      '{"name":"late","url":"https://bureau.example/in","channels":["race/:race/chat"],"types":["recall"],"retry":{"first":"1s"}}',
    ],
    ['POST', '/v1/hooks', 400, '{"name":"late"}'],
    ['GET', '/v1/hooks', 200],
    ['GET', '/v1/hooks/bureau', 200],
    ['GET', '/v1/hooks/none', 404],
    ['POST', '/v1/hooks/bureau/pause', 200, '{}'],
    ['GET', '/v1/hooks/bureau', 200],
    ['POST', '/v1/hooks/bureau/resume', 200, '{}'],
    ['DELETE', '/v1/hooks/late', 200],
    ['GET', '/v1/deliveries', 200],
    ['GET', '/v1/deliveries/DELIVERY', 200],
    ['POST', '/v1/deliveries/resend', 200, '{"hook":"bureau","since":"2031-06-14T12:00:00Z"}'],
    ['GET', '/v1/forward/bureau', 200],
    ['GET', '/v1/forward/bureau?after=0&wait=1', 200],
    ['POST', '/v1/forward/bureau/report', 200, '{"id":"DELIVERY","status":200,"tookMs":3}'],
    ['POST', '/v1/feeds', 201, '{"name":"later","channels":["race/:race/chat"],"lease":"30s"}'],
    ['GET', '/v1/feeds', 200],
    ['GET', '/v1/feeds/results?wait=1', 200],
    ['POST', '/v1/feeds/results/ack', 200, '{"ids":["x"]}'],
    ['POST', '/v1/feeds/results/rewind', 200, '{"since":"2031-06-14T12:00:00Z"}'],
    ['DELETE', '/v1/feeds/later', 200],
    ['POST', '/v1/keys', 201, '{"name":"results","rights":["read"],"forMs":60000}'],
    ['POST', '/v1/keys', 400, '{"name":"results","rights":["all"]}'],
    ['GET', '/v1/keys', 200],
    ['DELETE', '/v1/keys/KEY', 200],
    ['POST', '/v1/workbench/tokens', 201, '{"user":"tomas","roles":["jury"]}'],
    ['POST', '/v1/workbench/example-user', 200, '{"act":"enter","channel":"crew/petrel"}'],
    ['POST', '/v1/sign-in-links', 201, '{"looksOnly":true}'],
    ['POST', '/v1/observer-tokens', 201],
    ['POST', '/line/sessions', 201, '{"do":"hello","id":1,"enter":[{"channel":"race/3/chat","last":5}]}'],
    ['POST', '/line/sessions', 401, '{"do":"hello","id":1,"token":"x"}'],
    ['GET', '/line/listen?channel=crew/petrel', 403],
    ['GET', '/line/listen?channel=race/3/chat&where=boat', 400],
    ['GET', '/healthz', 200],
    ['GET', '/readyz', 200],
  ])('says what %s %s answers: %i', async (method, path, status, body) => {
    known.cursor ||= (await service.backend.read('race/3/chat')).cursor;
    const filled = (given: string): string =>
      given.replaceAll(
        /CURSOR|PLACE|MESSAGE|BAN|SILENCE|REPORT|PENDING|ARRIVAL|DELIVERY|KEY/g,
        (name) => known[name.toLowerCase()] ?? name,
      );
    // What came in is published a little later.
    const isDone = async () => (await get(filled('/v1/arrivals/ARRIVAL'), service.key)).body.state === 'done';
    if (path.endsWith('/ARRIVAL/again')) await until(isDone);
    const isLine = path.startsWith('/line');
    const bearer = path.startsWith('/in/') ? 'the-buoy-may-come-in' : service.key;
    const response = await fetch(service.url + filled(path), {
      method,
      headers: {
        ...(isLine ? {} : { authorization: `Bearer ${bearer}` }),
        ...(body === undefined ? {} : { 'content-type': 'application/json' }),
      },
      ...(body === undefined ? {} : { body: filled(body) }),
    });
    const answer = (await response.json()) as Any;
    expect([response.status, answer.detail]).toEqual([status, status < 300 ? undefined : answer.detail]);
    const [bare = ''] = path.split('?');
    const at = Object.keys(http.paths).find((each) => {
      const pattern = new RegExp(`^${each.replaceAll(/\{\w+\}/g, '[^/]+')}$`);
      return pattern.test(bare) && http.paths[each][method.toLowerCase()] !== undefined;
    });
    const type = response.headers.get('content-type')?.split(';')[0] ?? '';
    const place = ['paths', at ?? '', method.toLowerCase(), 'responses', String(status), 'content', type, 'schema'];
    expect(misfits('http', pointed(...place), answer)).toBe('');
    // A body that is taken is one that is described.
    if (body !== undefined && status < 300) {
      const wanted = ['paths', at ?? '', method.toLowerCase(), 'requestBody', 'content', 'application/json', 'schema'];
      if (http.paths[at ?? ''][method.toLowerCase()].requestBody !== undefined)
        expect(misfits('http', pointed(...wanted), JSON.parse(filled(body)))).toBe('');
    }
    remember(bare, answer);
    seen.add(`${method} ${at}`);
  });

  const known: Record<string, string> = {};
  const seen = new Set<string>();
  const remember = (path: string, answer: Any): void => {
    if (path === '/v1/bans' && answer.bans?.[0] !== undefined) known.ban = answer.bans[0].id;
    if (path === '/v1/reports') known.report ??= answer.report;
    if (path === '/v1/pending') known.pending ??= answer.pending?.[0]?.id;
    if (path === '/v1/silences') known.silence ??= answer.silences?.[0]?.id;
    if (path === '/v1/messages' && answer.id !== undefined) known.place ??= answer.cursor;
    if (path === '/v1/messages' && answer.id !== undefined) known.message ??= answer.id;
    if (path === '/v1/arrivals') known.arrival ??= answer.arrivals?.[0]?.id;
    if (path === '/v1/deliveries') known.delivery ??= answer.deliveries?.[0]?.id;
    if (path === '/v1/keys' && answer.key !== undefined) known.key = answer.id;
  };

  it('has been compared with an answer to every one of its requests', () => {
    const all = Object.entries<Any>(http.paths).flatMap(([path, each]) =>
      Object.keys(each).map((method) => `${method.toUpperCase()} ${path}`),
    );
    // Those of a session over HTTP need one each; the end comes in the last test of all.
    const others = all.filter((each) => !seen.has(each) && !/\/line\/sessions\/|\/line\/listen|\/v1\/drain/.test(each));
    expect(others).toEqual([]);
  });
});

describe('the webhooks of /openapi.json', () => {
  it('describe what the service sends to the application and to receivers of hooks', async () => {
    const events = hookEvents.filter((each) => each !== 'unreached');
    await using test = await TestService.start({
      text: `
service: { name: Test Regatta, port: 0, guests: true }
tokens: { secret: the-secret-of-the-test-regatta-of-32-bytes }
ask: { secret: whsec_R2FubmV0U291bmRSZWdhdHRhRGVtb1NlY3JldCE= }
intakes: { buoy: { verify: none, routes: [{ message: { channel: talk, data: { x: /none } } }] } }
calls: { turn: { url: "http://app.example/turn", allow: signed-in } }
hooks:
  all: { url: "http://bureau.example", secrets: whsec_UmVzdWx0c0J1cmVhdURlbW9TZWNyZXROb3RSZWFs, boardEvery: 1s, events: [${events}] }
channels:
  - pattern: talk
    logbook: kept
    presence: true
    board: true
    review: { ask: "http://app.example/review" }
    allow: { enter: { ask: "http://app.example/enter" }, publish: signed-in, set: signed-in, withdraw: signed-in }
`,
      review: ({ message }) => (message.data === 'hold' ? { hold: true, reason: 'later' } : true),
      calls: { turn: () => ({ data: 1 }) },
    });
    const { application, backend, clock } = test;
    const pia = await test.client({ user: 'pia', name: 'Pia Lund', claims: { boats: ['petrel'] } });
    const operator = { by: { user: 'mira' } };
    await pia.enter('talk');
    const { cursor } = await pia.publish('talk', 'Ahoy');
    await pia.refused('publish', { channel: 'talk', data: 'hold' });
    await pia.say('call', { name: 'turn', data: 1 });
    await pia.say('set', { channel: 'talk', entry: 'petrel', value: 1 });
    await backend.report({ channel: 'talk', cursor, reason: 'rude', by: { user: 'ines' } });
    await pia.say('withdraw', { channel: 'talk', cursor });
    await fetch(`${test.url}/in/buoy`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{}' });
    const silence = await backend.silence({ user: 'tomas', forMs: 60_000, ...operator });
    await backend.endSilence(silence.id);
    const ban = await backend.ban({ address: '192.0.2.0/24', reason: 'scraping' });
    await backend.unban(ban.id);
    await backend.remove({ channel: 'talk', user: 'tomas', banMs: 60_000 });
    await backend.revokeTokens('tomas');
    await backend.signOut('tomas');
    clock.move(3_000);
    await application.gets('delivery', { type: 'ninebells.joined' }, { withinMs: 20_000 });
    await pia.say('leave', { channel: 'talk' });
    clock.move(15_000);
    const bodies: Any[] = [];
    for (const kind of ['ask', 'review', 'call'] as const) {
      const { on: _, url: __, ...data } = await application.gets(kind);
      const type = { ask: 'access.ask', review: 'message.review', call: 'call' }[kind];
      bodies.push({ type, timestamp: 'now', data });
    }
    for (const event of events) {
      const type = `ninebells.${event}`;
      // Received above.
      if (event === 'joined') continue;
      const { on: _, url: __, hook: ___, ...body } = await application.gets('delivery', { type }, { withinMs: 20_000 });
      bodies.push(body);
    }
    for (const body of bodies) {
      const [content] = Object.keys(http.webhooks[body.type].post.requestBody.content);
      const pointer = pointed('webhooks', body.type, 'post', 'requestBody', 'content', content as string, 'schema');
      expect([body.type, misfits('http', pointer, body)]).toEqual([body.type, '']);
    }
    expect(Object.keys(http.webhooks).sort()).toEqual(
      ['access.ask', 'message.review', 'call', ...hookEvents.map((each) => `ninebells.${each}`)].sort(),
    );
  });
});

describe('/asyncapi.json', () => {
  it.each<[string, () => Promise<string | undefined>, string]>([
    ['a guest', async () => undefined, 'race watched weather'],
    ['a user of a boat', () => token('ines', { claims: { boats: ['petrel'] } }), 'crew race watched weather'],
    ['a user of no boat', () => token('pia', { claims: { boats: [] } }), 'race watched weather'],
    ['a juror', () => token('tomas', { roles: ['jury'] }), 'jury race watched weather'],
    ['a key', async () => service.key, 'crew jury race watched weather'],
    ['a key for some', async () => someKey, 'jury'],
  ])('names the channels that %s may know of', async (_, bearer, names) => {
    const { status, body } = await get('/asyncapi.json', await bearer());
    expect(status).toBe(200);
    const addresses = Object.values<Any>(body.channels).map(({ address }) => address.split('/')[0]);
    expect(addresses.filter((each) => each !== '').sort()).toEqual(names.split(' '));
  });

  it.each([
    ['no key of this service', 'x'],
    ['a token with a wrong signature', 'a.b.c'],
  ])('refuses %s', async (_, bearer) => {
    expect(await get('/asyncapi.json', bearer)).toMatchObject({ status: 401, body: { code: expect.any(String) } });
  });

  it('has examples that fit', () => {
    let count = 0;
    for (const [id, { messages }] of Object.entries<Any>(line.channels))
      for (const [name, { examples = [] }] of Object.entries<Any>(messages))
        for (const { payload } of examples) {
          expect([id, name, misfits('line', pointed('channels', id, 'messages', name, 'payload'), payload)]).toEqual([
            id,
            name,
            '',
          ]);
          count += 1;
        }
    expect(count).toBeGreaterThanOrEqual(4);
    const wrong = { on: 'message', channel: 'race/1/chat', cursor: 'a:1', id: 'x', type: 'message', at: 'x', data: {} };
    const place = pointed('channels', 'channel-race-race-chat', 'messages', 'message-message', 'payload');
    expect(misfits('line', place, wrong)).toContain("must have required property 'text'");
  });

  it('describes every frame that passes', async () => {
    const pia = await RawLine.open(service.url);
    const jury = await RawLine.open(service.url);
    const said: Any[] = [];
    let id = 1;
    const say = async (each: RawLine, request: Any): Promise<void> => {
      said.push({ ...request, id: ++id });
      each.send(said.at(-1));
      await each.reply(id);
    };
    await say(pia, {
      do: 'hello',
      token: await token('pia'),
      inbox: 'a:0',
      enter: [{ channel: 'race/4/chat', last: 5 }],
    });
    await say(jury, { do: 'hello', token: await token('tomas', { roles: ['jury'] }) });
    const channel = 'race/4/chat';
    const { cursor } = await service.backend.publish({ channel, data: { text: 'Ready' } });
    for (const request of [
      { do: 'enter', channel, last: 3, filter: { types: ['message'] }, status: { away: true } },
      { do: 'publish', channel, data: { text: 'Go' }, key: 'one' },
      { do: 'publish', channel, data: { text: 7 } },
      { do: 'revise', channel, cursor, data: { text: 'Steady' }, ifRevision: null, key: 'two' },
      { do: 'read', channel, after: cursor },
      { do: 'revisions', channel, cursor, limit: 5 },
      { do: 'react', channel, cursor, word: 'wow' },
      { do: 'react', channel, cursor, word: 'wow', on: false },
      { do: 'react', channel, cursor, word: '⛵' },
      { do: 'reactors', channel, cursor, limit: 1 },
      { do: 'enter', channel, last: 3, reactions: 'a:0' },
      { do: 'withdraw', channel, cursor, reason: 'too early' },
      { do: 'withdraw', channel, cursor },
      { do: 'hail', channel, type: 'typing', data: true },
      { do: 'set', channel, entry: 'petrel', value: { x: 1 }, forMs: 60_000 },
      { do: 'set', channel, entry: 'petrel', value: { x: 1 }, ifVersion: null },
      { do: 'call', name: 'nothing', data: 1 },
      { do: 'read', channel, limit: 5, filter: { where: { '/text': 'Go' } } },
      { do: 'status', status: { away: true } },
      { do: 'mark', channel, cursor },
      { do: 'unread' },
      { do: 'publish', channel, data: { text: 'So did we' }, replyTo: cursor },
      { do: 'threads', channel, follow: true },
      { do: 'pending', channel: 'watched' },
      { do: 'search', words: 'recall' },
      { do: 'level', channel, level: 'mentions', forMs: 60_000 },
      { do: 'levels' },
      { do: 'block', user: 'pia', as: 'muted' },
      { do: 'blocks' },
      { do: 'unblock', user: 'pia' },
      { do: 'invite', channel, uses: 2 },
      { do: 'invitations', channel },
      { do: 'accept', code: 'abc' },
      { do: 'uninvite', channel, invitation: 'n1' },
      { do: 'watch', user: 'pia' },
      { do: 'unwatch', user: 'pia' },
      { do: 'inbox', limit: 5 },
      { do: 'refresh', token: await token('tomas', { roles: ['jury'] }) },
      { do: 'pulse', got: { [channel]: 'a:1' } },
    ])
      await say(jury, request);
    await service.backend.notify({ users: ['pia'], title: 'At 17:30' });
    for (const kind of ['members', 'marks', 'reactions'])
      await until(() => pia.frames.some((each) => each.on === kind));
    await say(pia, { do: 'inbox', done: true });
    const root = await service.backend.publish({ channel: 'watched', data: 1, by: { user: 'pia' } });
    await say(pia, { do: 'threads', follow: true });
    await service.backend.publish({ channel: 'watched', data: 2, replyTo: root.cursor });
    await until(() => pia.frames.some((each) => each.on === 'threads'));
    await say(pia, { do: 'publish', channel: 'watched', data: 3 });
    const waits = pia.frames.find((each) => each.problem?.code === 'pending');
    await say(pia, { do: 'take-back', pending: waits?.problem.pending });
    await say(pia, { do: 'pending' });
    await say(jury, { do: 'report', channel, cursor, reason: 'rude' });
    await say(jury, { do: 'silence', channel, user: 'pia', reason: 'shouting', forMs: 1_000 });
    await say(jury, { do: 'remove', channel, user: 'pia', reason: 'shouting', banMs: 1_000 });
    await say(jury, { do: 'leave', channel });
    pia.send({ do: 'nothing' });
    await until(() => pia.frames.some((each) => each.on === 'problem'));
    const verbs = new Set(said.map((each) => each.do));
    const kinds = new Set<string>();
    for (const request of said)
      for (const verb of verbs) {
        const fits = verb === request.do || [verb, request.do].every((each) => /^(un)?watch$/.test(each));
        const expected = fits ? '' : expect.stringContaining('/do must be equal to');
        expect([request, verb, misfits('line', payload(`request-${verb}`), request)]).toEqual([
          request,
          verb,
          expected,
        ]);
      }
    for (const frame of [...pia.frames, ...jury.frames]) {
      const { do: verb } = said.find((each) => each.id === frame.re) ?? {};
      const name =
        frame.on === undefined ? (frame.problem === undefined ? `reply-${verb}` : 'refused') : `push-${frame.on}`;
      if (!(`${name}` in line.channels.line.messages)) expect([name, Object.keys(frame)]).toEqual([name, ['re']]);
      else expect([frame, misfits('line', payload(name), frame)]).toEqual([frame, '']);
      kinds.add(name);
    }
    expect([...verbs].sort()).toEqual(
      Object.keys(line.operations)
        .flatMap((each) => (each.startsWith('say-') ? [each.slice(4)] : []))
        .sort(),
    );
    for (const kind of [
      'message',
      'hail',
      'board',
      'members',
      'notice',
      'inbox',
      'removed',
      'silenced',
      'problem',
      'marks',
      'reactions',
    ])
      expect([...kinds]).toContain(`push-${kind}`);
    pia.socket.close();
    jury.socket.close();
  });

  const payload = (name: string): string => pointed('channels', 'line', 'messages', name, 'payload');
});

describe('draining', () => {
  it('answers as the description says', async () => {
    const response = await fetch(`${service.url}/v1/drain`, {
      method: 'POST',
      headers: { authorization: `Bearer ${service.key}`, 'content-type': 'application/json' },
      body: '{"withinMs":0}',
    });
    const place = ['paths', '/v1/drain', 'post', 'responses', '202', 'content', 'application/json', 'schema'];
    expect([response.status, misfits('http', pointed(...place), await response.json())]).toEqual([202, '']);
  });
});
