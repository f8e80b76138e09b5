import { type Json, type PushKind, pushMembers, type Verb } from '@nine-bells/wire';
import { Document, isMap, type Node, type YAMLMap, type YAMLSeq } from 'yaml';
import { type DrillUser, formatVersion, type Transport } from '../format/drill.js';
import { firstMember } from '../format/words.js';
import { literal } from '../values/references.js';

export { firstMember };

/** A client of a recording. */
export interface RecordedClient {
  readonly name: string;
  /** The user's id; absent: a guest. */
  readonly user?: string;
  readonly transport: Transport;
}

/** What happened, in its order. */
export type RecordedEvent =
  | { readonly type: 'connected'; readonly client: string; readonly refused?: string }
  | {
      readonly type: 'act';
      readonly client: string;
      readonly verb: Verb;
      readonly members: Readonly<Record<string, Json>>;
      /** Absent: it was. A drill waits for no answer that did not come. */
      readonly isAnswered?: boolean;
      /** Code of the problem that refused it. */
      readonly refused?: string;
    }
  | { readonly type: 'sent'; readonly client: string; readonly text: string }
  | { readonly type: 'network'; readonly client: string; readonly word: string; readonly value: Json }
  | {
      readonly type: 'application';
      readonly publish: Readonly<Record<string, Json>> & { readonly channel: string };
      readonly refused?: string;
    }
  | { readonly type: 'got'; readonly client: string; readonly frame: Readonly<Record<string, Json>> }
  /** The frame reached other clients, and not this one. */
  | { readonly type: 'got none'; readonly client: string; readonly frame: Readonly<Record<string, Json>> }
  | { readonly type: 'ended'; readonly client: string; readonly code: number };

export interface Recording {
  readonly name: string;
  readonly users: Readonly<Record<string, DrillUser>>;
  readonly clients: readonly RecordedClient[];
  readonly events: readonly RecordedEvent[];
}

/** Members that differ from run to run. */
const fleeting = new Set(['cursor', 'id', 'at', 'key', 'after', 'version', 'until', 'retryAfterMs', 'withinMs']);
/** For how long nothing must arrive. */
const silence = '200ms';

/** Writes a recording as a drill, with what was seen as expectations. */
export function drillText({ name, users, clients, events }: Recording): string {
  const connects = new Set<string>();
  const acts = new Set(events.flatMap((event) => ('client' in event ? [event.client] : [])));
  const later = new Set<string>();
  const steps: Json[] = [];
  for (const event of events) {
    if (event.type === 'connected' && !connects.has(event.client)) {
      connects.add(event.client);
      // Those that are there before anything happens connect by themselves.
      if (steps.length === 0 && event.refused === undefined) continue;
      later.add(event.client);
    }
    steps.push(literal(stepOf(event)));
  }
  const used = clients.filter(({ name: client }) => acts.has(client));
  const contentsOf = {
    drill: formatVersion,
    name,
    config: 'bells.yaml',
    users: Object.fromEntries(
      Object.entries(users).filter(([id]) => used.some(({ user }) => user === id)) as [string, Json][],
    ),
    clients: Object.fromEntries(used.map((each) => [each.name, clientOf(each, later.has(each.name))])),
    steps,
  };
  const text = new Document(contentsOf, { aliasDuplicateObjects: false });
  const { contents } = text;
  if (isMap(contents))
    for (const section of ['users', 'clients', 'steps']) {
      const block = contents.get(section) as YAMLMap | YAMLSeq;
      for (const item of block.items) flow(isMap(block) ? (item as { value: Node }).value : innermost(item as YAMLMap));
    }
  return text.toString({ lineWidth: 0, flowCollectionPadding: true });
}

/** `- pia: { enter: race/3/chat }`: the client stands alone, and what it does in one line. */
function innermost(step: YAMLMap): Node {
  return step.items[0]?.value as Node;
}

function flow(node: Node | null): void {
  if (node !== null && 'items' in node) (node as YAMLMap).flow = true;
}

function clientOf({ user, transport }: RecordedClient, isLater: boolean): Json {
  if (transport === 'websocket' && !isLater) return user ?? 'guest';
  return {
    ...(user === undefined ? { guest: true } : { user }),
    ...(transport === 'websocket' ? {} : { transport }),
    ...(isLater ? { connects: 'later' } : {}),
  };
}

function stepOf(event: RecordedEvent): Json {
  switch (event.type) {
    case 'connected':
      return { [event.client]: { connect: true, ...refusedBy(event) } };
    case 'act':
      if (event.isAnswered === false) return { [event.client]: { send: { do: event.verb, ...event.members } } };
      return { [event.client]: { ...actOf(event.verb, event.members), ...refusedBy(event) } };
    case 'sent':
      return { [event.client]: { send: event.text } };
    case 'network':
      return { [event.client]: { [event.word]: event.value } };
    case 'application': {
      const { channel, ...more } = event.publish;
      return { application: { publish: channel, ...more, ...refusedBy(event) } };
    }
    case 'got':
      return { [event.client]: expectation('gets', event.frame) };
    case 'got none':
      return { [event.client]: { ...expectation('gets no', event.frame), for: silence } };
    case 'ended':
      return { [event.client]: { ends: event.code } };
  }
}

function refusedBy({ refused }: { readonly refused?: string }): { refused?: string } {
  return refused === undefined ? {} : { refused };
}

/** `{ verb: channel, ... }`, as steps are written. */
function actOf(verb: Verb, members: Readonly<Record<string, Json>>): Record<string, Json> {
  const first = firstMember[verb];
  const { [first ?? '']: value, ...more } = members;
  return { [verb]: value ?? null, ...more };
}

function expectation(word: string, frame: Readonly<Record<string, Json>>): Record<string, Json> {
  const on = frame.on as PushKind;
  const lasting: Record<string, Json> = {};
  for (const name of pushMembers[on]) {
    const value = frame[name];
    if (value === undefined || fleeting.has(name) || (name === 'type' && value === 'message')) continue;
    lasting[name] = name === 'by' ? authorOf(value) : value;
  }
  return { [word]: on, ...lasting };
}

/** The author's id alone: guests are numbered anew in each run. */
function authorOf(by: Json): Json {
  const user = typeof by === 'object' && by !== null && !Array.isArray(by) ? (by as { user?: Json }).user : undefined;
  return typeof user === 'string' && !user.startsWith('guest:') ? { user } : {};
}
