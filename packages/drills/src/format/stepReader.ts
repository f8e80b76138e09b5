import {
  defined,
  isProblemCode,
  type Json,
  problemCatalogue,
  pushMembers,
  requestMembers,
  type Verb,
  verbs,
} from '@nine-bells/wire';
import { described, json, nameOf, type Place, readDuration, unknownWord, withoutValue } from '@nine-bells/yaml';
import { isMap, isSeq, type Node, type YAMLMap } from 'yaml';
import { patternFault } from '../values/matching.js';
import { namePattern, stepWords } from './clients.js';
import {
  type Answer,
  type CallStep,
  type ClientSpec,
  type Drill,
  type Expected,
  type NetworkEvent,
  type OutboundKind,
  outboundMembers,
  type Span,
  type Step,
  type StepPlace,
  type Who,
} from './drill.js';
import type { Scope } from './scope.js';
import { firstMember } from './words.js';

export interface StepContext {
  readonly file: string;
  /** The text of the file. */
  readonly written: string;
  readonly clients: readonly ClientSpec[];
  include(name: string, node: Node | null, at: Place): Drill | undefined;
}

/** Words that begin a step containing other steps. */
const blocks = { together: true, repeat: true, each: true, include: true };
/** Default of `for` in `gets no`, in milliseconds. */
const usualForMs = 300;

/** `connect` sends hello. */
const spoken = verbs.filter((verb) => verb !== 'hello');
const answerWords = ['reply', 'refused', 'as', 'within'] as const;
const clientWords = [
  'gets',
  'gets no',
  'gets in order',
  'ends',
  'connect',
  'send',
  'cut',
  'close',
  'offline',
  'pause',
  'resume',
  'delay',
  'lose',
];
const methods = { get: 'GET', post: 'POST', put: 'PUT', patch: 'PATCH', delete: 'DELETE' } as const;

/** Kinds of frames, each with its members. */
type Kinds = Readonly<Record<string, readonly string[]>>;

function kindsOf(who: Who | 'application'): Kinds {
  return who === 'application' ? outboundMembers : pushMembers;
}

/** Members of a step's map. `done` reports those that the reader has not asked for. */
class Members {
  readonly node: YAMLMap;
  readonly at: Place;
  readonly #scope: Scope;
  readonly #asked = new Set<string>();
  sound = true;

  constructor(node: YAMLMap, at: Place, scope: Scope) {
    this.node = node;
    this.at = at;
    this.#scope = scope;
  }

  get names(): readonly string[] {
    return this.node.items.map(({ key }) => nameOf(key as Node));
  }

  has(name: string): boolean {
    return this.node.has(name);
  }

