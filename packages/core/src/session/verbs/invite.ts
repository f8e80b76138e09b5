import {
  type AcceptRequest,
  type InvitationsRequest,
  type InviteRequest,
  ProblemError,
  refusal,
  type UninviteRequest,
} from '@nine-bells/wire';
import { bannedProblem } from '../../access/moderationProblems.js';
import { noSuch } from '../../invitations/invitations.js';
import type { Actor } from '../../model/moderation.js';
import type { LiveSession } from '../liveSession.js';
import type { ChannelVerb, OwnVerb } from '../verb.js';

/** Invitations in one reply, if the client does not say how many. */
const defaultLimit = 100;

/** Makes an invitation; its role is one of the user's own. Later requests do not wait for it. */
export const invite: ChannelVerb<InviteRequest> = {
  act: 'invite',
  cost: 10,
  rate: 'invites',
  handle(session, request) {
    const { invitations } = session.host;
    const { do: _, id, ...wish } = request;
    if (wish.role !== undefined && !session.who.roles.includes(wish.role))
      throw refusal('not-allowed', `you have not the role ${wish.role} yourself`, { where: '/role' });
    answer(session, request, invitations.invite(wish, actorOf(session)));
  },
};

/** Accepts an invitation. Refused channels are decided again. */
export const accept: OwnVerb<AcceptRequest> = {
  act: 'own',
  cost: 10,
  rate: 'accepts',
  async handle(session, { id, code }) {
    const { host, line, who } = session;
    if (who.observer) throw refusal('not-allowed', 'an observer accepts no invitation');
    session.checkGeneration();
    const waitMs = host.limiter.guesses(line.address);
    if (waitMs > 0)
      throw refusal('rate-limited', 'too many wrong codes came from this address', { retryAfterMs: waitMs });
    try {
      const accepted = await host.invitations.accept(code, who);
      // It may have been banned there before.
      const ban = host.access.ban(session.visitor, accepted.channel);
      if (ban !== undefined) throw new ProblemError(bannedProblem(ban));
      line.reply(id, accepted);
    } catch (error) {
      if (error instanceof ProblemError && error.code === 'no-such-invitation') host.limiter.guessedWrong(line.address);
      throw error;
    }
  },
};

/** Lists the invitations into a channel, without their codes. */
export const invitations: ChannelVerb<InvitationsRequest> = {
  act: 'invite',
  cost: 5,
  handle(session, request) {
    const { channel, limit = defaultLimit, after } = request;
    answer(session, request, session.host.invitations.list(channel, limit, after));
  },
};

/** Ends an invitation of the user's own, or any if the user may moderate. */
export const uninvite: ChannelVerb<UninviteRequest> = {
  act: 'invite',
  cost: 10,
  handle(session, request) {
    answer(session, request, end(session, request));
  },
};

async function end(session: LiveSession, { channel, invitation: id, admitted = false }: UninviteRequest) {
  const { invitations: all } = session.host;
  const found = await all.byId(id);
  if (found === undefined || found.channel !== channel) throw noSuch();
  const isOwn = found.by.kind === 'user' && found.by.id === session.user;
  if (!isOwn) await session.allowed('moderate', channel);
  return all.end(id, admitted, actorOf(session));
}

function actorOf({ who }: LiveSession): Actor {
  return { kind: 'user', id: who.user, ...(who.name && { name: who.name }) };
}

function answer(
  session: LiveSession,
  request: InviteRequest | InvitationsRequest | UninviteRequest,
  done: Promise<object>,
) {
  done.then(
    (reply) => session.line.reply(request.id, reply),
    (error: unknown) => session.line.failed(error, request),
  );
}
