import { describe, expect, it } from 'vitest';
import { type ProblemCode, readRequest } from '../src/index.js';

const enter = (more: object) => JSON.stringify({ do: 'enter', id: 1, channel: 'race/3/chat', ...more });
const publish = (more: object) => JSON.stringify({ do: 'publish', id: 1, channel: 'race/3/chat', data: null, ...more });
const nested = (depth: number): unknown => (depth === 0 ? 1 : [nested(depth - 1)]);

describe('readRequest', () => {
  it.each<[string, string]>([
    ['hello with nothing', '{"do":"hello"}'],
    ['hello that continues', '{"do":"hello","id":1,"session":"s_1","secret":"1.x","enter":[{"channel":"a","last":3}]}'],
    ['enter after a cursor', enter({ after: 'k3f:118' })],
    ['a publish with null as data', publish({})],
    ['a publish with everything', publish({ type: 'finish', key: 'k', echo: false, data: { a: [1] } })],
    ['members it does not know', publish({ future: true })],
    ['every cursor of a pulse', '{"do":"pulse","got":{"race/3/chat":"k3f:1"}}'],
    ['status that looks at nothing', '{"do":"status","looking":null}'],
    ['inbox all done', '{"do":"inbox","done":true}'],
    ['data nested as deep as allowed', publish({ data: nested(64) })],
  ])('reads %s', (_, text) => {
    expect(readRequest(text)).toMatchObject({ ok: true, request: JSON.parse(text) });
  });

  it.each<[string, string, ProblemCode, string | undefined]>([
    ['what is not JSON', 'ahoy', 'bad-frame', undefined],
    ['an empty frame', '', 'bad-frame', undefined],
    ['a list', '[]', 'bad-frame', ''],
    ['null', 'null', 'bad-frame', ''],
    ['an id of zero', '{"do":"hello","id":0}', 'bad-frame', '/id'],
    ['an id that is a string', '{"do":"hello","id":"1"}', 'bad-frame', '/id'],
    ['an id beyond the safe integers', '{"do":"hello","id":9007199254740993}', 'bad-frame', '/id'],
    ['no verb', '{"id":1}', 'bad-frame', '/do'],
    ['a verb nobody knows', '{"do":"shout","id":1}', 'unknown-verb', '/do'],
    ['a verb from the prototype', '{"do":"constructor","id":1}', 'unknown-verb', '/do'],
    ['no channel', '{"do":"enter","id":1}', 'bad-value', '/channel'],
    ['a channel that is a number', enter({ channel: 3 }), 'bad-name', '/channel'],
    ['an empty segment', enter({ channel: 'race//chat' }), 'bad-name', '/channel'],
    ['a name with a space', enter({ channel: 'race/3 chat' }), 'bad-name', '/channel'],
    ['a name with a control character', enter({ channel: 'race/\u0000' }), 'bad-name', '/channel'],
    ['a name too long', enter({ channel: 'x'.repeat(201) }), 'bad-name', '/channel'],
    ['a parameter for a name', enter({ channel: 'race/:race' }), 'bad-name', '/channel'],
    ['a cursor without a number', enter({ after: 'k3f' }), 'bad-cursor', '/after'],
    ['a cursor with leading zeros', enter({ after: 'k3f:007' }), 'bad-cursor', '/after'],
    ['both after and last', enter({ after: 'k3f:1', last: 1 }), 'bad-value', '/last'],
    [
      'both, within hello',
      '{"do":"hello","enter":[{"channel":"a","after":"b:1","last":1}]}',
      'bad-value',
      '/enter/0/last',
    ],
    [
      'a fault inside a list',
      '{"do":"hello","enter":[{"channel":"a"},{"channel":"/"}]}',
      'bad-name',
      '/enter/1/channel',
    ],
    [
      'more cursors than a pulse may have',
      JSON.stringify({
        do: 'pulse',
        got: Object.fromEntries(Array.from({ length: 201 }, (_, n) => [`a/${n}`, 'b:1'])),
      }),
      'too-large',
      '/got',
    ],
    ['a session without its secret', '{"do":"hello","session":"s"}', 'bad-value', '/secret'],
    ['a publish without data', '{"do":"publish","channel":"a"}', 'bad-value', '/data'],
    ['a type with a space', publish({ type: 'a b' }), 'bad-value', '/type'],
    ['an empty key', publish({ key: '' }), 'bad-value', '/key'],
    ['a key with a line feed', publish({ key: 'a\nb' }), 'bad-value', '/key'],
    ['a key with half a character', publish({ key: 'a\ud83d' }), 'bad-value', '/key'],
    ['echo that is a word', publish({ echo: 'no' }), 'bad-value', '/echo'],
    ['data nested too deep', publish({ data: nested(65) }), 'bad-value', '/data'],
    ['a limit of nothing', '{"do":"read","channel":"a","limit":0}', 'bad-value', '/limit'],
    ['a pulse whose cursors are a list', '{"do":"pulse","got":["k:1"]}', 'bad-value', '/got'],
    ['a wish for what is no channel', '{"do":"hello","enter":[{"channel":"a b/c"}]}', 'bad-name', '/enter/0/channel'],
  ])('refuses %s, and says where', (_, text, code, where) => {
    const reading = readRequest(text);
    expect(reading.ok).toBe(false);
    if (!reading.ok) expect(reading.problem).toMatchObject({ code, ...(where === undefined ? {} : { where }) });
  });

  it('gives the id of a request that it refuses, so that it can be answered', () => {
    expect(readRequest('{"do":"enter","id":7}')).toMatchObject({ ok: false, id: 7 });
  });

  it('does not overflow the stack on a frame that is nested as deep as it is long', () => {
    const text = `{"do":"publish","channel":"a","data":${'['.repeat(30_000)}${']'.repeat(30_000)}}`;
    expect(readRequest(text)).toMatchObject({ ok: false, problem: { code: 'bad-value' } });
  });
});
