import { createHash } from 'node:crypto';
import type { ApplicationDraft } from '@nine-bells/core';
import {
  type ChannelName,
  channelNameFault,
  isDeeperThan,
  type Json,
  messageTypePattern,
  protocolLimits,
  refusal,
  unfitCharacter,
} from '@nine-bells/wire';
import type { Request } from 'express';

export const cloudEventType = 'application/cloudevents+json';
export const cloudEventsType = 'application/cloudevents-batch+json';

/** The attributes of an event that say something to us (CloudEvents 1.0, section 3.1). */
interface Event {
  readonly specversion?: unknown;
  readonly id?: unknown;
  readonly source?: unknown;
  readonly type?: unknown;
  readonly subject?: unknown;
  readonly datacontenttype?: unknown;
  readonly data?: unknown;
  readonly data_base64?: unknown;
  /** Extensions: the user to name as author. */
  readonly author?: unknown;
  readonly authorname?: unknown;
}

/** Whether a request brings CloudEvents, by its type or, in binary mode, by its headers. */
export function bringsCloudEvents(request: Request): boolean {
  const is = request.is([cloudEventType, cloudEventsType]);
  return (typeof is === 'string' && is !== '') || request.get('ce-specversion') !== undefined;
}

/** What the events of a request are to be published as: one in structured or binary mode, or a list of a batch. */
export function cloudEventDrafts(request: Request, owner: string): ApplicationDraft | readonly ApplicationDraft[] {
  const body: unknown = request.body;
  if (request.is(cloudEventsType)) {
    if (!Array.isArray(body)) throw refusal('bad-value', 'a batch is a list of events', { where: '' });
    return body.map((each, index) => draftOf(each, owner, `/${index}`));
  }
  return draftOf(request.is(cloudEventType) ? body : binaryEvent(request), owner, '');
}

/** The event of a request in binary mode (CloudEvents HTTP binding 1.0, section 3.1). */
function binaryEvent(request: Request): Event {
  const attributes = Object.entries(request.headers)
    .filter(([name]) => name.startsWith('ce-'))
    .map(([name, value]) => [name.slice('ce-'.length), decoded(String(value), name)]);
  return { ...Object.fromEntries(attributes), data: request.body as unknown };
}

/** A header's value: characters beyond ASCII are percent-encoded (section 3.1.3.2). */
function decoded(value: string, name: string): string {
  try {
    return decodeURIComponent(value);
  } catch {
    throw refusal('bad-value', `the header ${name} is percent-encoded wrongly`);
  }
}

/** The subject is the channel, the type the message's; source and id together are its key. */
function draftOf(event: unknown, owner: string, where: string): ApplicationDraft {
  const fault = (name: string, detail: string): Error => refusal('bad-value', detail, { where: `${where}/${name}` });
  if (typeof event !== 'object' || event === null || Array.isArray(event))
    throw refusal('bad-value', 'an event is an object', { where });
  const { specversion, id, source, type, subject, datacontenttype, data, data_base64, author, authorname } =
    event as Event;
  if (specversion !== '1.0') throw fault('specversion', 'CloudEvents of version 1.0 are taken');
  for (const [name, value] of Object.entries({ id, source }))
    if (typeof value !== 'string' || value === '' || value.length > 1_000)
      throw fault(name, `\`${name}\` is text of 1 to 1000 characters`);
  const channelFault = typeof subject === 'string' ? channelNameFault(subject) : 'it is missing';
  if (channelFault !== undefined)
    throw refusal('bad-name', `\`subject\` names the channel: ${channelFault}`, { where: `${where}/subject` });
  if (typeof type !== 'string' || type.length > protocolLimits.typeChars || !messageTypePattern.test(type))
    throw fault('type', '`type` is the type of the message: letters, digits and . _ / -');
  if (datacontenttype !== undefined && !/^application\/(json|[\w.+-]+\+json)\s*(;|$)/i.test(String(datacontenttype)))
    throw refusal('unsupported-type', 'the data of an event is JSON', { where: `${where}/datacontenttype` });
  if (data_base64 !== undefined) throw fault('data_base64', 'the data of an event is JSON, in `data`');
  if (isDeeperThan(data, protocolLimits.dataDepth))
    throw fault('data', `at most ${protocolLimits.dataDepth} levels of nesting are allowed`);
  for (const [name, value] of Object.entries({ author, authorname }))
    if (value !== undefined && !isWords(value)) throw fault(name, `\`${name}\` is text of 1 to 128 characters`);
  return {
    channel: subject as ChannelName,
    type,
    data: (data ?? null) as Json,
    key: keyOf(source as string, id as string),
    owner,
    ...(author === undefined
      ? {}
      : { by: { user: author as string, ...(authorname === undefined ? {} : { name: authorname as string }) } }),
  };
}

function isWords(value: unknown): boolean {
  return (
    typeof value === 'string' &&
    value.length > 0 &&
    value.length <= protocolLimits.userChars &&
    !unfitCharacter.test(value)
  );
}

/** Source and id name an event (section 3.1): one that comes again is the same. */
function keyOf(source: string, id: string): string {
  const key = `${source} ${id}`;
  if (key.length <= protocolLimits.keyChars && !unfitCharacter.test(key)) return key;
  return createHash('sha256').update(key).digest('hex');
}
