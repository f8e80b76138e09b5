import type { WatchRequest } from '@nine-bells/wire';
import type { OwnVerb, UserVerb } from '../verb.js';

export const watch: UserVerb<WatchRequest> = {
  act: 'watch',
  cost: 2,
  handle(session, { id, user }) {
    const found = session.watched.watch(user);
    if (found instanceof Promise)
      return found.then((status) => {
        if (status !== undefined) session.line.reply(id, { user, status });
      });
    if (found !== undefined) session.line.reply(id, { user, status: found });
  },
};

export const unwatch: OwnVerb<WatchRequest> = {
  act: 'own',
  cost: 1,
  handle(session, { id, user }) {
    session.watched.unwatch(user);
    session.line.reply(id, { user });
  },
};
