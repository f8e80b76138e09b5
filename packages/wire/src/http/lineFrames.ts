import type { Push, PushKind } from '../pushes.js';
import type { ReplyOf } from '../replies.js';
import type { Request, Verb, WatchRequest } from '../requests.js';
import type { HttpProblem } from './httpInterface.js';

/** Every frame of the line, for those who describe it. */
export interface LineFrames {
  readonly requests: {
    readonly [V in Verb]: V extends WatchRequest['do'] ? WatchRequest : Extract<Request, { readonly do: V }>;
  };
  /** Besides `re`, the request's `id`; in place of its members a `problem`, if it was refused. */
  readonly replies: ReplyOf;
  readonly pushes: { readonly [K in PushKind]: Extract<Push, { readonly on: K }> };
  readonly problem: HttpProblem;
}
