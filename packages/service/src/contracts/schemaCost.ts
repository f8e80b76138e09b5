import { type Inner, innerSchemas, isObject, type SchemaObject } from './keywords.js';

/** Most schemas that may be tried along one path into the data. */
const maxTried = 1_000;

/** A schema as a node: which others are tried on the same value, and which on its parts. */
interface Node {
  readonly pointer: string;
  readonly schema: SchemaObject;
  readonly edges: Edge[];
}

interface Edge {
  readonly to: string;
  /** The same value is looked at again. */
  readonly isSame: boolean;
  readonly keyword: string;
}

/**
 * What is wrong with a schema because checking data against it could take time without bound: it refers to itself in a circle
 * without going into the data, or in a way that doubles the work with each level, or too much is tried on one value.
 *
 * @param schema - complete, with all of its references resolving
 * @returns the pointer to the schema, and what is wrong
 */
export function costFault(schema: unknown): { readonly pointer: string; readonly detail: string } | undefined {
  const nodes = nodesOf(schema);
  const group = groupsOf(nodes);
  for (const node of nodes.values()) {
    const inCircle = node.edges.filter(({ to }) => group.get(to) === group.get(node.pointer));
    const isCircle = inCircle.length > 0;
    if (isCircle && circlesWithoutData(node.pointer, nodes))
      return { pointer: node.pointer, detail: 'it refers to itself without going into the data: no check would end' };
    const detail = isCircle ? doubled(node, inCircle, nodes) : undefined;
    if (detail !== undefined) return { pointer: node.pointer, detail };
  }
  const tried = new Map<string, number>();
  for (const node of nodes.values())
    if (triedFrom(node.pointer, nodes, group, tried) > maxTried)
      return { pointer: node.pointer, detail: `more than ${maxTried} schemas would be tried on one value` };
  return undefined;
}

function nodesOf(schema: unknown): ReadonlyMap<string, Node> {
  const nodes = new Map<string, Node>();
  const add = (value: unknown, pointer: string): void => {
    if (!isObject(value)) return;
    const edges: Edge[] = [];
    nodes.set(pointer, { pointer, schema: value, edges });
    if (typeof value.$ref === 'string') edges.push({ to: unescaped(value.$ref), isSame: true, keyword: '$ref' });
    for (const inner of innerSchemas(value)) {
      const to = pointer + inner.pointer;
      if (inner.kind !== 'definitions' && isObject(inner.schema)) edges.push(edgeTo(inner, to));
      add(inner.schema, to);
    }
  };
  add(schema, '');
  // What a reference leads to need not be where schemas stand.
  for (const [pointer, { edges }] of nodes)
    for (const edge of edges) if (!nodes.has(edge.to)) edges.splice(edges.indexOf(edge), 1, { ...edge, to: pointer });
  return nodes;
}

function edgeTo({ kind, keyword }: Inner, to: string): Edge {
  return { to, keyword, isSame: kind.startsWith('same') };
}

function unescaped(ref: string): string {
  return decodeURIComponent(ref.slice(1));
}

/** The groups of nodes that reach one another (Tarjan, 1972); of a node that reaches itself alone, one of its own. */
function groupsOf(nodes: ReadonlyMap<string, Node>): ReadonlyMap<string, string> {
  const index = new Map<string, number>();
  const low = new Map<string, number>();
  const stack: string[] = [];
  const group = new Map<string, string>();
  const visit = (pointer: string): void => {
    const own = index.size;
    index.set(pointer, own);
    low.set(pointer, own);
    stack.push(pointer);
    for (const { to } of nodes.get(pointer)?.edges ?? []) {
      if (!index.has(to)) visit(to);
      if (!group.has(to)) low.set(pointer, Math.min(low.get(pointer) as number, low.get(to) as number));
    }
    if (low.get(pointer) !== own) return;
    for (const each of stack.splice(stack.indexOf(pointer))) group.set(each, pointer);
  };
  for (const pointer of nodes.keys()) if (!index.has(pointer)) visit(pointer);
  return group;
}

