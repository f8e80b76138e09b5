import {
  type Appended,
  carriedLine,
  type Draft,
  type LoggedMessage,
  type PersonMessages,
  type PersonPlace,
  type Place,
  type ReadLimit,
  readCarriedLine,
  type SearchFound,
  type SearchLookup,
  type Store,
  storeNames,
} from '@nine-bells/core';
import { type ChannelName, ProblemError } from '@nine-bells/wire';
import type { Calls } from './calls.js';
import { type CarriedSlice, carriedSlice, sliceOf } from './carriedSlice.js';

interface CarriedAppended extends Omit<Appended, 'logged'> {
  readonly place: Place;
  readonly line: string;
}

interface CarriedPersonMessages extends Omit<PersonMessages, 'messages'> {
  readonly messages: readonly { readonly channel: ChannelName; readonly place: Place; readonly line: string }[];
}

interface CarriedFound extends Omit<SearchFound, 'messages'> {
  readonly messages: CarriedPersonMessages['messages'];
}

/**
 * The store of the first process, as its workers reach it: so that the messages of all share commits.
 *
 * @param onFailure - called for each call that the database did not carry out
 */
export function remoteStore(link: Pick<Calls, 'call'>, onFailure: () => void): Store {
  const call = <T>(store: keyof Store, method: string, ...args: unknown[]): Promise<T> =>
    link.call<T>(`store.${store}.${method}`, ...args).catch((error: unknown) => {
      if (!(error instanceof ProblemError) || error.problem.code === 'unavailable') onFailure();
      throw error;
    });
  /** A store whose methods are calls, but for those whose answers hold messages. */
  const remote = <Name extends keyof Store>(name: Name, carried: Partial<Store[Name]> = {}): Store[Name] =>
    new Proxy(carried as Store[Name], {
      get: (own, method) => Reflect.get(own, method) ?? ((...args: unknown[]) => call(name, String(method), ...args)),
    });
  return {
    // `Object.fromEntries` forgets the names.
    ...(Object.fromEntries(storeNames.map((name) => [name, remote(name)])) as unknown as Store),
    messages: remote('messages', {
      async append(channel, draft) {
        const { place, line, ...rest } = await call<CarriedAppended>('messages', 'append', channel, draft);
        return { ...rest, logged: readCarriedLine(channel, place, line) };
      },
      since: async (channel, after, limit) =>
        sliceOf(channel, await call<CarriedSlice>('messages', 'since', channel, after, limit)),
      before: async (channel, before, limit) =>
        sliceOf(channel, await call<CarriedSlice>('messages', 'before', channel, before ?? null, limit)),
    }),
    persons: remote('persons', {
      messagesOf: async (user, after, limit) => {
        const found = await call<CarriedPersonMessages>('persons', 'messagesOf', user, after ?? null, limit);
        return { ...found, messages: read(found.messages) };
      },
    }),
    search: remote('search', {
      search: async (lookup) => {
        const found = await call<CarriedFound>('search', 'search', lookup);
        return { ...found, messages: read(found.messages) };
      },
    }),
  };
}

/** Serves a store to a worker, by the name of the store and of its method. */
export function serveStore(store: Store): (method: string, args: readonly unknown[]) => Promise<unknown> {
  const carried: Readonly<Record<string, (...args: never[]) => Promise<unknown>>> = {
    'messages.append': async (channel: ChannelName, draft: Draft) => {
      const { logged, ...rest } = await store.messages.append(channel, draft);
      return { ...rest, place: logged.place, line: carriedLine(logged) };
    },
    'messages.since': async (channel: ChannelName, after: Place, limit: ReadLimit) =>
      carriedSlice(await store.messages.since(channel, after, limit)),
    'messages.before': async (channel: ChannelName, before: Place | undefined, limit: ReadLimit) =>
      carriedSlice(await store.messages.before(channel, before, limit)),
    'persons.messagesOf': async (user: string, after: PersonPlace | undefined, limit: number) => {
      const found = await store.persons.messagesOf(user, after, limit);
      return { ...found, messages: written(found.messages) } satisfies CarriedPersonMessages;
    },
    'search.search': async (lookup: SearchLookup) => {
      const found = await store.search.search(lookup);
      return { ...found, messages: written(found.messages) } satisfies CarriedFound;
    },
  };
  return async (path, args) => {
    const given = args.map((each) => each ?? undefined);
    const special = Object.hasOwn(carried, path) ? carried[path] : undefined;
    if (special !== undefined) return special(...(given as never[]));
    const [, storeName, method = ''] = /^(\w+)\.(\w+)$/.exec(path) ?? [];
    const name = storeNames.find((each) => each === storeName);
    const found = name && (store[name] as unknown as Record<string, unknown>)[method];
    if (name === undefined || typeof found !== 'function' || method in Object.prototype)
      throw new Error(`a store has no ${path}`);
    return found.apply(store[name], given);
  };
}

function read(messages: CarriedPersonMessages['messages']): readonly LoggedMessage[] {
  return messages.map(({ channel, place, line }) => readCarriedLine(channel, place, line));
}

function written(messages: readonly LoggedMessage[]): CarriedPersonMessages['messages'] {
  return messages.map((each) => ({ channel: each.channel, place: each.place, line: carriedLine(each) }));
}
