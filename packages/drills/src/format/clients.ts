import type { Json } from '@nine-bells/wire';
import {
  described,
  duration,
  flag,
  mapOf,
  nameOf,
  oneOf,
  optional,
  type Place,
  text,
  unknownWord,
  whole,
} from '@nine-bells/yaml';
import { isMap, isScalar, type Node } from 'yaml';
import { type ClientSpec, transports } from './drill.js';

/** Reserved words that begin a step; a client cannot have them as its name. */
export const stepWords = ['application', 'service', 'wait', 'together', 'repeat', 'each', 'include', 'note'] as const;
/** Names of clients and captured values. */
export const namePattern = /^[A-Za-z][A-Za-z0-9_-]{0,39}$/;
const mostAlike = 100_000;

interface Template {
  readonly node: Node | null;
  readonly value: Json;
  readonly at: Place;
}

export interface ReadClients {
  readonly all: readonly ClientSpec[];
  /** Texts that may contain references. */
  readonly templates: readonly Template[];
}

/** Reads `clients`: a map from names to users or client settings. */
export function readClients(node: Node | undefined, at: Place, users: ReadonlySet<string>): ReadClients | undefined {
  if (!isMap(node)) return at.fault(node ?? null, `expected a map of clients, found ${described(node ?? null)}`);
  const all: ClientSpec[] = [];
  const templates: Template[] = [];
  for (const pair of node.items) {
    const key = pair.key as Node;
    const name = nameOf(key);
    const place = at.member(name, key);
    if (!namePattern.test(name) || name === 'any')
      place.fault(key, 'a client is named by letters, digits, _ and -, beginning with a letter');
    else if ((stepWords as readonly string[]).includes(name))
      place.fault(key, `\`${name}\` begins a step of another kind`);
    const spec = readClient(name, pair.value as Node | null, place, users, templates);
    if (spec !== undefined) all.push(spec);
  }
  if (node.items.length === 0) at.fault(node, 'expected at least one client');
  return all.length === node.items.length ? { all, templates } : undefined;
}

const clientMap = mapOf({
  user: optional(text(200)),
  guest: optional(flag),
  token: optional(text(20_000)),
  tokenFor: optional(duration),
  transport: optional(oneOf(transports)),
  times: optional(whole(1, mostAlike)),
  connects: optional(oneOf(['at once', 'later'] as const)),
});

function readClient(
  name: string,
  node: Node | null,
  at: Place,
  users: ReadonlySet<string>,
  templates: Template[],
): ClientSpec | undefined {
  const line = at.lineOf(node);
  const plain = { name, line, transport: 'websocket', isLater: false } as const;
  if (isScalar(node) && typeof node.value === 'string') {
    if (node.value === 'guest') return plain;
    return isDeclared(node.value, node, at, users, templates) ? { ...plain, user: node.value } : undefined;
  }
  const read = clientMap(node, at);
  if (read === undefined) return undefined;
  const { user, guest, token, tokenFor, transport = 'websocket', times, connects } = read;
  const who = [user, guest === true ? 'guest' : undefined, token].filter((each) => each !== undefined);
  if (who.length !== 1) return at.fault(node, 'expected one of user, guest: true and token');
  if (tokenFor !== undefined && user === undefined) return at.fault(node, '`tokenFor` is of a token made for a user');
  if (user !== undefined && !isDeclared(user, node, at.member('user', node), users, templates)) return undefined;
  if (token !== undefined) templates.push({ node, value: token, at });
  return {
    name,
    line,
    transport,
    isLater: connects === 'later',
    ...(user === undefined ? {} : { user }),
    ...(token === undefined ? {} : { token }),
    ...(tokenFor === undefined ? {} : { tokenMs: tokenFor }),
    ...(times === undefined ? {} : { times }),
  };
}

/** Whether the user is declared under `users`, or its id contains references. */
function isDeclared(
  user: string,
  node: Node | null,
  at: Place,
  users: ReadonlySet<string>,
  templates: Template[],
): boolean {
  if (user.includes('$(')) {
    templates.push({ node, value: user, at });
    return true;
  }
  if (users.has(user)) return true;
  at.fault(node, `${unknownWord(user, [...users])} Users stand under \`users\``);
  return false;
}
