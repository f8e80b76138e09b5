import { ProblemError, refusal, type WithdrawRequest } from '@nine-bells/wire';
import { silencedProblem } from '../../access/moderationProblems.js';
import type { RuleMatch } from '../../rules/channelRule.js';
import type { LiveSession } from '../liveSession.js';
import type { ChannelVerb } from '../verb.js';
import { changeMessage, mayChangeMessage } from './changeMessage.js';

const mayWithdraw = mayChangeMessage('withdraw');

/** Takes a message back: what it held is gone. */
export const withdraw: ChannelVerb<WithdrawRequest> = {
  act: 'withdraw',
  cost: 5,
  rate: 'changes',
  async decide(session, channel, request) {
    const allowed = await mayWithdraw(session, channel, request);
    if (request.reason !== undefined) await checkMayGiveReason(session, allowed.match);
    return allowed;
  },
  handle: changeMessage,
};

/**
 * Checks that a user may give a reason, which everybody reads like a message.
 *
 * @throws {ProblemError} `silenced`; `not-allowed` in a channel with review, unless the user is a moderator
 */
async function checkMayGiveReason(session: LiveSession, { channel, rule }: RuleMatch): Promise<void> {
  const silence = session.host.access.silence('publish', session.visitor, channel);
  if (silence !== undefined) throw new ProblemError(silencedProblem(silence));
  if (rule.review === undefined) return;
  const { problem } = await session.decide('moderate', channel);
  if (problem !== undefined)
    throw refusal('not-allowed', 'the channel is reviewed: only moderators give a reason', { where: '/reason' });
}
