import {
  type Appended,
  blockStoreMethods,
  carriedLine,
  type Draft,
  invitationStoreMethods,
  mentionStoreMethods,
  type PersonMessages,
  type PersonPlace,
  type Place,
  pendingStoreMethods,
  personStoreMethods,
  queueStoreMethods,
  type ReadLimit,
  reactionStoreMethods,
  readCarriedLine,
  reportStoreMethods,
  retentionStoreMethods,
  type SearchFound,
  type SearchLookup,
  type Store,
  searchStoreMethods,
} from '@nine-bells/core';
import { type ChannelName, ProblemError } from '@nine-bells/wire';
import { type Calls, remoteMethods } from './calls.js';
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

/** What of a store passes as it is. */
const plain = [
  'head',
  'heads',
  'channels',
  'revisions',
  'take',
  'changes',
  'notify',
  'inbox',
  'done',
  'meet',
  'usersWith',
  'user',
  'knownUsers',
  'noticeWith',
  'mark',
  'unread',
  'marks',
  'markedChannels',
  'markThread',
  'threads',
  'takingPart',
  'inForce',
  'audit',
  'saveBoard',
  'board',
  ...queueStoreMethods,
  ...retentionStoreMethods,
  ...reportStoreMethods,
  ...pendingStoreMethods,
  ...personStoreMethods,
  ...reactionStoreMethods,
  ...blockStoreMethods,
  ...mentionStoreMethods,
  ...searchStoreMethods,
  ...invitationStoreMethods,
] as const satisfies readonly (keyof Store)[];

/**
 * The store of the first process, as its workers reach it: so that the messages of all share commits.
 *
 * @param onFailure - called for each call that the database did not carry out
 */
export function remoteStore(link: Pick<Calls, 'call'>, onFailure: () => void): Store {
  const calls: typeof link = {
    call: (method, ...args) =>
      link.call<never>(method, ...args).catch((error: unknown) => {
        if (!(error instanceof ProblemError) || error.problem.code === 'unavailable') onFailure();
        throw error;
      }),
  };
  return {
    ...remoteMethods<Store, (typeof plain)[number]>(calls, 'store', plain),
    async append(channel: ChannelName, draft: Draft): Promise<Appended> {
      const { place, line, ...rest } = await calls.call<CarriedAppended>('store.append', channel, draft);
      return { ...rest, logged: readCarriedLine(channel, place, line) };
    },
    since: async (channel: ChannelName, after: Place, limit: ReadLimit) =>
      sliceOf(channel, await calls.call<CarriedSlice>('store.since', channel, after, limit)),
    messagesOf: async (user: string, after: PersonPlace | undefined, limit: number): Promise<PersonMessages> => {
      const { messages, ...rest } = await calls.call<CarriedPersonMessages>(
        'store.messagesOf',
        user,
        after ?? null,
        limit,
      );
      return {
        ...rest,
        messages: messages.map(({ channel, place, line }) => readCarriedLine(channel, place, line)),
      };
    },
    search: async (lookup: SearchLookup): Promise<SearchFound> => {
      const { messages, ...rest } = await calls.call<CarriedFound>('store.search', lookup);
      return {
        ...rest,
        messages: messages.map(({ channel, place, line }) => readCarriedLine(channel, place, line)),
      };
    },
    before: async (channel: ChannelName, before: Place | undefined, limit: ReadLimit) =>
      sliceOf(channel, await calls.call<CarriedSlice>('store.before', channel, before ?? null, limit)),
  };
}

/** Serves a store to a worker. */
export function serveStore(store: Store): (method: string, args: readonly unknown[]) => Promise<unknown> {
  return async (method, args) => {
    if (method === 'append') {
      const { logged, ...rest } = await store.append(...(args as Parameters<Store['append']>));
      return { ...rest, place: logged.place, line: carriedLine(logged) };
    }
    if (method === 'messagesOf') {
      const [user, after, limit] = args as [string, PersonPlace | null, number];
      const { messages, ...rest } = await store.messagesOf(user, after ?? undefined, limit);
      const carried = messages.map((each) => ({ channel: each.channel, place: each.place, line: carriedLine(each) }));
      return { ...rest, messages: carried } satisfies CarriedPersonMessages;
    }
    if (method === 'search') {
      const { messages, ...rest } = await store.search(...(args as Parameters<Store['search']>));
      const carried = messages.map((each) => ({ channel: each.channel, place: each.place, line: carriedLine(each) }));
      return { ...rest, messages: carried } satisfies CarriedFound;
    }
    if (method === 'since') return carriedSlice(await store.since(...(args as Parameters<Store['since']>)));
    if (method === 'before') {
      const [channel, before, limit] = args as [ChannelName, Place | null, ReadLimit];
      return carriedSlice(await store.before(channel, before ?? undefined, limit));
    }
    const name = plain.find((each) => each === method);
    if (name === undefined) throw new Error(`a store has no ${method}`);
    return (store[name] as (...some: unknown[]) => Promise<unknown>)(...args.map((each) => each ?? undefined));
  };
}
