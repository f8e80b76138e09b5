import { type RefreshRequest, refusal } from '@nine-bells/wire';
import type { OwnVerb } from '../verb.js';

/** Swaps the token in place. What the new one does not allow ends now. */
export const refresh: OwnVerb<RefreshRequest> = {
  act: 'own',
  cost: 25,
  async handle(session, { id, token }) {
    const { line } = session;
    const who = await line.readToken(token);
    if (session.gone) return;
    const { user, guest, observer, workbench } = session.who;
    line.checkAdmission(who);
    if (guest || who.user !== user || who.observer !== observer || who.workbench !== workbench)
      throw refusal('user-mismatch', 'the token must be of the user that this line is open for', { where: '/token' });
    session.refresh(who);
    const [lost] = await Promise.all([session.entered.decideAll(), session.watched.decideAll()]);
    if (session.gone) return;
    // It is not shown there either.
    for (const channel of lost) session.leave(channel, 'not-allowed');
    line.reply(id, { ...(who.endsAt === undefined ? {} : { expiresAt: new Date(who.endsAt).toISOString() }), lost });
  },
};
