import { type BlockRequest, type BlocksRequest, refusal, type UnblockRequest } from '@nine-bells/wire';
import type { BlockList } from '../../model/block.js';
import type { LiveSession } from '../liveSession.js';
import type { OwnVerb } from '../verb.js';

/** Keeps a user away. Later requests do not wait for it. */
export const block: OwnVerb<BlockRequest> = {
  act: 'own',
  cost: 10,
  handle(session, request) {
    const { user: other, as = 'blocked' } = request;
    const { blocks } = checked(session).host;
    return session.answerWhenDone(request, blocks.set({ user: session.user, other, as }), textOf);
  },
};

export const unblock: OwnVerb<UnblockRequest> = {
  act: 'own',
  cost: 10,
  handle(session, request) {
    const { blocks } = checked(session).host;
    return session.answerWhenDone(request, blocks.set({ user: session.user, other: request.user, as: null }), textOf);
  },
};

export const blocks: OwnVerb<BlocksRequest> = {
  act: 'own',
  cost: 5,
  handle: (session, request) => session.answerWhenDone(request, checked(session).knownBlocks(), textOf),
};

/** @throws {ProblemError} `not-allowed` */
function checked(session: LiveSession): LiveSession {
  if (session.who.guest) throw refusal('not-allowed', 'guests block no users');
  if (session.who.observer) throw refusal('not-allowed', 'an observer blocks no users');
  session.checkGeneration();
  return session;
}

/** As JSON text without braces. */
function textOf(list: BlockList): string {
  return `"blocks":${JSON.stringify(list.blocks)}`;
}
