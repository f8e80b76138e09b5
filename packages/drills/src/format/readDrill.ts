import { existsSync, readFileSync } from 'node:fs';
import { dirname, resolve } from 'node:path';
import type { Json } from '@nine-bells/wire';
import {
  duration,
  type Fault,
  json,
  listOf,
  mapOf,
  mapTo,
  optional,
  type Place,
  type Reader,
  readYaml,
  required,
  text,
} from '@nine-bells/yaml';
import { isScalar, type Node } from 'yaml';
import { readClients } from './clients.js';
import { type Drill, type DrillUser, formatVersion, type Step } from './drill.js';
import { readLoad } from './load.js';
import { Scope } from './scope.js';
import { StepReader } from './stepReader.js';

/** A drill that cannot be run as it is written. */
export class DrillFault extends Error {
  readonly faults: readonly Fault[];

  constructor(faults: readonly Fault[]) {
    super(faults.map(faultLine).join('\n'));
    this.faults = faults;
  }
}

/** Default time limit of an expectation, in milliseconds. */
const usualWithinMs = 5_000;
/** Maximum depth of includes. */
const deepest = 10;

/**
 * Reads a drill and all that it includes.
 *
 * @throws {DrillFault} every mistake, with its file, line and the nearest known word
 */
export function readDrill(file: string): Drill {
  const faults: Fault[] = [];
  const drill = readInto(file, [], faults);
  if (drill === undefined || faults.length > 0) throw new DrillFault(faults);
  return drill;
}

/** As `readDrill`, of a text that is not in a file. */
export function parseDrill(written: string, file: string): Drill {
  const faults: Fault[] = [];
  const drill = parseInto(written, file, [], faults);
  if (drill === undefined || faults.length > 0) throw new DrillFault(faults);
  return drill;
}

function readInto(file: string, including: readonly string[], faults: Fault[]): Drill | undefined {
  let written: string;
  try {
    written = readFileSync(file, 'utf8');
  } catch (error) {
    faults.push({ file, line: 1, column: 1, path: '', detail: `it cannot be read: ${(error as Error).message}` });
    return undefined;
  }
  return parseInto(written, file, including, faults);
}

function parseInto(written: string, file: string, including: readonly string[], faults: Fault[]): Drill | undefined {
  const { value, faults: found } = readYaml(written, file, (node, at) => {
    const head = readHead(node, at);
    if (head === undefined) return undefined;
    const clients = readClients(head.clients, at.member('clients', node), new Set(Object.keys(head.users ?? {})));
    if (clients === undefined) return undefined;
    const include = (name: string, where: Node | null, place: Place): Drill | undefined => {
      const path = resolve(dirname(file), name);
      const chain = [...including, resolve(file)];
      if (chain.includes(path)) return place.fault(where, `${name} includes this drill: ${chain.join(' > ')}`);
      if (chain.length > deepest) return place.fault(where, `drills are included more than ${deepest} deep`);
      if (!existsSync(path)) return place.fault(where, `there is no file ${path}`);
      return readInto(path, chain, faults);
    };
    const scope = new Scope(Object.keys(head.with ?? {}));
    for (const { node: given, value: template, at: place } of clients.templates) scope.check(template, given, place);
    const reader = new StepReader({ file, written, clients: clients.all, include });
    if ((head.steps === undefined) === (head.load === undefined))
      return at.fault(node, 'a drill has either `steps` or a `load`');
    const steps: (Step | undefined)[] =
      head.steps === undefined ? [] : reader.list(head.steps, at.member('steps', node), () => scope);
    const load =
      head.load === undefined
        ? undefined
        : readLoad(head.load, at.member('load', node), {
            file,
            clients: clients.all,
            steps: (some, place) => reader.list(some, place, () => scope),
            one: (step, place) => reader.one(step, place, scope),
          });
    if (steps.some((step) => step === undefined) || (head.load !== undefined && load === undefined)) return undefined;
    const drill: Drill = {
      file,
      name: head.name ?? file,
      ...(head.about === undefined ? {} : { about: head.about }),
      ...(head.config === undefined ? {} : { config: resolve(dirname(file), head.config) }),
      parameters: head.with ?? {},
      users: head.users ?? {},
      clients: clients.all,
      withinMs: head.within ?? usualWithinMs,
      steps: steps as readonly Step[],
      ...(load === undefined ? {} : { load }),
    };
    return drill;
  });
  faults.push(...found);
  return value;
}

/** Accepts any node; it is read later. */
const later: Reader<Node> = (node, at) => node ?? at.fault(node, 'expected something');

const version: Reader<number> = (node, at) => {
  const found = isScalar(node) ? node.value : undefined;
  if (found === formatVersion) return formatVersion;
  return typeof found === 'number' && found > formatVersion
    ? at.fault(
        node,
        `this drill is written in format ${found}; this version of ninebells reads format ${formatVersion}`,
      )
    : at.fault(node, `expected the version of the format: drill: ${formatVersion}`);
};

const user: Reader<DrillUser> = (node, at) => {
  // `jory:` declares a user without a name, roles or claims.
  if (node === null || (isScalar(node) && node.value === null)) return {};
  const read = mapOf({
    name: optional(text(100)),
    roles: optional(listOf(text(100))),
    claims: optional(mapTo<Json>(json)),
  })(node, at);
  return read as DrillUser | undefined;
};

const readHead = mapOf({
  drill: required(version),
  name: optional(text(200)),
  about: optional(text(2_000)),
  config: optional(text()),
  with: optional(mapTo<Json>(json)),
  within: optional(duration),
  users: optional(mapTo(user)),
  clients: required(later),
  steps: optional(later),
  load: optional(later),
});

/** Formats a fault as `file:line:column: path: detail`. */
export function faultLine({ file, line, column, path, detail }: Fault): string {
  return `${file}:${line}:${column}: ${path === '' ? '' : `${path}: `}${detail}`;
}
