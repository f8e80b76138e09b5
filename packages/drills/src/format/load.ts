import type { Json } from '@nine-bells/wire';
import { described, duration, type Place, readDuration, unknownWord } from '@nine-bells/yaml';
import { isMap, isScalar, isSeq, type Node, type YAMLMap, YAMLMap as YamlMap } from 'yaml';
import {
  type ActStep,
  type CallStep,
  type ClientSpec,
  counted,
  type Load,
  type LoadAct,
  type Span,
  type Step,
  shares,
  type Threshold,
  timed,
} from './drill.js';

const defaultConnectPerS = 200;
const mostPerS = 1_000_000;

/** Reads steps; a mistake is reported and gives `undefined`. */
export interface LoadContext {
  readonly file: string;
  readonly clients: readonly ClientSpec[];
  steps(node: Node, at: Place): readonly (Step | undefined)[];
  one(node: Node, at: Place): Step | undefined;
}

/** Reads `load`. */
export function readLoad(node: Node, at: Place, context: LoadContext): Load | undefined {
  if (!isMap(node)) return at.fault(node, `expected a map such as { for: 30s, acts: [...] }, found ${described(node)}`);
  const known = ['for', 'connect', 'first', 'acts', 'must'];
  let isSound = true;
  const wrong = (): undefined => {
    isSound = false;
    return undefined;
  };
  for (const { key } of node.items) {
    const name = isScalar(key) ? String(key.value) : '';
    if (known.includes(name)) continue;
    at.member(name, key as Node).fault(key as Node, unknownWord(name, known));
    wrong();
  }
  const part = (name: string): Node | undefined => (node.get(name, true) as Node | undefined) ?? undefined;
  const forNode = part('for');
  const forMs =
    forNode === undefined
      ? at.fault(node, 'how long is said with `for`, such as for: 30s')
      : duration(forNode, at.member('for', forNode));
  const connectNode = part('connect');
  const connectPerS =
    connectNode === undefined ? defaultConnectPerS : rateOf(connectNode, at.member('connect', connectNode))?.to;

  const first: ActStep[] = [];
  const firstNode = part('first');
  if (firstNode !== undefined)
    for (const step of context.steps(firstNode, at.member('first', firstNode)))
      if (step?.kind === 'act' && step.who.which === 'all') first.push(step);
      else {
        if (step !== undefined) at.fault(firstNode, `\`first\` has requests of all clients of a group: ${step.text}`);
        wrong();
      }

  const acts: LoadAct[] = [];
  const actsNode = part('acts');
  if (!isSeq(actsNode) || actsNode.items.length === 0)
    at.fault(actsNode ?? node, 'expected a list of acts such as { fan: { publish: race/12/chat }, rate: 10/s }');
  else
    for (const [index, item] of actsNode.items.entries()) {
      const act = actOf(item as Node, at.member('acts', actsNode).element(index, actsNode), context);
      if (act === undefined) wrong();
      else acts.push(act);
    }

  const must: Threshold[] = [];
  const mustNode = part('must');
  if (mustNode !== undefined && !isMap(mustNode))
    at.fault(mustNode, 'expected a map such as { delivery p99: 100ms, lost: 0 }');
  else
    for (const { key, value } of mustNode?.items ?? []) {
      const name = String(isScalar(key) ? key.value : '');
      const limit = thresholdOf(
        name,
        value as Node,
        at.member('must', mustNode as Node).member(name, key as Node),
        context.file,
      );
      if (limit === undefined) wrong();
      else must.push(limit);
    }
  for (const { name, transport, isLater, line } of context.clients)
    if (transport !== 'websocket' || isLater) {
      at.fault(node, `clients of a load connect at its beginning, with WebSockets: ${name} in line ${line} does not`);
      wrong();
    }
  if (!isSound || forMs === undefined || connectPerS === undefined || acts.length === 0) return undefined;
  return { forMs, connectPerS, first, acts, must };
}

/** Reads `{ fan: { publish: ... }, rate: 10/s }`: a step, and how often. */
function actOf(node: Node, at: Place, context: LoadContext): LoadAct | undefined {
  if (!isMap(node))
    return at.fault(
      node,
      `expected an act such as { fan: { publish: race/12/chat }, rate: 10/s }, found ${described(node)}`,
    );
  const often = (name: string): Node | undefined => (node.get(name, true) as Node | undefined) ?? undefined;
  const [rateNode, everyNode] = [often('rate'), often('every')];
  if ((rateNode === undefined) === (everyNode === undefined))
    return at.fault(
      node,
      'how often is said with `rate` (of all its clients) or with `every` (of each), such as rate: 10/s',
    );
  const step = context.one(without(node, ['rate', 'every']), at);
  if (step === undefined) return undefined;
  if (step.kind !== 'act' && step.kind !== 'call')
    return at.fault(node, `a load has requests of clients and of the application, not: ${step.text}`);
  if (step.kind === 'act' && step.who.which !== 'all')
    return at.fault(node, 'an act of a load is of all clients of a group, in turn');
  if (step.kind === 'call' && rateNode === undefined)
    return at.fault(node, 'how often the application acts is said with `rate`');
  const fault = faultOf(step);
  if (fault !== undefined) return at.fault(node, fault);
  if (rateNode !== undefined) {
    const rate = rateOf(rateNode, at.member('rate', rateNode));
    return rate === undefined ? undefined : { step, rate };
  }
  const pause = spanOf(everyNode as Node, at.member('every', everyNode as Node));
  return pause === undefined ? undefined : { step, pause };
}

