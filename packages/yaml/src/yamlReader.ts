import type { Json } from '@nine-bells/wire';
import { distance } from 'fastest-levenshtein';
import {
  isAlias,
  isMap,
  isNode,
  isScalar,
  isSeq,
  LineCounter,
  type Node,
  parseDocument,
  visit,
  type YAMLMap,
} from 'yaml';

/** One mistake in a file, with its place. */
export interface Fault {
  readonly file: string;
  /** From 1. */
  readonly line: number;
  readonly column: number;
  /** Where in the document, such as `channels[2].allow.publish`. */
  readonly path: string;
  /** What was expected and what was found. */
  readonly detail: string;
}

/** Reads one node; reports what is wrong with it and then gives `undefined`. */
export type Reader<T> = (node: Node | null, at: Place) => T | undefined;

/** The result of a check that needs the whole document. */
export type Finding = { readonly fault: string } | { readonly warning: string };
/** Checks a part of a document once all of it has been read. */
export type DocumentCheck = (document: unknown) => Finding | undefined;

/** The document that is being read. */
interface Source {
  later(check: (document: unknown) => void): void;
  warn(fault: Fault): void;
  settle(document: unknown): void;
  faultAt(node: Node | null, path: string, detail: string): Fault;
  report(fault: Fault): void;
  lineOf(node: Node | null): number;
}

/** A place in the document that is being read. */
export class Place {
  readonly path: string;
  readonly #source: Source;
  readonly #parent: Node | null;

  constructor(path: string, parent: Node | null, source: Source) {
    this.path = path;
    this.#parent = parent;
    this.#source = source;
  }

  /** Reports a mistake here. Gives `undefined`, for the reader to return. */
  fault(node: Node | null, detail: string): undefined {
    this.#source.report(this.faultAt(node, detail));
    return undefined;
  }

  /** A mistake here that is not reported: what reads the document's values further may find it later. */
  faultAt(node: Node | null, detail: string): Fault {
    return this.#source.faultAt(node ?? this.#parent, this.path, detail);
  }

  /** Checks this place once the document has been read: its reader calls `settle`. */
  afterwards(node: Node | null, check: DocumentCheck): void {
    this.#source.later((document) => {
      const found = check(document);
      if (found === undefined) return;
      if ('fault' in found) this.fault(node, found.fault);
      else this.#source.warn(this.faultAt(node, found.warning));
    });
  }

  /** Makes the checks that wait for the whole document. */
  settle(document: unknown): void {
    this.#source.settle(document);
  }

  /** The line in which a node begins, from 1. */
  lineOf(node: Node | null): number {
    return this.#source.lineOf(node ?? this.#parent);
  }

  member(name: string, parent: Node | null): Place {
    return new Place(this.path === '' ? name : `${this.path}.${name}`, parent, this.#source);
  }

  element(index: number, parent: Node | null): Place {
    return new Place(`${this.path}[${index}]`, parent, this.#source);
  }
}

/** Most faults of a text that is not YAML. */
const maxSyntaxFaults = 3;

/** Bounds of a text: its characters, and its values after expanding aliases. A few hundred characters can stand for millions. */
export interface YamlBounds {
  readonly chars: number;
  readonly values: number;
}

const forFiles: YamlBounds = { chars: Number.POSITIVE_INFINITY, values: 100_000 };
/** Bounds of a text that a service takes from others: reading it takes some tens of milliseconds. */
export const forOthers: YamlBounds = { chars: 16_384, values: 4_000 };
/** Maximum number of levels of a document. Each takes up to two steps of a path: a pair, and its value. */
const maxLevels = 100;

/** Reads a YAML text with `reader`. The value is there only if there is no fault. */
export function readYaml<T>(
  text: string,
  file: string,
  reader: Reader<T>,
  most: YamlBounds = forFiles,
): { value?: T; faults: Fault[]; warnings: Fault[] } {
  const warnings: Fault[] = [];
  if (text.length > most.chars)
    return {
      faults: [{ file, line: 1, column: 1, path: '', detail: `the text has more than ${most.chars} characters` }],
      warnings,
    };
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, prettyErrors: false, uniqueKeys: false });
  const faults: Fault[] = [];
  const faultAt = (offset: number, path: string, detail: string): Fault => {
    const { line, col } = lines.linePos(offset);
    return { file, line: Math.max(line, 1), column: Math.max(col, 1), path, detail };
  };
  const add = (offset: number, path: string, detail: string): void => void faults.push(faultAt(offset, path, detail));
  // One slip makes many more of what follows it.
  for (const error of document.errors.slice(0, maxSyntaxFaults))
    add(error.pos[0], '', `this is not YAML: ${error.message}`);
  const anchors = new Map<string, Node>();
  let nodes = 0;
  visit(document, (_, node, path) => {
    nodes += 1;
    if (nodes > most.values || path.length > 2 * maxLevels) {
      const bound = nodes > most.values ? `${most.values} values` : `${maxLevels} levels`;
      add(0, '', `the document has more than ${bound}, counting what aliases stand for`);
      return visit.BREAK;
    }
    if (isMap(node))
      for (const key of repeatedKeys(node)) add(key.range?.[0] ?? 0, '', `${nameOf(key)} is given twice`);
    if (!isAlias(node)) {
      if (isNode(node) && node.anchor !== undefined) anchors.set(node.anchor, node);
      return undefined;
    }
    // A place that is named again stands for what it names.
    const named = anchors.get(node.source);
    if (named === undefined) add(node.range?.[0] ?? 0, '', `there is no anchor &${node.source}`);
    return named;
  });
  if (faults.length > 0) return { faults, warnings };
  const checks: ((document: unknown) => void)[] = [];
  const root = new Place('', document.contents, {
    faultAt: (node, path, detail) => faultAt(node?.range?.[0] ?? 0, path, detail),
    report: (fault) => void faults.push(fault),
    warn: (warning) => void warnings.push(warning),
    later: (check) => void checks.push(check),
    settle: (value) => {
      for (const check of checks.splice(0)) check(value);
    },
    lineOf: (node) => Math.max(1, lines.linePos(node?.range?.[0] ?? 0).line),
  });
  const value = reader(document.contents, root);
  return faults.length === 0 && value !== undefined ? { value, faults, warnings } : { faults, warnings };
}

