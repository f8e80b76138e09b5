import type { Actor } from '@nine-bells/core';
import { refusal } from '@nine-bells/wire';
import type { AnswerOf, QueryOf, RouteName } from '@nine-bells/wire/http';
import type { Request, Response } from 'express';
import type { ApiKey } from '../store/apiKeys.js';
import type { ChannelRight, plainRights, Rights } from '../store/rights.js';
import type { Dto } from './body.js';

/** Answers a request with what the interface promises of it. */
export type Serve<K extends RouteName> = (
  request: Request,
  response: Response<AnswerOf<K>>,
  caller: Caller,
) => void | Promise<void>;

export interface RouteOptions<Member extends string = string> {
  /**
   * The right that a key needs. `any`: every valid key. A right as `{ perChannel }` is enough in at least one channel;
   * the route asks `caller.needIn` for each channel that it touches.
   */
  readonly right: (typeof plainRights)[number] | 'any' | { readonly perChannel: ChannelRight };
  /** The members of the query that it takes; any other is most often one of these mistyped. */
  readonly query?: readonly Member[];
  /** The class that checks its body, or each element of it. */
  readonly body?: Dto<object>;
  /** Content types of bodies that it takes; JSON by default. */
  readonly takes?: readonly string[];
  /** The statuses of its answers, of which it gives the first unless it says another. Default 200. */
  readonly statuses?: readonly [number, ...number[]];
}

/**
 * One route of the HTTP interface. Everything under `/v1` is served by routes of this kind and by nothing else, so that
 * there is none without a decision.
 */
export interface Route extends RouteOptions {
  readonly name: RouteName;
  readonly method: 'get' | 'post' | 'delete';
  /** As Express writes it. */
  readonly path: string;
  serve(request: Request, response: Response, caller: Caller): void | Promise<void>;
}

export function route<K extends RouteName>(
  name: K,
  options: RouteOptions<keyof QueryOf<K> & string>,
  serve: Serve<K>,
): Route {
  const [method = '', path = ''] = name.split(' ');
  return { name, method: method.toLowerCase() as Route['method'], path, ...options, serve };
}

/** The caller of the HTTP interface: the holder of an API key, or a console session, which may have fewer rights. */
export class Caller {
  readonly key: ApiKey;
  readonly rights: Rights;
  readonly #charge: (cost: number) => void;

  constructor(key: ApiKey, rights: Rights, charge: (cost: number) => void) {
    this.key = key;
    this.rights = rights;
    this.#charge = charge;
  }

  /** Who it is, for the audit log. */
  get actor(): Actor {
    return { kind: 'key', id: this.key.id, name: this.key.name };
  }

  /**
   * Counts one request as several.
   *
   * @throws {ProblemError} `rate-limited`
   */
  charge(cost: number): void {
    this.#charge(cost);
  }

  /** @throws {ProblemError} `not-allowed` */
  need(right: Route['right']): void {
    if (right === 'any') return;
    const [name, has] =
      typeof right === 'string'
        ? [right, this.rights.has(right)]
        : [right.perChannel, this.rights.hasSomewhere(right.perChannel)];
    if (!has) throw this.#refusal(`the right \`${name}\``);
  }

  /**
   * Asks for a right in one channel; without a channel, for the right in all channels.
   *
   * @throws {ProblemError} `not-allowed`
   */
  needIn(right: ChannelRight, channel: string | undefined): void {
    const has = channel === undefined ? this.rights.has(right) : this.rights.hasIn(right, channel);
    if (has) return;
    throw this.#refusal(
      channel === undefined ? `the right \`${right}\` for all channels` : `the right \`${right}\` in ${channel}`,
    );
  }

  #refusal(what: string): Error {
    return refusal(
      'not-allowed',
      `the key ${JSON.stringify(this.key.name)} does not have ${what}; it has ${this.rights}`,
    );
  }
}