/** Why figures of this act would be wrong. */
function faultOf(step: ActStep | CallStep): string | undefined {
  const given = step.kind === 'act' ? step.members : ((step.body ?? {}) as Readonly<Record<string, Json>>);
  if (given.data !== undefined && (typeof given.data !== 'object' || given.data === null || Array.isArray(given.data)))
    return 'the load adds the time of sending to `data`, which must be a map';
  const skips = ['echo', 'except'].find((name) => given[name] !== undefined);
  if (skips !== undefined) return `with \`${skips}\` a message is not for all, and what is lost cannot be counted`;
  if (step.refused !== undefined || step.reply !== undefined || step.as !== undefined)
    return 'the answers of a load are counted, not compared: leave out `reply`, `refused` and `as`';
  return undefined;
}

function without(node: YAMLMap, names: readonly string[]): YAMLMap {
  const rest = new YamlMap();
  rest.items = node.items.filter(({ key }) => !(isScalar(key) && names.includes(String(key.value))));
  rest.range = node.range ?? null;
  rest.flow = node.flow ?? false;
  return rest;
}

/** Reads `10/s`, `600/m`, or `2/s to 20/s`. */
function rateOf(node: Node, at: Place): { from: number; to: number } | undefined {
  const [from, to, more] = String(isScalar(node) ? node.value : '')
    .split(' to ')
    .map(perSecond);
  const isRamp = isScalar(node) && String(node.value).includes(' to ');
  if (from === undefined || more !== undefined || (isRamp && to === undefined))
    return at.fault(node, `expected a rate such as 10/s, 600/m, or 2/s to 20/s, found ${described(node)}`);
  return { from, to: to ?? from };
}

function perSecond(text: string): number | undefined {
  const [, count, unit] = /^(\d+(?:\.\d+)?)\/([smh])$/.exec(text.trim()) ?? [];
  const value = Number(count) / { s: 1, m: 60, h: 3_600 }[(unit ?? 's') as 's' | 'm' | 'h'];
  return count === undefined || value > mostPerS ? undefined : value;
}

function spanOf(node: Node, at: Place): Span | undefined {
  const [least, most, more] = String(isScalar(node) ? node.value : '')
    .split(' to ')
    .map((each) => readDuration(each.trim()));
  const span = { least: least ?? 0, most: most ?? least ?? 0 };
  if (least === undefined || more !== undefined || span.most < span.least || span.most === 0)
    return at.fault(node, `expected a time such as 5s, or 5s to 15s, found ${described(node)}`);
  return span;
}

/** Reads `delivery p99: 100ms`, `lost: 0`, or `received: 10000/s`. */
function thresholdOf(name: string, node: Node, at: Place, file: string): Threshold | undefined {
  const value = isScalar(node) ? node.value : undefined;
  const place = { file, line: at.lineOf(node), text: `${name}: ${String(value)}`, kind: 'must' } as const;
  const [of = '', share = ''] = name.split(' ');
  if (timed.some((each) => each === of) && Object.hasOwn(shares, share)) {
    const atMostMs = readDuration(String(value));
    if (atMostMs === undefined) return at.fault(node, `expected a time such as 100ms, found ${described(node)}`);
    return { ...place, of: of as (typeof timed)[number], share: share as keyof typeof shares, atMostMs };
  }
  if (counted.some((each) => each === name)) {
    if (!Number.isSafeInteger(value) || Number(value) < 0)
      return at.fault(node, `expected a number such as 0, found ${described(node)}`);
    return { ...place, of: name as (typeof counted)[number], atMost: Number(value) };
  }
  if (name === 'received') {
    const atLeastPerS = perSecond(String(value));
    return atLeastPerS === undefined
      ? at.fault(node, `expected a rate such as 10000/s, found ${described(node)}`)
      : { ...place, of: 'received', atLeastPerS };
  }
  const known = [
    ...timed.flatMap((each) => Object.keys(shares).map((part) => `${each} ${part}`)),
    ...counted,
    'received',
  ];
  return at.fault(node, unknownWord(name, known));
}
