import {
  type ChannelRuleInfo,
  type ChannelRulesInfo,
  type ContractInfo,
  LINE_PATH,
  LINE_SUBPROTOCOL,
  type PushKind,
  pushMembers,
  type Verb,
  verbs,
} from '@nine-bells/wire';
import { schemas } from '@nine-bells/wire/schemas';
import { Components, type Tree } from './components.js';

export interface LineDescription {
  /** The service's name. */
  readonly name: string;
  readonly version: string;
  /** The channel rules that the caller may know of. */
  readonly rules: ChannelRulesInfo;
}

/**
 * The line as AsyncAPI 3.0: every request, reply and push, by the types of the wire; and the channels of the channel rules
 * with their messages, which go over it.
 */
export function asyncApi({ name, version, rules }: LineDescription): Tree {
  const components = new Components();
  const operations: Record<string, Tree> = {};
  const channels: Record<string, Tree> = { line: line(operations, components) };
  for (const rule of rules.rules) {
    const id = idOf(rule.pattern);
    channels[id] = channelOf(rule, id, operations, components);
  }
  return {
    asyncapi: '3.0.0',
    info: {
      title: name,
      version,
      description:
        'Live channels by Nine Bells. A line is a WebSocket whose frames are JSON texts: the channel `line` has all of ' +
        'them. The other channels are those of the service: their messages come as the pushes of the line, and are ' +
        'published by its requests. HTTP is described by /openapi.json.',
    },
    defaultContentType: 'application/json',
    channels,
    operations,
    components: {
      schemas: components.all,
      securitySchemes: {
        token: {
          type: 'http',
          scheme: 'bearer',
          bearerFormat: 'JWT',
          description:
            "A user's token stands in the request `hello`; without it one is a guest, where guests are let in.",
        },
      },
    },
  };
}

/** The member `servers` of the document, for where it is served: host and port, and whether over TLS. */
export function serverOf({ host, secure }: { readonly host: string; readonly secure: boolean }): Tree {
  const security = [{ $ref: '#/components/securitySchemes/token' }];
  return { here: { host, protocol: secure ? 'wss' : 'ws', security } };
}

/** The types of the frames, by what they are: the members of `LineFrames`, as schemas. */
function frames(of: 'requests' | 'replies' | 'pushes', components: Components): Readonly<Record<string, Tree>> {
  const { properties } = schemas.LineFrames as { properties: Readonly<Record<string, Tree>> };
  const { properties: byName } = components.resolved(properties[of]) as { properties: Readonly<Record<string, Tree>> };
  return byName;
}

function line(operations: Record<string, Tree>, components: Components): Tree {
  const requests = frames('requests', components);
  const replies = frames('replies', components);
  const pushes = frames('pushes', components);
  const messages: Record<string, Tree> = {
    refused: {
      title: 'The reply to a request that is refused',
      payload: {
        type: 'object',
        properties: { re: requestNumber, problem: components.type('Problem') },
        required: ['re', 'problem'],
      },
    },
  };
  for (const verb of verbs) {
    messages[`request-${verb}`] = { title: `The request ${verb}`, payload: components.part(requests[verb]) };
    const reply = replies[verb];
    if (reply !== undefined)
      messages[`reply-${verb}`] = { title: `The reply to ${verb}`, payload: numbered(components, verb, reply) };
    operations[`say-${verb}`] = {
      action: 'receive',
      title: `A client says ${verb}`,
      channel: { $ref: '#/channels/line' },
      messages: [messageAt('line', `request-${verb}`)],
      ...(reply === undefined
        ? {}
        : {
            reply: {
              channel: { $ref: '#/channels/line' },
              messages: [messageAt('line', `reply-${verb}`), messageAt('line', 'refused')],
            },
          }),
    };
  }
  for (const kind of Object.keys(pushMembers) as PushKind[]) {
    messages[`push-${kind}`] = { title: `The push ${kind}`, payload: components.part(pushes[kind]) };
    operations[`hear-${kind}`] = {
      action: 'send',
      title: `The service says ${kind}`,
      channel: { $ref: '#/channels/line' },
      messages: [messageAt('line', `push-${kind}`)],
    };
  }
  return {
    address: LINE_PATH,
    title: 'The line',
    description:
      'The first frame of a client is the request hello. A request with an `id` gets one reply, with that number as `re`.',
    bindings: {
      ws: {
        method: 'GET',
        headers: {
          type: 'object',
          properties: { 'Sec-WebSocket-Protocol': { type: 'string', const: LINE_SUBPROTOCOL } },
          required: ['Sec-WebSocket-Protocol'],
        },
      },
    },
    messages,
  };
}

const requestNumber = { type: 'integer', minimum: 1, description: 'The `id` of the request.' };

