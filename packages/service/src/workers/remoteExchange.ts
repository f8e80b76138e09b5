import type { Exchange, ExchangeEars, HubDoor } from '@nine-bells/core';
import type { Calls } from './calls.js';

/** What is answered. */
const asked = ['append', 'head', 'heads', 'since', 'before', 'subscribe', 'beat', 'leave', 'claim'] as const;
type Asked = (typeof asked)[number];

/** The exchange of the first process, as its workers reach it; and what it tells them. */
export function remoteExchange(calls: Calls): {
  readonly exchange: Exchange;
  heard(topic: string, text: string): void;
} {
  let ears: ExchangeEars | undefined;
  const methods = Object.fromEntries(
    asked.map((name) => [name, (...args: unknown[]) => calls.call(`exchange.${name}`, ...args)]),
  ) as unknown as Pick<Exchange, Asked>;
  return {
    exchange: {
      ...methods,
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

/** Serves a door of the exchange to a worker. */
export function serveExchange(door: HubDoor): {
  call(method: string, args: readonly unknown[]): Promise<unknown>;
  word(name: string, args: readonly unknown[]): void;
} {
  return {
    call: async (method, args) => {
      const name = asked.find((each) => each === method);
      if (name === undefined) throw new Error(`an exchange has no ${method}`);
      return (door[name] as (...some: unknown[]) => Promise<unknown>)(...args.map((each) => each ?? undefined));
    },
    word: (name, args) => {
      if (name === 'publish') door.publish(...(args as [string, string]));
      else if (name === 'unsubscribe') door.unsubscribe(...(args as [string]));
    },
  };
}
