import { type ApplicationDraft, changesText, type Engine, filterOf, shownOf } from '@nine-bells/core';
import {
  type ChannelName,
  type Cursor,
  defined,
  formatCursor,
  type Gap,
  ProblemError,
  parseCursor,
  protocolLimits,
  refusal,
} from '@nine-bells/wire';
import type { Response } from 'express';
import { atElement, readBody } from './body.js';
import { bringsCloudEvents, cloudEventDrafts, cloudEventsType, cloudEventType } from './cloudEventDrafts.js';
import { PublishDto } from './publishDto.js';
import { channelOf, cursorOf, limitOf, placeOf, queryText } from './query.js';
import { type Route, route, type Serve } from './route.js';

/** Most messages in one request. */
const maxAtOnce = 1000;

/** `POST /v1/messages` and `GET /v1/messages`. */
export function messages(engine: Engine): readonly Route[] {
  const publish: Serve<'POST /v1/messages'> = async (request, response, caller) => {
    const body: unknown = request.body;
    if (Array.isArray(body)) {
      if (request.get('idempotency-key') !== undefined)
        throw refusal(
          'bad-value',
          'Idempotency-Key is for a single message; give each message of a list its own `key`',
        );
      if (body.length > maxAtOnce) throw refusal('too-large', `at most ${maxAtOnce} messages are taken at once`);
      caller.charge(body.length - 1);
    }
    const { id } = caller.key;
    const given = bringsCloudEvents(request)
      ? cloudEventDrafts(request, id)
      : Array.isArray(body)
        ? body.map((each, index) => draftOf(readBody(PublishDto, each, `/${index}`), id))
        : draftOf(readBody(PublishDto, body), id, request.get('idempotency-key'));
    // As of notices, ten users count as one request; a role is as many at least.
    for (const { mentions } of [given].flat() as readonly ApplicationDraft[])
      if (mentions !== undefined)
        caller.charge(Math.ceil((mentions.users?.length ?? 0) / 10) + (mentions.roles?.length ?? 0));
    if (!Array.isArray(given)) {
      const draft = given as ApplicationDraft;
      caller.needIn('publish', draft.channel);
      const published = await engine.messages.publish(draft);
      response.status(published.repeated ? 200 : 201).json(published);
      return;
    }
    // All are checked before any is published, so that a list with a mistake publishes nothing.
    const drafts = (given as readonly ApplicationDraft[]).map((draft, index) => {
      try {
        caller.needIn('publish', draft.channel);
        engine.messages.check(draft);
        return draft;
      } catch (error) {
        throw atElement(error, index);
      }
    });
    const results = await engine.messages.publishAll(drafts);
    response.status(200).json(
      results.map((result) => {
        if (result.status === 'fulfilled') return result.value;
        if (result.reason instanceof ProblemError) return { problem: result.reason.problem };
        throw result.reason;
      }),
    );
  };

  const read: Serve<'GET /v1/messages'> = async (request, response, caller) => {
    const channel = channelOf(request);
    caller.needIn('read', channel);
    const after = placeOf(request, 'after');
    const before = placeOf(request, 'before');
    if (after !== undefined && before !== undefined) throw refusal('bad-value', '`after` or `before`, not both');
    const thread = queryText(request, 'thread');
    if (thread !== undefined && parseCursor(thread) === undefined)
      throw refusal('bad-cursor', '`thread` is the cursor of its first message', { where: '?thread' });
    const filter = thread === undefined ? undefined : filterOf({ thread: thread as Cursor });
    const limit = {
      messages: limitOf(request),
      bytes: engine.options.backlogBytes,
      ...(filter && { filters: filter.parts }),
    };
    const range = { ...defined({ after, before }) };
    const slice = await engine.messages.read(channel, range, limit);
    const cursor = `${slice.head.volume}:${slice.head.number}`;
    const asked = request.query.after ?? request.query.before;
    const known = after === undefined || slice.gap === 'new-volume' ? 0 : after.number;
    const { messages: found, changes } = shownOf(slice.messages, known, undefined, filter);
    // Where the last one that was looked at is no message, it says where to go on.
    const end = after === undefined ? slice.messages[0] : slice.messages.at(-1);
    const looked =
      filter === undefined ? (end?.isMessage === false ? end.place : undefined) : (slice.upTo ?? end?.place);
    const upTo = looked === undefined ? '' : `,"upTo":"${formatCursor(looked)}"`;
    const gap: Partial<Gap> | undefined =
      slice.gap === undefined || asked === undefined
        ? undefined
        : ({ channel, after: asked, cursor: slice.messages[0]?.cursor ?? cursor, why: slice.gap } as Gap);
    const reactions = await engine.messages.reactionsTo(channel, found);
    (response as Response<unknown>)
      .type('json')
      .send(
        `{"channel":${JSON.stringify(channel)},"cursor":"${cursor}","messages":[${found.map((each) => each.shown).join()}]` +
          `${changesText(changes)},"more":${slice.more}${upTo}${gap === undefined ? '' : `,"gap":${JSON.stringify(gap)}`}` +
          `${reactions === undefined ? '' : `,"reactions":${JSON.stringify(reactions)}`}}`,
      );
  };

  return [
    route(
      'POST /v1/messages',
      {
        right: { perChannel: 'publish' },
        statuses: [201, 200],
        takes: ['application/json', cloudEventType, cloudEventsType],
        body: PublishDto,
      },
      publish,
    ),
    route(
      'GET /v1/messages',
      { right: { perChannel: 'read' }, query: ['channel', 'after', 'before', 'thread', 'limit'] },
      read,
    ),
  ];
}

function draftOf(dto: PublishDto, owner: string, idempotencyKey?: string): ApplicationDraft {
  if (idempotencyKey !== undefined && dto.key !== undefined && dto.key !== idempotencyKey)
    throw refusal('bad-value', '`key` and Idempotency-Key differ', { where: '/key' });
  if (idempotencyKey !== undefined && !/^[\x20-\x7e]{1,128}$/.test(idempotencyKey))
    throw refusal('bad-value', `Idempotency-Key has 1 to ${protocolLimits.keyChars} printable ASCII characters`);
  const { channel, data, type, by, except, replyTo, mentions } = dto;
  const key = dto.key ?? idempotencyKey;
  return {
    channel: channel as ChannelName,
    data,
    ...(type == null ? {} : { type }),
    ...(key == null ? {} : { key, owner }),
    ...(by == null ? {} : { by: { user: by.user, ...(by.name == null ? {} : { name: by.name }) } }),
    ...(except == null ? {} : { except }),
    ...(replyTo == null ? {} : { replyTo: cursorOf(replyTo, '/replyTo') }),
    ...(mentions == null ? {} : { mentions: { users: mentions.users ?? [], roles: mentions.roles ?? [] } }),
  };
}