/** Keys of a map that it has already. The parser compares each with each. */
function repeatedKeys({ items }: YAMLMap): readonly Node[] {
  const names = new Set<string>();
  return items.flatMap(({ key }) => {
    const name = nameOf(key as Node);
    if (isScalar(key) && names.has(name)) return [key];
    names.add(name);
    return [];
  });
}

// ------------------------------------------------------------------------------------------------ readers

export interface MemberReader<T> {
  readonly reader: Reader<T>;
  readonly required: boolean;
}

export const required = <T>(reader: Reader<T>): MemberReader<T> => ({ reader, required: true });
export const optional = <T>(reader: Reader<T>): MemberReader<T> => ({ reader, required: false });

type Members<S> = { [K in keyof S]: S[K] extends MemberReader<infer T> ? T | undefined : never };

/**
 * A map from names to what `reader` reads.
 *
 * @param check - throws an error whose message says what is wrong with a name
 */
export function mapTo<T>(
  reader: Reader<T>,
  check: (name: string) => void = () => {},
): Reader<Readonly<Record<string, T>>> {
  return (node, at) => {
    if (!isMap(node)) return at.fault(node, `expected a map, found ${described(node)}`);
    const found: [string, T][] = [];
    for (const pair of node.items) {
      const name = nameOf(pair.key as Node);
      const place = at.member(name, pair.key as Node);
      try {
        check(name);
      } catch (error) {
        place.fault(pair.key as Node, (error as Error).message);
        continue;
      }
      const value = reader(pair.value as Node | null, place);
      if (value !== undefined) found.push([name, value]);
    }
    return found.length === node.items.length ? Object.fromEntries(found) : undefined;
  };
}

/** The name of a member as it is written. */
export function nameOf(key: Node): string {
  return isScalar(key) ? String(key.value) : '';
}

/** A map with these members and no others. */
export function mapOf<S extends Record<string, MemberReader<unknown>>>(shape: S): Reader<Members<S>> {
  const known = Object.keys(shape);
  return (node, at) => {
    if (!isMap(node)) return at.fault(node, `expected a map with ${listed(known)}, found ${described(node)}`);
    const found: Record<string, unknown> = {};
    let sound = true;
    for (const pair of node.items) {
      const key = pair.key as Node;
      const name = nameOf(key);
      const member = Object.hasOwn(shape, name) ? shape[name] : undefined;
      if (member === undefined) {
        at.member(name, key).fault(key, unknownWord(name, known));
        sound = false;
        continue;
      }
      const value = member.reader(pair.value as Node | null, at.member(name, key));
      if (value === undefined) sound = false;
      else found[name] = value;
    }
    for (const name of known)
      if (shape[name]?.required && !node.has(name)) {
        at.fault(node, `\`${name}\` is missing`);
        sound = false;
      }
    return sound ? (found as Members<S>) : undefined;
  };
}