  /** Reads a member and checks its references. */
  value(name: string): Json | undefined {
    const node = this.#node(name);
    if (node === undefined) return undefined;
    const place = this.at.member(name, node);
    const value = json(node, place);
    if (value === undefined || !this.#scope.check(value, node, place)) return this.wrong();
    return value;
  }

  pattern(name: string): Json | undefined {
    const value = this.value(name);
    if (value === undefined) return undefined;
    const wrong = patternFault(value);
    return wrong === undefined ? value : this.fault(name, wrong);
  }

  text(name: string): string | undefined {
    const value = this.value(name);
    if (value === undefined || typeof value === 'string') return value;
    return this.fault(name, `expected text, found ${described(this.#node(name) ?? null)}`);
  }

  /** Reads the name of a captured value. */
  capture(name: string): string | undefined {
    const value = this.text(name);
    if (value === undefined || namePattern.test(value)) return value;
    return this.fault(name, 'a name has letters, digits, _ and -, and begins with a letter');
  }

  ms(name: string): number | undefined {
    const span = this.span(name);
    if (span === undefined || span.least === span.most) return span?.least;
    return this.fault(name, 'expected one length of time');
  }

  /** Reads a length of time such as `1s`, or a random one such as `1s to 2s`. */
  span(name: string): Span | undefined {
    const value = this.value(name);
    if (value === undefined) return undefined;
    const [least, most, more] = String(value)
      .split(' to ')
      .map((each) => readDuration(each.trim()));
    const span = least === undefined || more !== undefined ? undefined : { least, most: most ?? least };
    if (span !== undefined && span.most >= span.least && !(String(value).includes(' to ') && most === undefined))
      return span;
    return this.fault(name, `expected a time such as 500ms, or 1s to 2s, found ${described(this.#node(name) ?? null)}`);
  }

  whole(name: string, most = 1_000_000): number | undefined {
    const value = this.value(name);
    if (value === undefined) return undefined;
    if (Number.isSafeInteger(value) && Number(value) >= 1 && Number(value) <= most) return Number(value);
    return this.fault(name, `expected a whole number from 1 to ${most}, found ${described(this.#node(name) ?? null)}`);
  }

  given(name: string): Node | undefined {
    return this.#node(name);
  }

  fault(name: string, detail: string): undefined {
    const node = this.#node(name) ?? this.node;
    this.at.member(name, node).fault(node, detail);
    return this.wrong();
  }

  wrong(): undefined {
    this.sound = false;
    return undefined;
  }

  /** Reports unread members. Returns whether the map has no mistake. */
  done(known: readonly string[]): boolean {
    for (const { key, value } of this.node.items) {
      const name = nameOf(key as Node);
      if (this.#asked.has(name)) continue;
      // `{ enter: direct/jory,pia }` parses as a member `pia` without a value.
      const isRest = value === null;
      this.at
        .member(name, key as Node)
        .fault(key as Node, isRest ? withoutValue(key as Node) : unknownWord(name, known));
      this.sound = false;
    }
    return this.sound;
  }

  #node(name: string): Node | undefined {
    this.#asked.add(name);
    return this.node.has(name) ? ((this.node.get(name, true) as Node | undefined) ?? undefined) : undefined;
  }
}

/** Reads the steps of one drill. */
export class StepReader {
  readonly #context: StepContext;

  constructor(context: StepContext) {
    this.#context = context;
  }

  /** @param scopeOf - gives the scope for each step */
  list(node: Node | null | undefined, at: Place, scopeOf: () => Scope): (Step | undefined)[] {
    if (!isSeq(node)) return [at.fault(node ?? null, `expected a list of steps, found ${described(node ?? null)}`)];
    if (node.items.length === 0) return [at.fault(node, 'expected at least one step')];
    return node.items.map((item, index) => this.one(item as Node, at.element(index, node), scopeOf()));
  }

  /** Reads one step. */
  one(node: Node, at: Place, scope: Scope): Step | undefined {
    if (!isMap(node))
      return at.fault(node, `expected a step such as \`chair: { enter: race/12/chat }\`, found ${described(node)}`);
    const step = new Members(node, at, scope);
    const note = step.text('note');
    const [word, ...more] = step.names.filter((name) => name !== 'note');
    if (word === undefined) return at.fault(node, 'expected a step, found nothing');
    const place: StepPlace = {
      file: this.#context.file,
      line: at.lineOf(node),
      // A block's own steps are reported separately.
      text: Object.hasOwn(blocks, word) ? this.#head(node) : this.#written(node),
      ...(note === undefined ? {} : { note }),
    };
    if (more.length > 0 && !Object.hasOwn(blocks, word))
      return at.fault(node, `a step is one act of one client: found ${[word, ...more].join(' and ')}`);
    switch (word) {
      case 'wait': {
        const ms = step.span('wait');
        return ms === undefined ? undefined : { ...place, kind: 'wait', ms };
      }
      case 'service':
        return this.#service(step, place);
      case 'application':
        return this.#application(step, place, scope);
      case 'together':
        return this.#together(step, place, scope);
      case 'repeat':
      case 'each':
        return this.#repeat(word, step, place, scope);
      case 'include':
        return this.#include(step, place);
      default:
        return this.#ofClient(word, step, place, scope);
    }
  }