/** A reply with the number of its request. */
function numbered(components: Components, verb: Verb, reply: Tree): Tree {
  const { $ref = '' } = reply as { $ref?: string };
  const name = $ref.slice('#/components/schemas/'.length);
  const found = (name === '' ? reply : schemas[name]) as { properties?: Tree; required?: readonly string[] };
  return components.part({
    ...found,
    title: `Reply to ${verb}`,
    properties: { re: requestNumber, ...found.properties },
    required: ['re', ...(found.required ?? [])],
  });
}

function messageAt(channel: string, message: string): Tree {
  return { $ref: `#/channels/${channel}/messages/${message}` };
}

/** `race/:race/chat` is `race-race-chat`: what a reference may hold. */
function idOf(pattern: string): string {
  return `channel-${pattern.replaceAll(/[^A-Za-z0-9_-]+/g, '-').replaceAll(/^-|-$/g, '')}`;
}

function channelOf(rule: ChannelRuleInfo, id: string, operations: Record<string, Tree>, components: Components): Tree {
  const { pattern, about, types, hails, board, status, allow, logbook } = rule;
  const parameters = pattern.split('/').flatMap((segment) => (segment.startsWith(':') ? [segment.slice(1)] : []));
  const name = pattern.replaceAll(/:(\w+)/g, '1');
  const messages: Record<string, Tree> = {};
  const operation = (verb: string, action: 'send' | 'receive', of: readonly string[], title: string): void => {
    if (of.length === 0) return;
    operations[`${verb}-${id}`] = {
      action,
      title,
      channel: { $ref: `#/channels/${id}` },
      messages: of.map((each) => messageAt(id, each)),
    };
  };
  /** Frames that carry data of some kind. */
  const add = (frame: 'message' | 'hail' | 'publish', all: Readonly<Record<string, ContractInfo>>): readonly string[] =>
    Object.entries(all).map(([type, contract]) => {
      const key = `${frame}-${type.replaceAll(/[^A-Za-z0-9_-]+/g, '-')}`;
      messages[key] = frameOf(frame, type, contract, { id, name }, components);
      return key;
    });
  const given = types ?? { message: { about: 'Messages of any type, with any data' } };
  const ofClients = Object.fromEntries(Object.entries(given).filter(([, { from }]) => from !== 'applications'));
  operation('messages', 'send', add('message', given), `Messages in ${pattern}`);
  if (allow.publish !== undefined && allow.publish !== 'nobody')
    operation('publish', 'receive', add('publish', ofClients), `A client publishes in ${pattern}`);
  operation('hails', 'send', add('hail', hails ?? {}), `Hails in ${pattern}`);
  for (const [what, contract] of Object.entries({ entry: board?.contract, status }))
    if (contract?.schema !== undefined)
      messages[what] = {
        title: what === 'entry' ? 'The value of an entry of the board' : 'What a member says of itself',
        ...(contract.about !== undefined && { summary: contract.about }),
        payload: components.add(`${id}-${what}`, contract.schema),
        ...(contract.example !== undefined && { examples: [{ payload: { value: contract.example }.value }] }),
      };
  return {
    address: pattern.replaceAll(/:(\w+)/g, '{$1}'),
    title: pattern,
    ...(about !== undefined && { summary: about }),
    description: `${logbook === 'kept' ? 'Its messages are kept.' : 'Its latest messages are remembered.'} It goes over the line.`,
    ...(parameters.length > 0 && {
      parameters: Object.fromEntries(parameters.map((each) => [each, { description: 'One segment of the name.' }])),
    }),
    messages,
  };
}

/** A frame with data of a type: the wire's own, and what the contract says of `data`. */
function frameOf(
  frame: 'message' | 'hail' | 'publish',
  type: string,
  { about, schema, example }: ContractInfo,
  { id, name }: { readonly id: string; readonly name: string },
  components: Components,
): Tree {
  const wire = { message: 'MessagePush', hail: 'HailPush', publish: 'PublishRequest' }[frame];
  const kind = frame === 'hail' ? 'hail' : 'message';
  const data = schema === undefined ? undefined : components.add(`${id}-${kind}-${type.replaceAll('/', '-')}`, schema);
  const isUsual = frame === 'publish' && type === 'message';
  return {
    name: type,
    title: `${frame === 'publish' ? 'A client publishes' : frame === 'hail' ? 'A hail' : 'A message'} of the type ${type}`,
    ...(about !== undefined && { summary: about }),
    payload: {
      allOf: [
        components.type(wire),
        {
          properties: { type: { const: type }, ...(data !== undefined && { data }) },
          ...(isUsual ? {} : { required: ['type'] }),
        },
      ],
    },
    ...(example !== undefined && {
      examples: [{ payload: { ...exampleFrames[frame], channel: name, type, data: example } }],
    }),
  };
}

const exampleFrames = {
  message: { on: 'message', cursor: 'k3f:12', id: '01JZX4T9QK0V5R8M2N3P4Q5R6S', at: '2031-06-14T12:03:11.482Z' },
  hail: { on: 'hail', by: { user: 'mira', name: 'Mira Holt' } },
  publish: { do: 'publish', id: 1 },
} as const;
