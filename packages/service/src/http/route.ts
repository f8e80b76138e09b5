import type { Actor } from '@nine-bells/core';
import { refusal } from '@nine-bells/wire';
import type { Request, Response } from 'express';
import type { ApiKey } from '../store/apiKeys.js';
import type { plainRights, Rights } from '../store/rights.js';

/**
 * One door of the HTTP interface. Everything under `/v1` is served by routes of this kind and by nothing else, so that
 * there is none without a decision.
 */
export interface Route {
  readonly method: 'get' | 'post' | 'delete';
  /** Below `/v1`, as Express writes it. */
  readonly path: `/${string}`;
  /** The members of the query that it takes; any other is most often one of these mistyped. */
  readonly query?: readonly string[];
  /**
   * The right that a key needs. With `publish` the key may publish somewhere, and the route asks for each channel; `any`:
   * every key that is good.
   */
  readonly right: (typeof plainRights)[number] | 'any';
  serve(request: Request, response: Response, caller: Caller): void | Promise<void>;
}

/** Whoever calls the HTTP interface: the holder of an API key, over a console session perhaps with less than its rights. */
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
    const has = right === 'any' || (right === 'publish' ? this.rights.publishes : this.rights.has(right));
    if (!has) throw this.#refusal(`the right \`${right}\``);
  }

  /** @throws {ProblemError} `not-allowed` */
  needPublish(channel: string, where?: string): void {
    if (!this.rights.mayPublish(channel)) throw this.#refusal(`the right to publish to ${channel}`, where);
  }

  #refusal(what: string, where?: string): Error {
    return refusal(
      'not-allowed',
      `the key ${JSON.stringify(this.key.name)} has not ${what}; it has ${this.rights}`,
      where === undefined ? {} : { where },
    );
  }
}