/** Whether a node reaches itself on the same value. */
function circlesWithoutData(from: string, nodes: ReadonlyMap<string, Node>): boolean {
  const seen = new Set<string>();
  const open = [from];
  for (let at = open.pop(); at !== undefined; at = open.pop())
    for (const { to, isSame } of nodes.get(at)?.edges ?? []) {
      if (!isSame) continue;
      if (to === from) return true;
      if (!seen.has(to)) {
        seen.add(to);
        open.push(to);
      }
    }
  return false;
}

/** Why a node in a circle would be tried more than once for one part of the data, if it would. */
function doubled({ schema }: Node, inCircle: readonly Edge[], nodes: ReadonlyMap<string, Node>): string | undefined {
  const twice = 'it refers to itself twice for one value: the work would double with each level of the data';
  const same = inCircle.filter(({ isSame }) => isSame);
  const down = inCircle.filter(({ isSame }) => !isSame);
  if (same.length > 0 && down.length > 0) return isOnlyReference(schema) ? undefined : twice;
  if (same.length > 1 && !areOfDifferentTypes(same, nodes)) return twice;
  const patterns = down.filter(({ keyword }) => keyword === 'patternProperties').length;
  const others = down.filter(({ keyword }) => keyword === 'properties').length;
  const has = (keyword: string): boolean => down.some((each) => each.keyword === keyword);
  const overlaps =
    patterns > 1 ||
    (patterns > 0 && others > 0) ||
    (has('contains') && (has('items') || has('prefixItems'))) ||
    (down.length > 1 && down.some(({ keyword }) => keyword.startsWith('unevaluated')));
  return overlaps ? twice : undefined;
}

function isOnlyReference(schema: SchemaObject): boolean {
  return [...innerSchemas(schema)].every(({ kind }) => kind === 'definitions');
}

/** Whether no value is of the types of two of the schemas. */
function areOfDifferentTypes(edges: readonly Edge[], nodes: ReadonlyMap<string, Node>): boolean {
  const seen = new Set<string>();
  for (const { to } of edges) {
    const types = typesOf(to, nodes, 10);
    if (types === undefined || types.some((each) => seen.has(each))) return false;
    for (const each of types) seen.add(each);
  }
  return true;
}

function typesOf(pointer: string, nodes: ReadonlyMap<string, Node>, hops: number): readonly string[] | undefined {
  const node = nodes.get(pointer);
  if (node === undefined || hops === 0) return undefined;
  const { type } = node.schema;
  if (typeof type === 'string') return [type];
  if (Array.isArray(type)) return type.map(String);
  const [reference] = node.edges.filter(({ keyword }) => keyword === '$ref');
  return reference === undefined ? undefined : typesOf(reference.to, nodes, hops - 1);
}

/** How many schemas are tried at most along one path into the data, from a schema on; circles count once. */
function triedFrom(
  pointer: string,
  nodes: ReadonlyMap<string, Node>,
  group: ReadonlyMap<string, string>,
  known: Map<string, number>,
): number {
  const found = known.get(pointer);
  if (found !== undefined) return found;
  // What is reached again on the way is in the same circle.
  known.set(pointer, 0);
  let same = 1;
  let deepest = 0;
  let overlapping = 0;
  for (const { to, isSame, keyword } of nodes.get(pointer)?.edges ?? []) {
    if (group.get(to) === group.get(pointer)) continue;
    const tried = triedFrom(to, nodes, group, known);
    if (isSame) same += tried;
    else if (keyword === 'properties' || keyword === 'items' || keyword === 'additionalProperties')
      deepest = Math.max(deepest, tried);
    else overlapping += tried;
  }
  const sum = Math.min(same + deepest + overlapping, Number.MAX_SAFE_INTEGER);
  known.set(pointer, sum);
  return sum;
}
