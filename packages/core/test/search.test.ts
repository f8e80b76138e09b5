import { channelName, type SearchHit } from '@nine-bells/wire';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import type { VirtualClock } from '../simulator/virtualClock.js';
import { type ChannelRule, type Clock, queryOf, searchedText, wordsIn } from '../src/index.js';
import { type Client, harness } from './harness.js';

const chat = channelName('race/3/chat');
const kept = { type: 'kept' } as const;
const searched = ['/text', '/title'];
const allow = { enter: 'anyone', publish: 'anyone', revise: 'anyone', withdraw: 'anyone' } as const;
const rules: readonly ChannelRule[] = [
  { pattern: 'race/:race/chat', logbook: kept, searched, allow },
  { pattern: 'crew/:boat', logbook: kept, searched, allow: { ...allow, enter: { claim: 'boat', is: ':boat' } } },
  { pattern: 'plain', logbook: kept, allow },
];
const setUp = (options: object = {}) => harness({ pulseMs: 3_600_000, ...options }, undefined, { rules });
type Harness = ReturnType<typeof setUp>;

async function ask({ settle }: Harness, client: Client, request: object) {
  const id = client.send(request);
  await settle();
  // biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
  return client.reply(id) as any;
}
const say = async (all: Harness, client: Client, text: string, channel: string = chat, more: object = {}) =>
  (await ask(all, client, { do: 'publish', channel, data: { text }, ...more })).cursor;
const find = (all: Harness, client: Client, words: string, more: object = {}) =>
  ask(all, client, { do: 'search', words, ...more });
const texts = ({ hits }: { hits: readonly SearchHit[] }) => hits.map(({ text }) => text);
const marked = ({ hits }: { hits: readonly SearchHit[] }) =>
  hits.map(({ text, marks }) => marks.map(({ from, to }) => text.slice(from, to)));

describe('words', () => {
  it.each([
    ['General recall!', ['general', 'recall']],
    ['Ça va, Éowyn? ½', ['ca', 'va', 'eowyn', '12']],
    ["the umpire's boat-hook", ['the', 'umpire', 's', 'boat', 'hook']],
    ['Leg_2 at 12:30', ['leg', '2', 'at', '12', '30']],
    ['x'.repeat(80), ['x'.repeat(64)]],
    ['é'.repeat(80), ['e'.repeat(64)]],
    ['帆船 race', ['帆', '船', 'race']],
    ['', []],
    ['!?… --', []],
  ])('of %j', (text, words) => {
    expect(wordsIn(text).map(({ word }) => word)).toEqual(words);
    for (const { from, to } of wordsIn(text)) expect(text.slice(from, to)).toMatch(/^[\p{L}\p{N}\p{M}]+$/u);
  });

  it.each([
    ['petrel leads', [['petrel'], ['leads']], []],
    ['"general recall" -wind sail*', [['general', 'recall'], ['sail']], [['wind']]],
    ['"never closed', [['never', 'closed']], []],
    ['-"two words" 帆船', [['帆', '船']], [['two', 'words']]],
    ["AND OR NOT (a) b* c:d' \u0000", [['and'], ['or'], ['not'], ['a'], ['b'], ['c', 'd']], []],
  ])('of the search %j', (text, all, none) => {
    const query = queryOf(text);
    expect([query.all.map(({ words }) => words), query.none.map(({ words }) => words)]).toEqual([all, none]);
  });

  it('begin with two letters at least', () => {
    expect(queryOf('sa* s* c:d* "sail*" 船*').all.map(({ isPrefix }) => isPrefix)).toEqual([
      ...[true, false, false, false, false],
    ]);
  });

  it('of whatever text make a search or a refusal, and stand where they are said to', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), (text) => {
        try {
          for (const { words } of queryOf(text).all) expect(words.join('')).toMatch(/^[\p{L}\p{N}]+$/u);
        } catch (error) {
          expect(error).toMatchObject({ code: 'bad-value' });
        }
        for (const { from, to } of wordsIn(text)) expect(to).toBeGreaterThan(from);
      }),
    );
  });

  it.each([
    ['a text', 'a text'],
    [{ text: 'one', title: 'two', other: 'three' }, 'one\ntwo'],
    [{ text: 1, title: { deep: 'x' } }, ''],
    [null, ''],
  ])('are looked for in %j', (data, text) => expect(searchedText(data, searched)).toBe(text));
});

