import { LINE_PATH, type ProblemCode, problemCatalogue } from '@nine-bells/wire';
import type { HttpName, RouteName } from '@nine-bells/wire/http';
import { schemas } from '@nine-bells/wire/schemas';
import { boundsOf } from './bounds.js';
import { Components, type Tree, withBounds } from './components.js';
import { sentWebhooks } from './sentWebhooks.js';

/** What the table of routes says of one. */
export interface DescribedRoute {
  readonly name: RouteName;
  readonly right: string | { readonly perChannel: string };
  readonly statuses?: readonly number[];
  readonly takes?: readonly string[];
  /** The class that checks its body. */
  readonly body?: new () => object;
}

/** A request of the interface as the wire's types have it: the members of `HttpInterface`, as schemas. */
interface Typed {
  readonly description?: string;
  readonly properties: {
    readonly params?: Tree;
    readonly query?: Tree;
    readonly body?: Tree;
    readonly otherBodies?: { readonly properties: Readonly<Record<string, Tree>> };
    readonly answer: Tree;
    readonly problems?: Tree;
  };
  readonly required?: readonly string[];
}

/** What is served outside `/v1`, which has no table of its own. */
const doors: Readonly<Record<Exclude<HttpName, RouteName>, Door>> = {
  'GET /line/listen': {
    statuses: [200],
    tag: 'Line over HTTP',
    security: 'userToken',
    contents: ['text/event-stream'],
  },
  'POST /line/sessions': { statuses: [201], tag: 'Line over HTTP', security: 'none' },
  'GET /line/sessions/:id/stream': {
    statuses: [200],
    tag: 'Line over HTTP',
    security: 'session',
    contents: ['text/event-stream', 'application/json'],
  },
  'POST /line/sessions/:id/frames': { statuses: [202], tag: 'Line over HTTP', security: 'session' },
  'DELETE /line/sessions/:id': { statuses: [204], tag: 'Line over HTTP', security: 'session' },
  'POST /in/:name': { statuses: [202], tag: 'Intakes', security: 'none' },
  'GET /healthz': { statuses: [200], tag: 'Health', security: 'none' },
  'GET /readyz': { statuses: [200, 503], tag: 'Health', security: 'none' },
};

interface Door {
  readonly statuses: readonly number[];
  readonly tag: string;
  readonly security: 'apiKey' | 'userToken' | 'session' | 'none';
  /** Content types of its answer; JSON by default. */
  readonly contents?: readonly string[];
  readonly takes?: readonly string[];
  readonly right?: string;
  readonly bounds?: Readonly<Record<string, Tree>>;
}

const securitySchemes = {
  apiKey: { type: 'http', scheme: 'bearer', description: 'An API key of the application.' },
  userToken: {
    type: 'http',
    scheme: 'bearer',
    bearerFormat: 'JWT',
    description: "A user's token, made by the application; without it one is a guest, where guests are let in.",
  },
  session: { type: 'http', scheme: 'bearer', description: 'The `secret` that the answer to hello has.' },
};

/**
 * The HTTP interface as OpenAPI 3.1: the table of routes, with the types of the wire and the bounds of the classes that check
 * bodies.
 */
export function openApi(routes: readonly DescribedRoute[], version: string): Tree {
  const components = new Components();
  const typed = (schemas.HttpInterface as { properties: Readonly<Record<HttpName, Typed>> }).properties;
  const paths: Record<string, Record<string, Tree>> = {};
  const tags = new Set<string>();
  const add = (name: HttpName, door: Door): void => {
    const [method = '', path = ''] = name.split(' ');
    const at = path.replaceAll(/:(\w+)/g, '{$1}');
    paths[at] ??= {};
    paths[at][method.toLowerCase()] = operation(name, door, typed[name], components);
    tags.add(door.tag);
  };
  for (const route of routes) add(route.name, doorOf(route));
  for (const name of Object.keys(doors) as (keyof typeof doors)[]) add(name, doors[name]);
  const webhooks = sentWebhooks(components);
  for (const tag of ['Application', 'Hooks']) tags.add(tag);
  return {
    openapi: '3.1.0',
    info: {
      title: 'Nine Bells',
      version,
      description: `The HTTP interface. A line, the persistent connection at ${LINE_PATH}, is described by /asyncapi.json.`,
    },
    servers: [{ url: '/' }],
    tags: [...tags].map((name) => ({ name })),
    paths,
    webhooks,
    components: { schemas: components.all, securitySchemes },
  };
}

function doorOf({ name, right, statuses = [200], takes, body }: DescribedRoute): Door {
  const [, , section = ''] = name.split('/');
  return {
    statuses,
    tag: section.charAt(0).toUpperCase() + section.slice(1).replaceAll('-', ' '),
    security: 'apiKey',
    right: typeof right === 'string' ? `\`${right}\`` : `\`${right.perChannel}\`, or \`${right.perChannel}:PATTERN\``,
    ...(takes && { takes }),
    ...(body && { bounds: boundsOf(body) }),
    ...(name === 'GET /v1/feeds/:name' && { contents: ['application/json', 'text/event-stream'] }),
  };
}

function operation(
  name: HttpName,
  door: Door,
  { description, properties, required }: Typed,
  components: Components,
): Tree {
  const { params, query, body, otherBodies, answer, problems } = properties;
  const [summary = ''] = (description ?? '').split(/(?<=[.:;])\s/);
  const right = door.right === undefined ? [] : [`Right: ${door.right}.`];
  return {
    operationId: idOf(name),
    summary: summary.replace(/[.:;]$/, ''),
    description: [description, ...right].join('\n\n'),
    tags: [door.tag],
    security: securityOf(door),
    ...(params === undefined && query === undefined
      ? {}
      : { parameters: [...parametersOf('path', params, components), ...parametersOf('query', query, components)] }),
    ...(body === undefined
      ? {}
      : {
          requestBody: {
            required: required?.includes('body') === true,
            content: bodiesOf(body, otherBodies?.properties ?? {}, door.bounds ?? {}, components),
          },
        }),
    responses: {
      ...answersOf(answer, door, components),
      ...refusalsOf(codesOf(name, door, problems, components), components),
    },
  };
}