export function listOf<T>(reader: Reader<T>, least = 0): Reader<T[]> {
  return (node, at) => {
    if (!isSeq(node)) return at.fault(node, `expected a list, found ${described(node)}`);
    if (node.items.length < least) return at.fault(node, `expected a list of at least ${least}, found an empty one`);
    const all = node.items.map((item, index) => reader(item as Node, at.element(index, node)));
    return all.every((each) => each !== undefined) ? (all as T[]) : undefined;
  };
}

export function text(maxChars = 1000): Reader<string> {
  return (node, at) => {
    const value = scalar(node);
    if (typeof value !== 'string' || value.length === 0)
      return at.fault(node, `expected text, found ${described(node)}`);
    return value.length > maxChars
      ? at.fault(node, `expected at most ${maxChars} characters, found ${value.length}`)
      : value;
  };
}

/** Text that `check` takes; what it throws is the fault. */
export function checkedText(check: (text: string) => void): Reader<string> {
  return (node, at) => {
    const value = text()(node, at);
    if (value === undefined) return undefined;
    try {
      check(value);
      return value;
    } catch (error) {
      return at.fault(node, (error as Error).message);
    }
  };
}

export function oneOf<W extends string>(words: readonly W[]): Reader<W> {
  return (node, at) => {
    const value = scalar(node);
    if (typeof value === 'string' && (words as readonly string[]).includes(value)) return value as W;
    if (words.length === 0) return at.fault(node, `there is nothing that ${described(node)} could stand for`);
    const found = typeof value === 'string' ? `; ${suggestion(value, words)}` : '';
    return at.fault(node, `expected ${listed(words, 'or')}, found ${described(node)}${found}`);
  };
}

export const flag: Reader<boolean> = (node, at) => {
  const value = scalar(node);
  return typeof value === 'boolean' ? value : at.fault(node, `expected true or false, found ${described(node)}`);
};

export function whole(least: number, most: number): Reader<number> {
  return (node, at) => {
    const value = scalar(node);
    return Number.isSafeInteger(value) && (value as number) >= least && (value as number) <= most
      ? (value as number)
      : at.fault(node, `expected a whole number from ${least} to ${most}, found ${described(node)}`);
  };
}

const timeUnits: Readonly<Record<string, number>> = { ms: 1, s: 1000, m: 60_000, h: 3_600_000, d: 86_400_000 };
const sizeUnits: Readonly<Record<string, number>> = { B: 1, KiB: 1024, MiB: 1_048_576, GiB: 1_073_741_824 };

/** A length of time such as `20s` or `10m`, in milliseconds. */
export const duration: Reader<number> = amount(timeUnits, 'a time such as 500ms, 20s, 10m, 12h or 30d');

/** An amount of data such as `64KiB`, in bytes. */
export const size: Reader<number> = amount(sizeUnits, 'a size such as 512B, 64KiB or 1MiB');

/** A length of time, also 0, as text or as in the file. */
export function readDuration(value: string): number | undefined {
  return value === '0' ? 0 : parseAmount(value, timeUnits);
}

/** Any value, as JSON has it. */
export const json: Reader<Json> = (node, at) => {
  const odd = node === null ? undefined : memberWithoutValue(node);
  if (odd !== undefined) return at.fault(odd, withoutValue(odd));
  const value: unknown = node === null ? null : node.toJSON();
  try {
    return JSON.parse(JSON.stringify(value)) as Json;
  } catch {
    return at.fault(node, 'expected what JSON can hold');
  }
};

/** A value, with the places of its parts. */
export interface Located {
  readonly value: Json;
  /** A mistake at a JSON Pointer (RFC 6901) into the value; of what is not there, where it would be. */
  faultAt(pointer: string, detail: string): Fault;
}

