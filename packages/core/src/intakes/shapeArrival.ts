import {
  type ChannelName,
  channelNameFault,
  defined,
  entryNameFault,
  type Json,
  messageTypePattern,
  protocolLimits,
  unfitCharacter,
  userIdFault,
} from '@nine-bells/wire';
import type {
  EntryTemplate,
  IntakeEntry,
  IntakeMessage,
  IntakeNotice,
  IntakeResults,
  MessageTemplate,
  NoticeTemplate,
  Route,
} from '../model/intake.js';
import type { ShapeSource, Template } from '../model/shape.js';
import { filled, filledName, holds, ShapeError } from '../rules/shape.js';

/** What an event becomes by the routes of an intake, and by which. */
export interface Shaped {
  /** From 0; absent: no route is for it. */
  readonly route?: number;
  readonly results: IntakeResults;
}

/**
 * Finds the route for an event and shapes what becomes of it. Publishes nothing.
 *
 * @throws {ShapeError} saying what could not be shaped
 */
export function shapedBy(routes: readonly Route[], source: ShapeSource): Shaped {
  const index = routes.findIndex(({ when }) => when === undefined || holds(when, source));
  const route = routes[index];
  if (route === undefined) return { results: {} };
  const results = {
    messages: route.messages.map((each) => messageOf(each, source)),
    notices: route.notices.map((each) => noticeOf(each, source)),
    entries: route.entries.map((each) => entryOf(each, source)),
  };
  return { route: index, results: checkResults(results) };
}

/**
 * Checks the names in what becomes of an event.
 *
 * @throws {ShapeError} saying which is not allowed
 */
export function checkResults(results: IntakeResults): IntakeResults {
  for (const { channel, type, by } of results.messages ?? []) {
    checkName(channelNameFault(channel), `the channel ${JSON.stringify(channel)}`);
    if (by !== undefined) checkName(userIdFault(by), `the author ${JSON.stringify(by)}`);
    if (type !== undefined && !messageTypePattern.test(type))
      throw new ShapeError(`${JSON.stringify(type)} is no type of a message`);
  }
  for (const { channel, entry } of results.entries ?? []) {
    checkName(channelNameFault(channel), `the channel ${JSON.stringify(channel)}`);
    checkName(entryNameFault(entry), `the entry ${JSON.stringify(entry)}`);
  }
  for (const { users = [], role, title, key } of results.notices ?? []) {
    for (const user of users) checkName(userIdFault(user), `the user ${JSON.stringify(user)}`);
    checkText('title', title, protocolLimits.titleChars);
    checkText('role', role, protocolLimits.roleChars);
    checkText('key', key, protocolLimits.keyChars);
  }
  return results;
}

function checkText(what: string, text: string | undefined, maxChars: number): void {
  if (text === undefined) return;
  if (text.length > maxChars)
    throw new ShapeError(`the ${what} has ${text.length} characters; at most ${maxChars} are allowed`);
  if (unfitCharacter.test(text))
    throw new ShapeError(`the ${what} has control characters or halves of surrogate pairs, which are not allowed`);
}

function checkName(fault: string | undefined, what: string): void {
  if (fault !== undefined) throw new ShapeError(`${what}: ${fault}`);
}

function messageOf({ channel, with: values, type, data, by }: MessageTemplate, source: ShapeSource): IntakeMessage {
  return {
    channel: filledName(channel, values, source) as ChannelName,
    data: data === undefined ? source.body : filled(data, source),
    ...defined({ type: optionalText('type', type, source), by: optionalText('by', by, source) }),
  };
}

function noticeOf({ users, role, title, data, key, forMs }: NoticeTemplate, source: ShapeSource): IntakeNotice {
  return {
    title: text('title', title, source),
    ...(users === undefined ? {} : { users: usersOf(filled(users, source)) }),
    ...defined({
      role: optionalText('role', role, source),
      key: optionalText('key', key, source),
      data: data === undefined ? undefined : filled(data, source),
      forMs,
    }),
  };
}

function usersOf(value: Json): readonly string[] {
  const users = Array.isArray(value) ? value : [value];
  if (!users.every((each): each is string => typeof each === 'string' && each !== ''))
    throw new ShapeError(`${JSON.stringify(value)} are no user ids`);
  return users;
}

function entryOf({ channel, with: values, entry, value, forMs }: EntryTemplate, source: ShapeSource): IntakeEntry {
  return {
    channel: filledName(channel, values, source) as ChannelName,
    entry: text('entry', entry, source),
    value: value === undefined ? source.body : filled(value, source),
    ...defined({ forMs }),
  };
}

function optionalText(what: string, template: Template | undefined, source: ShapeSource): string | undefined {
  return template === undefined ? undefined : text(what, template, source);
}

function text(what: string, template: Template, source: ShapeSource): string {
  const value = filled(template, source);
  if (typeof value === 'string' && value !== '') return value;
  if (typeof value === 'number') return String(value);
  throw new ShapeError(`${JSON.stringify(value)} cannot be the ${what}: text is expected`);
}