function securityOf({ security }: Door): readonly Tree[] {
  if (security === 'none') return [];
  return security === 'userToken' ? [{ userToken: [] }, {}] : [{ [security]: [] }];
}

/** `GET /v1/traces/:id` is `getTracesId`. */
function idOf(name: HttpName): string {
  return name
    .toLowerCase()
    .split(/[^a-z0-9]+/)
    .filter((part) => part !== 'v1')
    .map((part, index) => (index === 0 ? part : part.charAt(0).toUpperCase() + part.slice(1)))
    .join('');
}

function parametersOf(place: 'path' | 'query', schema: Tree | undefined, components: Components): readonly Tree[] {
  if (schema === undefined) return [];
  const { properties = {}, required = [] } = components.resolved(schema) as {
    properties?: Readonly<Record<string, Tree>>;
    required?: readonly string[];
  };
  return Object.entries(properties).map(([name, { description, ...each }]) => ({
    name,
    in: place,
    required: required.includes(name),
    ...(description === undefined ? {} : { description }),
    schema: each,
  }));
}

function bodiesOf(
  body: Tree,
  others: Readonly<Record<string, Tree>>,
  bounds: Readonly<Record<string, Tree>>,
  components: Components,
): Tree {
  const { examples, ...schema } = components.part(body) as { examples?: readonly unknown[] };
  // The class that checks a body checks one named type of the wire, alone or in a list, or a type without a name.
  for (const $ref of JSON.stringify(schema).matchAll(/"\$ref":"#\/components\/schemas\/(\w+)"/g))
    if (isOwn($ref[1] as string)) components.bound($ref[1] as string, bounds);
  const content: Record<string, Tree> = {
    'application/json': {
      schema: withBounds(schema, bounds),
      ...(examples === undefined ? {} : { example: examples[0] }),
    },
  };
  for (const [type, each] of Object.entries(others)) content[type] = { schema: components.part(each) };
  return content;
}

/** Types that only bodies are made of: what is said of one in a body holds everywhere. */
function isOwn(type: string): boolean {
  return /(Draft|Wish)$/.test(type);
}

function answersOf(answer: Tree, { statuses, contents = ['application/json'] }: Door, components: Components): Tree {
  const { examples, ...schema } = components.part(answer) as { examples?: readonly unknown[] };
  const content = Object.fromEntries(
    contents.map((type) => [
      type,
      type === 'text/event-stream'
        ? {
            schema: {
              type: 'string',
              description: 'Server-Sent Events; the data of each is JSON.',
              contentMediaType: 'application/json',
              contentSchema: schema,
            },
          }
        : { schema, ...(examples === undefined ? {} : { example: examples[0] }) },
    ]),
  );
  return Object.fromEntries(
    statuses.map((status) => [
      String(status),
      status === 204 ? { description: 'Done' } : { description: descriptions[status] ?? 'Done', content },
    ]),
  );
}

const descriptions: Readonly<Record<number, string>> = {
  201: 'Made',
  202: 'Taken in',
  503: 'No new clients should come',
};

function codesOf(
  name: HttpName,
  { security, takes }: Door,
  problems: Tree | undefined,
  components: Components,
): Set<ProblemCode> {
  const isHealth = name === 'GET /healthz' || name === 'GET /readyz';
  return new Set<ProblemCode>([
    ...(isHealth ? [] : (['bad-value', 'rate-limited', 'unavailable', 'internal'] as const)),
    ...(security === 'apiKey' ? (['key-invalid', 'not-allowed'] as const) : []),
    ...(name.startsWith('POST') ? (['too-large'] as const) : []),
    ...(takes !== undefined || name.startsWith('POST /v1') ? (['unsupported-type'] as const) : []),
    ...(problems === undefined ? [] : codesIn(components.resolved(problems))),
  ]);
}

/** The codes of a union of texts, however deep they stand. */
function codesIn({ const: only, enum: several, anyOf }: Tree): readonly ProblemCode[] {
  if (only !== undefined) return [only as ProblemCode];
  if (several !== undefined) return several as readonly ProblemCode[];
  return ((anyOf ?? []) as readonly Tree[]).flatMap(codesIn);
}

/** Refusals by status, each with its codes and an example of each. */
function refusalsOf(codes: ReadonlySet<ProblemCode>, components: Components): Tree {
  const byStatus = new Map<number, ProblemCode[]>();
  for (const code of [...codes].sort()) {
    const { status } = problemCatalogue[code];
    byStatus.set(status, [...(byStatus.get(status) ?? []), code]);
  }
  return Object.fromEntries(
    [...byStatus].map(([status, all]) => [
      String(status),
      {
        description: all.map((code) => `\`${code}\`: ${problemCatalogue[code].title}`).join('; '),
        content: {
          'application/problem+json': {
            schema: { allOf: [components.type('HttpProblem'), { properties: { code: { enum: all } } }] },
            examples: Object.fromEntries(all.map((code) => [code, { value: problemExample(code) }])),
          },
        },
      },
    ]),
  );
}

function problemExample(code: ProblemCode): Tree {
  const { title, status } = problemCatalogue[code];
  return { type: `urn:nine-bells:problem:${code}`, status, code, title };
}