describe('a search', () => {
  it('finds words, phrases, beginnings and not others, the best first, with where they stand', async () => {
    const all = setUp();
    const mira = await all.welcomed('mira');
    await say(all, mira, `A long story of the wind ${'and of the sea '.repeat(20)}which ends in a general recall`);
    await say(all, mira, 'Recall, recall: general RECALL of all boats');
    const third = await say(all, mira, 'No general was recalled');
    await say(all, mira, 'Nothing');
    await all.clock.run(400);
    await ask(all, mira, { do: 'enter', channel: chat });
    const both = await find(all, mira, 'general recall');
    expect(texts(both)).toEqual([
      'Recall, recall: general RECALL of all boats',
      expect.stringMatching(/^… .{20,60}general recall$/),
    ]);
    expect(marked(both)).toEqual([
      ['Recall', 'recall', 'general', 'RECALL'],
      ['general', 'recall'],
    ]);
    expect(texts(await find(all, mira, '"general recall" -wind'))).toHaveLength(1);
    const begins = await find(all, mira, 'gen* recall* -"general recall"');
    expect(begins.hits).toMatchObject([{ cursor: third, channel: chat, by: { user: 'mira' }, type: 'message' }]);
    const { after } = begins.hits[0];
    expect((await ask(all, mira, { do: 'read', channel: chat, after })).messages[0].cursor).toBe(third);
    expect(await find(all, mira, 'landlubber')).toMatchObject({ hits: [] });
    expect((await find(all, mira, '...')).problem.code).toBe('bad-value');
    expect((await find(all, mira, 'a', { since: 'noon' })).problem).toMatchObject({
      code: 'bad-value',
      where: '/since',
    });
    expect((await find(all, mira, 'a', { after: 'x' })).problem.code).toBe('bad-value');
    expect((await find(all, mira, 'a b c d e f g h i j k')).problem.code).toBe('bad-value');
  });

  it('follows what is revised and withdrawn, at once', async () => {
    const all = setUp();
    const mira = await all.welcomed('mira', { enter: [{ channel: chat }] });
    const [a, b] = [await say(all, mira, 'Petrel leads'), await say(all, mira, 'Petrel is behind')];
    await all.clock.run(400);
    await ask(all, mira, { do: 'revise', channel: chat, cursor: a, data: { text: 'Dunlin leads' } });
    expect(texts(await find(all, mira, 'petrel'))).toEqual(['Petrel is behind']);
    await ask(all, mira, { do: 'withdraw', channel: chat, cursor: b });
    expect(texts(await find(all, mira, 'petrel'))).toEqual([]);
    await all.clock.run(400);
    expect(texts(await find(all, mira, 'dunlin'))).toEqual(['Dunlin leads']);
  });

  it('looks only where the user may read, which is decided for each channel', async () => {
    const all = setUp();
    const [mira, pia] = [await all.welcomed('mira+petrel'), await all.welcomed('pia')];
    for (const channel of [chat, 'race/4/chat', 'crew/petrel', 'crew/dunlin'])
      await say(all, mira, `Wind in ${channel}`, channel);
    await all.clock.run(400);
    const where = async (client: Client, names?: readonly string[]) => {
      const { hits, problem } = await find(all, client, 'wind', names && { in: names });
      return problem?.code ?? hits.map(({ channel }: SearchHit) => channel).sort();
    };
    // Without a word of where: what it has entered, or read.
    expect(await where(pia)).toEqual([]);
    await ask(all, pia, { do: 'enter', channel: chat });
    await ask(all, pia, {
      do: 'mark',
      channel: 'race/4/chat',
      cursor: (await ask(all, pia, { do: 'read', channel: 'race/4/chat' })).messages[0].cursor,
    });
    expect(await where(pia)).toEqual([chat, 'race/4/chat']);
    expect(await where(pia, ['race/4/chat'])).toEqual(['race/4/chat']);
    expect(await where(pia, ['race/:race/chat', 'crew/:boat'])).toEqual([chat, 'race/4/chat']);
    expect(await where(mira, ['crew/:boat'])).toEqual(['crew/petrel']);
    expect(await where(pia, ['crew/petrel'])).toBe('not-allowed');
    expect([await where(pia, ['plain']), await where(pia, ['no/such']), await where(pia, ['a b'])]).toEqual([
      ...['bad-value', 'no-such-channel', 'bad-name'],
    ]);
    // Whom it keeps away is not found; nor what was not for this session.
    await ask(all, pia, { do: 'block', user: 'mira' });
    expect(await where(pia)).toEqual([]);
    await say(all, mira, 'Wind, not for me', 'crew/petrel', { echo: false });
    await all.clock.run(400);
    expect(await where(mira, ['crew/petrel'])).toEqual(['crew/petrel']);
    expect((await find(all, mira, '"not for me"', { in: ['crew/petrel'] })).hits).toEqual([]);
  });

  it('looks for authors, types and times', async () => {
    const all = setUp();
    const [mira, jory] = [await all.welcomed('mira'), await all.welcomed('jory', { enter: [{ channel: chat }] })];
    await say(all, mira, 'wind one');
    await all.clock.run(60_000);
    const between = new Date(all.clock.now()).toISOString();
    await say(all, jory, 'wind two');
    await say(all, mira, 'wind three', chat, { type: 'signal' });
    await all.clock.run(400);
    const hits = async (more: object) => texts(await find(all, jory, 'wind', more)).sort();
    expect(await hits({ by: ['mira', 'ines'] })).toEqual(['wind one', 'wind three']);
    expect(await hits({ types: ['signal'] })).toEqual(['wind three']);
    expect([await hits({ since: between }), await hits({ until: between })]).toEqual([
      ['wind three', 'wind two'],
      ['wind one'],
    ]);
    expect((await find(all, jory, 'wind', { limit: 1 })).hits).toHaveLength(1);
  });

  it('finds what was there before, in small portions, and tells how far it has come', async () => {
    const all = setUp();
    const mira = await all.welcomed('mira', { enter: [{ channel: chat }] });
    for (let n = 0; n < 1_200; n++) await all.engine.messages.publish({ channel: chat, data: { text: `wind ${n}` } });
    await all.clock.run(100);
    expect(await all.engine.indexer.progress()).toEqual({ channels: 1, messages: 1_200, ready: 0 });
    await all.clock.run(10_000);
    expect(await all.engine.indexer.progress()).toEqual({ channels: 1, messages: 1_200, ready: 1_200 });
    expect((await find(all, mira, 'wind 7')).hits).toMatchObject([{ text: 'wind 7' }]);
  });

  it('waits for no other that is still decided, and is refused where very many wait', async () => {
    const all = setUp();
    const mira = await all.welcomed('mira', { enter: [{ channel: chat }] });
    await say(all, mira, 'wind');
    await all.clock.run(400);
    const { search } = all.engine;
    const never = { mayRead: () => new Promise<undefined>(() => {}) };
    for (let n = 0; n < 5; n++) void search.find({ words: 'wind', in: [chat] }, never);
    expect(texts(await find(all, mira, 'wind'))).toEqual(['wind']);
    const many = Array.from({ length: 110 }, () =>
      search.find({ words: 'wind' }, { mayRead: async () => undefined }).then(
        ({ hits }) => hits.length,
        ({ code }) => code,
      ),
    );
    await all.clock.run(20_000);
    const answers = await Promise.all(many);
    expect([answers.filter((each) => each === 1).length, answers.at(-1)]).toEqual([102, 'busy']);
  });

  it('lets others have a turn after each few milliseconds of ranking', async () => {
    let [looks, turns] = [0, 0];
    // Each look at the clock takes a millisecond.
    const clock = (real: VirtualClock): Clock => ({
      now: () => real.now(),
      settled: () => real.settled(),
      monotonic: () => real.monotonic() + looks++,
      setTimer: (delayMs, act) => real.setTimer(delayMs, act),
      endOfTurn: (act) => {
        turns += 1;
        real.endOfTurn(act);
      },
    });
    const all: Harness = harness({ pulseMs: 3_600_000 }, undefined, { rules, clock });
    const mira = await all.welcomed('mira');
    for (let n = 0; n < 200; n++) await say(all, mira, `petrel ${n}`);
    await all.clock.run(60_000);
    const before = turns;
    expect((await find(all, mira, 'petrel', { limit: 100, in: [chat] })).hits).toHaveLength(100);
    expect(turns - before).toBeGreaterThan(40);
  });

  it('has its rate', async () => {
    const all = setUp({ searches: { count: 2, perMs: 10_000 } });
    const mira = await all.welcomed('mira');
    const codes = [];
    for (let n = 0; n < 3; n++) codes.push((await find(all, mira, 'wind')).problem?.code);
    expect(codes).toEqual([undefined, undefined, 'rate-limited']);
  });
});
