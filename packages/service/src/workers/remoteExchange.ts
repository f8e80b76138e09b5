import type { Exchange, ExchangeEars, HubExchange } from '@nine-bells/core';
import { type Calls, remoteMethods } from './calls.js';
import { type CarriedSlice, carriedSlice, sliceOf } from './carriedSlice.js';

/** What is answered. */
const asked = [
  'append',
  'head',
  'heads',
  'subscribe',
  'beat',
  'leave',
  'claim',
  'changeBoard',
  'readBoard',
  'boardPlaces',
  'restoreBoard',
] as const;
type Asked = (typeof asked)[number];

/** The exchange of the first process, as its workers reach it; and what it tells them. */
export function remoteExchange(calls: Calls): {
  readonly exchange: Exchange;
  heard(topic: string, text: string): void;
} {
  let ears: ExchangeEars | undefined;
  return {
    exchange: {
      ...remoteMethods<Exchange, Asked>(calls, 'exchange', asked),
      since: async (channel, ...rest) =>
        sliceOf(channel, await calls.call<CarriedSlice>('exchange.since', channel, ...rest)),
      before: async (channel, ...rest) =>
        sliceOf(channel, await calls.call<CarriedSlice>('exchange.before', channel, ...rest)),
      publish: (topic, text) => calls.word('publish', topic, text),
      unsubscribe: (topic) => calls.word('unsubscribe', topic),
      listen: (listening) => {
        ears = listening;
        listening.resumed();
      },
    },
    heard: (topic, text) => ears?.heard(topic, text),
  };
}

/** Serves a member of the exchange to a worker. */
export function serveExchange(member: HubExchange): {
  call(method: string, args: readonly unknown[]): Promise<unknown>;
  word(name: string, args: readonly unknown[]): void;
} {
  return {
    call: async (method, args) => {
      const given = args.map((each) => each ?? undefined);
      if (method === 'since') return carriedSlice(await member.since(...(given as Parameters<Exchange['since']>)));
      if (method === 'before') return carriedSlice(await member.before(...(given as Parameters<Exchange['before']>)));
      const name = asked.find((each) => each === method);
      if (name === undefined) throw new Error(`an exchange has no ${method}`);
      return (member[name] as (...some: unknown[]) => Promise<unknown>)(...given);
    },
    word: (name, args) => {
      if (name === 'publish') member.publish(...(args as [string, string]));
      else if (name === 'unsubscribe') member.unsubscribe(...(args as [string]));
    },
  };
}
