import { ProblemError, problem } from './problems.js';
import type { Push, PushKind, ServerFrame } from './pushes.js';
import type { ReplyFrame } from './replies.js';

/**
 * Reads one text frame of the service.
 *
 * A push of an unknown kind is returned all the same; the caller ignores it.
 *
 * @throws {ProblemError} `bad-frame` if it is neither a reply nor a push
 */
export function readServerFrame(text: string): ServerFrame {
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch (error) {
    throw new ProblemError(problem('bad-frame', `the service sent what is not JSON: ${(error as Error).message}`));
  }
  if (typeof value === 'object' && value !== null) {
    const frame = value as { re?: unknown; on?: unknown };
    if (typeof frame.re === 'number') return value as ReplyFrame;
    if (typeof frame.on === 'string') return value as Push;
  }
  throw new ProblemError(problem('bad-frame', 'the service sent a frame that is neither a reply nor a push'));
}

export function isReply(frame: ServerFrame): frame is ReplyFrame {
  return 're' in frame;
}

export function isPush<K extends PushKind>(frame: ServerFrame, kind: K): frame is Extract<Push, { on: K }> {
  return 'on' in frame && frame.on === kind;
}