/** As `json`, with the places of the value's parts. */
export const located: Reader<Located> = (node, at) => {
  const value = json(node, at);
  if (value === undefined) return undefined;
  return {
    value,
    faultAt: (pointer, detail) => {
      let found: { node: Node | null; at: Place } = { node, at };
      for (const escaped of pointer.split('/').slice(1)) {
        const next = partOf(found.node, found.at, escaped.replaceAll('~1', '/').replaceAll('~0', '~'));
        if (next === undefined) break;
        found = next;
      }
      return found.at.faultAt(found.node, detail);
    },
  };
};

function partOf(node: Node | null, at: Place, name: string): { node: Node | null; at: Place } | undefined {
  if (isSeq(node)) {
    const item = node.items[Number(name)] as Node | undefined;
    return item === undefined ? undefined : { node: item, at: at.element(Number(name), node) };
  }
  const pair = isMap(node) ? node.items.find((each) => nameOf(each.key as Node) === name) : undefined;
  if (pair === undefined) return undefined;
  return { node: (pair.value as Node | null) ?? (pair.key as Node), at: at.member(name, pair.key as Node) };
}

/** What is wrong with a member of a map in braces that has no value. */
export function withoutValue(key: Node): string {
  return `${described(key)} has no value; text with a comma in it is written in quotes`;
}

/** A member of a map in braces that has not even a colon: most often the rest of a text with a comma. */
function memberWithoutValue(node: Node): Node | undefined {
  let found: Node | undefined;
  visit(node, {
    Pair: (_, pair) => {
      if (pair.value !== null || found !== undefined) return;
      found = pair.key as Node;
      return visit.BREAK;
    },
  });
  return found;
}

/** How often, such as `100/s` or `60/m`: a number of times within a length of time. */
export const rate: Reader<{ count: number; perMs: number }> = (node, at) => {
  const value = scalar(node);
  const match =
    typeof value === 'string' ? /^([1-9][0-9]{0,8})\s*\/\s*([1-9][0-9]{0,5})?\s*([A-Za-z]+)$/.exec(value) : null;
  const unitMs = match === null ? undefined : timeUnits[match[3] as string];
  if (match === null || unitMs === undefined)
    return at.fault(node, `expected how often, such as 100/s or 60/m, found ${described(node)}`);
  return { count: Number(match[1]), perMs: Number(match[2] ?? 1) * unitMs };
};

function amount(units: Readonly<Record<string, number>>, expected: string): Reader<number> {
  return (node, at) => {
    const value = scalar(node);
    const parsed = typeof value === 'string' ? parseAmount(value, units) : undefined;
    return parsed ?? at.fault(node, `expected ${expected}, found ${described(node)}`);
  };
}

function parseAmount(value: string, units: Readonly<Record<string, number>>): number | undefined {
  const match = /^([1-9][0-9]{0,9})\s*([A-Za-z]+)$/.exec(value);
  const unit = match === null ? undefined : units[match[2] as string];
  return unit === undefined ? undefined : Number(match?.[1]) * unit;
}

function scalar(node: Node | null): unknown {
  return isScalar(node) ? node.value : undefined;
}

export function described(node: Node | null): string {
  if (isMap(node)) return 'a map';
  if (isSeq(node)) return 'a list';
  const value = scalar(node);
  return value === undefined || value === null ? 'nothing' : JSON.stringify(value);
}

/** That a word is none of those that are known, with the nearest of them. */
export function unknownWord(found: string, known: readonly string[]): string {
  return `there is no ${JSON.stringify(found)} here; ${suggestion(found, known)}`;
}

function listed(words: readonly string[], last: 'and' | 'or' = 'and'): string {
  return words.length < 2 ? words.join() : `${words.slice(0, -1).join(', ')} ${last} ${words.at(-1)}`;
}

function suggestion(found: string, known: readonly string[]): string {
  const near = [...known].sort((a, b) => distance(found, a) - distance(found, b))[0];
  return near !== undefined && distance(found, near) <= Math.max(2, found.length / 3)
    ? `did you mean ${JSON.stringify(near)}?`
    : `there are ${listed(known)}`;
}

/** One, or a list. */
export function oneOrMore<T>(reader: Reader<T>): Reader<readonly T[]> {
  return (node, at) => {
    if (isSeq(node)) return listOf(reader, 1)(node, at);
    const one = reader(node, at);
    return one === undefined ? undefined : [one];
  };
}