  // --------------------------------------------------------------------------------------- steps of clients

  #ofClient(word: string, step: Members, place: StepPlace, scope: Scope): Step | undefined {
    const who = this.#who(word);
    const given = step.given(word);
    if (who === undefined) {
      const known = [...this.#context.clients.map(({ name }) => name), ...stepWords];
      return step.fault(word, `${unknownWord(word, known)} A step begins with a client or one of those words`);
    }
    if (typeof who === 'string') return step.fault(word, who);
    if (!isMap(given))
      return step.fault(
        word,
        `expected what ${word} does, such as { enter: race/12/chat }, found ${described(given ?? null)}`,
      );
    const act = new Members(given, step.at.member(word, given), scope);
    const first = act.names[0] ?? '';
    switch (first) {
      case 'gets':
      case 'gets in order':
        return this.#gets(first, act, place, who, scope);
      case 'gets no':
        return this.#getsNo(act, place, who);
      case 'ends': {
        const value = act.value('ends');
        const withinMs = act.ms('within');
        if (!act.done(['ends', 'within'])) return undefined;
        const how = typeof value === 'number' || typeof value === 'string' ? { with: value } : {};
        return { ...place, kind: 'ends', who, ...how, ...defined({ withinMs }) };
      }
      case 'connect': {
        act.value('connect');
        const answer = this.#answer(act, scope);
        return act.done(['connect', ...answerWords]) ? { ...place, kind: 'connect', who, ...answer } : undefined;
      }
      case 'send': {
        const frame = act.value('send');
        return act.done(['send']) && frame !== undefined ? { ...place, kind: 'send', who, frame } : undefined;
      }
      default:
    }
    if (clientWords.includes(first)) return this.#network(first, act, place, who);
    if (!(spoken as readonly string[]).includes(first)) {
      const known = [...clientWords, ...spoken];
      step.at
        .member(word, given)
        .fault(given, `${unknownWord(first, known)} What a client does begins with one of them`);
      return undefined;
    }
    return this.#act(first as Verb, act, place, who, scope);
  }

  #act(verb: Verb, act: Members, place: StepPlace, who: Who, scope: Scope): Step | undefined {
    const known = requestMembers(verb);
    const members: Record<string, Json> = {};
    const first = firstMember[verb];
    const given = act.value(verb);
    // `null` sets no member, except for `status`.
    if (first !== undefined && given !== undefined && !(given === null && verb !== 'status')) members[first] = given;
    for (const name of known) {
      if (name === first && name !== verb) continue;
      if (name === verb) continue;
      const value = act.value(name);
      if (value === undefined) continue;
      const ms = name.endsWith('Ms') && typeof value === 'string' ? readDuration(value) : undefined;
      members[name] = ms ?? value;
    }
    const answer = this.#answer(act, scope);
    if (!act.done([verb, ...known.filter((name) => name !== first), ...answerWords])) return undefined;
    return { ...place, kind: 'act', who, verb, members, ...answer };
  }

