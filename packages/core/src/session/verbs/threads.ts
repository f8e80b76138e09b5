import { refusal, type ThreadsRequest } from '@nine-bells/wire';
import { threadShown } from '../../model/mark.js';
import type { OwnVerb } from '../verb.js';

/** Threads in one reply, if the client does not say how many. */
const defaultLimit = 100;

/** The threads in which the user takes part, of channels that it may enter. */
export const threads: OwnVerb<ThreadsRequest> = {
  act: 'own',
  cost: 25,
  async handle(session, { id, channel, limit = defaultLimit, follow = false }) {
    const { guest, observer } = session.who;
    if (guest || observer) throw refusal('not-allowed', `${guest ? 'guests have' : 'an observer has'} no read marks`);
    session.checkGeneration();
    // Before the list is read: changes during the read are pushed.
    if (follow) session.followThreads();
    const found = await session.host.marks.threads(session.user, limit, channel);
    const shown = [];
    for (const each of found) if (await session.mayKnow(each.channel)) shown.push(threadShown(each));
    if (!session.gone) session.line.reply(id, { threads: shown });
  },
};
