import { type MarkRequest, refusal } from '@nine-bells/wire';
import { markedText, placeOf, threadMarkedText } from '../replies.js';
import type { ChannelVerb } from '../verb.js';

/** Moves the user's read mark in a channel, on all its devices. */
export const mark: ChannelVerb<MarkRequest> = {
  act: 'enter',
  cost: 2,
  check({ who }) {
    if (who.guest) throw refusal('not-allowed', 'guests have no read marks');
  },
  handle(session, request) {
    const place = request.cursor === null ? null : placeOf(request.cursor);
    const { thread } = request;
    if (thread !== undefined) {
      const moved = session.host.marks.moveInThread(session.user, request.channel, placeOf(thread), place);
      return session.answerWhenDone(request, moved, (state) => threadMarkedText(request.channel, state));
    }
    return session.answerWhenDone(request, session.host.marks.move(session.user, request.channel, place), markedText);
  },
};
