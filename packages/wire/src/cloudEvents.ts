import type { Json } from './json.js';
import type { Message } from './records.js';

/** A message as a CloudEvent 1.0 in structured mode. */
export interface CloudEvent {
  readonly specversion: '1.0';
  /** With the source, what makes it one of its own: published again, it publishes nothing. */
  readonly id: string;
  readonly source: string;
  /** The type of the message. */
  readonly type: string;
  /** The channel. */
  readonly subject?: string;
  readonly time?: string;
  readonly datacontenttype?: string;
  readonly data: Json;
  /** Extensions: its place, and its author. */
  readonly cursor?: string;
  readonly author?: string;
  readonly authorname?: string;
}

/** The `source` of all events of a service (CloudEvents 1.0, section 3.1.1): a URI reference made of its name. */
export function eventSource(name: string): string {
  const slug = name
    .toLowerCase()
    .replaceAll(/[^a-z0-9]+/g, '-')
    .replaceAll(/^-|-$/g, '');
  return `/${slug || 'ninebells'}`;
}

/**
 * A message as a CloudEvent 1.0: the subject is the channel, the type the message's own. Its place and its author are
 * extensions.
 */
export function cloudEventOf({ id, type, channel, at, data, cursor, by }: Message, source: string): CloudEvent {
  return {
    specversion: '1.0',
    id,
    source,
    type,
    subject: channel,
    time: at,
    datacontenttype: 'application/json',
    cursor,
    ...(by === undefined ? {} : { author: by.user, ...(by.name === undefined ? {} : { authorname: by.name }) }),
    data,
  };
}
