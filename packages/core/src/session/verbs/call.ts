import type { CallRequest } from '@nine-bells/wire';
import type { OwnVerb } from '../verb.js';

/** Asks the application. Who may, the call's own access rule says; later acts do not wait for the answer. */
export const call: OwnVerb<CallRequest> = {
  act: 'own',
  cost: 2,
  handle(session, request) {
    const { id, channel } = request;
    const caller = { session: session.session, visitor: session.visitor };
    session.host.calls.call(request, caller).then(
      (text) => session.line.replyText(id, text),
      (error: unknown) =>
        session.line.failed(error, channel === undefined ? { do: 'call', id } : { do: 'call', id, channel }),
    );
  },
};