  /** Reads the expectations about an answer. */
  #answer(act: Members, scope: Scope): Answer {
    const reply = act.pattern('reply');
    const refused = act.text('refused');
    const as = act.capture('as');
    const withinMs = act.ms('within');
    if (refused !== undefined && reply !== undefined)
      act.fault('refused', 'a request cannot both be refused and be answered by `reply`');
    if (refused !== undefined && !refused.includes('$(') && !isProblemCode(refused))
      act.fault('refused', unknownWord(refused, Object.keys(problemCatalogue)));
    if (as !== undefined) scope.add(as);
    return defined({ reply, refused, as, withinMs });
  }

  #gets(
    word: 'gets' | 'gets in order',
    act: Members,
    place: StepPlace,
    who: Who | 'application',
    scope: Scope,
  ): Step | undefined {
    const isOrdered = word === 'gets in order';
    const withinMs = act.ms('within');
    const as = act.capture('as');
    const times = act.whole('times') ?? 1;
    let expected: readonly (Expected | undefined)[];
    let known: readonly string[];
    const kinds = kindsOf(who);
    if (isOrdered) {
      const list = act.value(word);
      if (!Array.isArray(list) || list.length < 2)
        return act.fault(word, 'expected a list of at least two, each such as { message: { channel: race/12/chat } }');
      expected = list.map((each: Json) => this.#expectedOf(each, word, act, kinds));
      known = [word, 'within', 'as'];
      if (act.has('times')) return act.fault('times', 'an order has no `times`');
    } else {
      const one = this.#expected(word, act, kinds);
      expected = [one];
      known = [word, 'within', 'as', 'times', ...(one === undefined ? [] : (kinds[one.on] ?? []))];
    }
    if (as !== undefined) scope.add(as);
    if (!act.done(known) || expected.some((each) => each === undefined)) return undefined;
    return {
      ...place,
      kind: 'gets',
      who,
      expected: expected as Expected[],
      isOrdered,
      times,
      ...defined({ as, withinMs }),
    };
  }

  #getsNo(act: Members, place: StepPlace, who: Who | 'application'): Step | undefined {
    const forMs = act.ms('for') ?? usualForMs;
    if (act.has('within')) return act.fault('within', 'how long nothing comes is said with `for`');
    const kinds = kindsOf(who);
    const expected = this.#expected('gets no', act, kinds);
    if (expected === undefined || !act.done(['gets no', 'for', ...(kinds[expected.on] ?? [])])) return undefined;
    return { ...place, kind: 'gets no', who, expected, forMs };
  }

  /** Reads `gets: message` and the members beside it. */
  #expected(word: string, act: Members, kinds: Kinds): Expected | undefined {
    const on = this.#kind(act.text(word), word, act, kinds);
    if (on === undefined) return undefined;
    const pattern: Record<string, Json> = {};
    for (const name of kinds[on] ?? []) {
      const value = act.pattern(name);
      if (value !== undefined) pattern[name] = value;
    }
    return { on, pattern };
  }

  /** Reads an element of `gets in order`: `message`, or `{ message: { data: ... } }`. */
  #expectedOf(each: Json, word: string, act: Members, kinds: Kinds): Expected | undefined {
    if (typeof each === 'string') {
      const on = this.#kind(each, word, act, kinds);
      return on === undefined ? undefined : { on, pattern: {} };
    }
    const [entry, ...more] = typeof each === 'object' && each !== null ? Object.entries(each) : [];
    if (entry === undefined || more.length > 0)
      return act.fault(
        word,
        `expected one such as { message: { channel: race/12/chat } }, found ${JSON.stringify(each)}`,
      );
    const [name, pattern] = entry as [string, Json];
    const on = this.#kind(name, word, act, kinds);
    if (on === undefined) return undefined;
    const odd = Object.keys(pattern ?? {}).find((member) => !kinds[on]?.includes(member));
    if (odd !== undefined) return act.fault(word, unknownWord(odd, kinds[on] ?? []));
    const wrong = patternFault(pattern);
    return wrong === undefined ? { on, pattern } : act.fault(word, wrong);
  }

  #kind(name: string | undefined, word: string, act: Members, kinds: Kinds): Expected['on'] | undefined {
    if (name !== undefined && Object.hasOwn(kinds, name)) return name as Expected['on'];
    const known = Object.keys(kinds);
    return act.fault(
      word,
      name === undefined ? `expected what arrives, such as \`${known[0]}\`` : unknownWord(name, known),
    );
  }

  #network(word: string, act: Members, place: StepPlace, who: Who): Step | undefined {
    const what = this.#networkEvent(word, act);
    if (what === undefined || !act.done([word])) return undefined;
    return { ...place, kind: 'network', who, what };
  }

  #networkEvent(word: string, act: Members): NetworkEvent | undefined {
    switch (word) {
      case 'cut': {
        const how = act.value('cut');
        if (how === true || how === null) return { type: 'cut' };
        return how === 'in a frame' ? { type: 'cut in a frame' } : act.fault('cut', 'expected true, or `in a frame`');
      }
      case 'offline':
      case 'delay': {
        const ms = act.span(word);
        return ms === undefined ? undefined : { type: word, ms };
      }
      case 'lose': {
        const what = act.value('lose');
        if (what === 'replies' || what === 'pushes' || what === 'nothing') return { type: 'lose', what };
        return act.fault('lose', 'expected replies, pushes or nothing');
      }
      default:
        act.value(word);
        return { type: word as 'close' | 'pause' | 'resume' };
    }
  }

  /** Resolves the client of a step; returns text if it is wrong. */
  #who(word: string): Who | string | undefined {
    const { clients } = this.#context;
    const numbered = /^(.+) (\d+)$/.exec(word);
    const any = /^any (.+)$/.exec(word);
    const name = numbered?.[1] ?? any?.[1] ?? word;
    const spec = clients.find((each) => each.name === name);
    if (spec === undefined) return undefined;
    if (spec.times === undefined) {
      if (name === word) return { client: name, which: 'all' };
      return `there is only one ${name}; ${name} with \`times\` has several`;
    }
    if (any !== null) return { client: name, which: 'any' };
    if (numbered === null) return { client: name, which: 'all' };
    const which = Number(numbered[2]);
    return which >= 1 && which <= spec.times
      ? { client: name, which }
      : `there is no ${word}: ${name} are numbered from 1 to ${spec.times}`;
  }

  // -------------------------------------------------------------------------------------------- other steps

  #service(step: Members, place: StepPlace): Step | undefined {
    const what = step.text('service');
    if (what === 'restart' || what === 'stop' || what === 'start') return { ...place, kind: 'service', what };
    return what === undefined ? undefined : step.fault('service', 'expected restart, stop or start');
  }

  #application(step: Members, place: StepPlace, scope: Scope): Step | undefined {
    const given = step.given('application');
    if (!isMap(given))
      return step.fault(
        'application',
        'expected a call, such as { publish: race/12/chat, data: Hello } or { get: /v1/channels }',
      );
    const call = new Members(given, step.at.member('application', given), scope);
    const first = call.names[0] ?? '';
    if (first === 'gets' || first === 'gets in order') return this.#gets(first, call, place, 'application', scope);
    if (first === 'gets no') return this.#getsNo(call, place, 'application');
    if (first === 'answers') return this.#answers(call, place);
    const known = ['body', 'status', 'until', 'key', ...answerWords];
    const read = (): Pick<CallStep, 'method' | 'path' | 'body'> | undefined => {
      if (first === 'publish') {
        const body: Record<string, Json> = { channel: call.text('publish') ?? '' };
        for (const name of ['data', 'type', 'by', 'except']) {
          const value = call.value(name);
          if (value !== undefined) body[name] = value;
        }
        known.push('publish', 'data', 'type', 'by', 'except');
        return { method: 'POST', path: '/v1/messages', body };
      }
      if (!Object.hasOwn(methods, first)) return undefined;
      known.push(first);
      const path = call.text(first);
      const body = call.value('body');
      if (path !== undefined && !path.startsWith('/') && !path.startsWith('$('))
        return call.fault(first, `expected a path such as /v1/members?channel=race/12/chat, found ${path}`);
      return { method: methods[first as keyof typeof methods], path: path ?? '', ...defined({ body }) };
    };
    const about = read();
    if (about === undefined) {
      if (call.sound)
        call.fault(first, unknownWord(first, ['publish', 'gets', 'gets no', 'answers', ...Object.keys(methods)]));
      return undefined;
    }
    const status = call.whole('status', 599);
    const until = call.pattern('until');
    const key = call.has('key') ? (call.value('key') as string | null) : undefined;
    const answer = this.#answer(call, scope);
    if (until !== undefined && (answer.reply !== undefined || answer.refused !== undefined))
      call.fault('until', 'what `until` waits for is the answer: it does not go with reply or refused');
    if (!call.done(known)) return undefined;
    return { ...place, kind: 'call', ...about, ...answer, ...defined({ status, until, key }) };
  }

  /** Reads `answers: ask` and what it is answered with. */
  #answers(act: Members, place: StepPlace): Step | undefined {
    const to = this.#kind(act.text('answers'), 'answers', act, outboundMembers) as OutboundKind | undefined;
    const pattern = act.pattern('to') ?? {};
    const answer = act.value('with');
    const status = act.whole('status', 599);
    const afterMs = act.ms('after');
    const odd =
      to && Object.keys(pattern as object).find((name) => !(outboundMembers[to] as readonly string[]).includes(name));
    if (to !== undefined && odd !== undefined) act.fault('to', unknownWord(odd, outboundMembers[to]));
    if (!act.done(['answers', 'with', 'status', 'after', 'to']) || to === undefined) return undefined;
    return { ...place, kind: 'answers', to, pattern, ...defined({ with: answer, status, afterMs }) };
  }

  #together(step: Members, place: StepPlace, scope: Scope): Step | undefined {
    const node = step.given('together');
    const at = step.at.member('together', step.node);
    // Concurrent steps cannot refer to each other's captures; later steps can.
    const scopes: Scope[] = [];
    const steps = this.list(node, at, () => {
      const own = scope.within();
      scopes.push(own);
      return own;
    });
    for (const own of scopes) scope.join(own);
    if (!step.done(['together', 'note']) || steps.some((each) => each === undefined)) return undefined;
    return { ...place, kind: 'together', steps: steps as Step[] };
  }

  #repeat(word: 'repeat' | 'each', step: Members, place: StepPlace, scope: Scope): Step | undefined {
    const values = word === 'repeat' ? step.whole('repeat') : step.value('each');
    const as = step.capture('as') ?? 'round';
    const inner = scope.within(as);
    const steps = this.list(step.given('steps'), step.at.member('steps', step.node), () => inner);
    scope.join(inner, as);
    const isList = Array.isArray(values) || (typeof values === 'string' && values.startsWith('$('));
    if (word === 'each' && values !== undefined && !isList) step.fault('each', 'expected a list of values');
    if (!step.done([word, 'as', 'steps', 'note']) || steps.some((each) => each === undefined)) return undefined;
    return { ...place, kind: 'repeat', values: values as number | Json, as, steps: steps as Step[] };
  }

  #include(step: Members, place: StepPlace): Step | undefined {
    const name = step.text('include');
    const given = step.value('with') ?? {};
    const node = step.given('include') ?? null;
    const drill = name === undefined ? undefined : this.#context.include(name, node, step.at.member('include', node));
    if (drill !== undefined && typeof given === 'object' && given !== null) {
      const odd = Object.keys(given).find((each) => !Object.hasOwn(drill.parameters, each));
      if (odd !== undefined) step.fault('with', unknownWord(odd, Object.keys(drill.parameters)));
    }
    if (!step.done(['include', 'with', 'note']) || drill === undefined) return undefined;
    return { ...place, kind: 'include', drill, with: given as Readonly<Record<string, Json>> };
  }

  /** A block as written, without its steps. */
  #head(node: YAMLMap): string {
    return node.items
      .filter(({ key }) => !['steps', 'note'].includes(nameOf(key as Node)))
      .map(({ key, value }) =>
        isSeq(value) && nameOf(key as Node) === 'together'
          ? 'together'
          : `${nameOf(key as Node)}: ${this.#written(value as Node)}`,
      )
      .join(', ');
  }

  /** A step as written, on one line. */
  #written(node: Node): string {
    const [from = 0, to = 0] = node.range ?? [];
    const text = this.#context.written.slice(from, to);
    const flat = text
      .split('\n')
      .map((line) => line.replace(/(^|\s)#.*$/, '').trim())
      .filter((line) => line !== '')
      .join(' ');
    return flat.length > 160 ? `${flat.slice(0, 157)}...` : flat;
  }
}
