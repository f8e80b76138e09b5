import type { ChannelName, SearchRequest } from '@nine-bells/wire';
import type { LiveSession } from '../liveSession.js';
import type { OwnVerb } from '../verb.js';

/** Finds messages in channels that the user may read, each decided. */
export const search: OwnVerb<SearchRequest> = {
  act: 'own',
  cost: 25,
  rate: 'searches',
  async handle(session, { do: _, id, ...wish }) {
    const { host } = session;
    const blocks = await session.knownBlocks();
    const reply = await host.search.find(wish, {
      session: session.session,
      usual: () => usualOf(session),
      mayRead: async ({ channel, rule }) => {
        const { ruling } = await session.allowed('read', channel);
        const hidden = blocks.filterFor(rule);
        return [...(ruling.filters ?? []), ...(hidden ? [hidden] : [])];
      },
    });
    if (!session.gone) session.line.reply(id, reply);
  },
};

/** The channels that it has entered, and those that its user has read. */
async function usualOf(session: LiveSession): Promise<readonly ChannelName[]> {
  const { guest, observer, user } = session.who;
  const marked = guest || observer ? [] : await session.host.marks.channelsOf(user);
  return [...new Set([...session.entered.names, ...marked])];
}
