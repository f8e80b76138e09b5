import type { Json } from '@nine-bells/wire';
import type { LocalAnswers } from '../model/info.js';
import type { InstanceQuestion } from '../model/instance.js';

/** Answers what another instance asks. */
export function answerOf(own: LocalAnswers, question: InstanceQuestion): Json | Promise<Json> {
  return answered(own, question) as Json | Promise<Json>;
}

function answered(own: LocalAnswers, question: InstanceQuestion): unknown {
  switch (question.type) {
    case 'table':
      return own.table(question.channel);
    case 'memberships':
      return own.memberships(question.user);
    case 'sessions':
      return own.sessions(question);
    case 'visitor':
      return own.visitor(question.session);
    case 'entrants':
      return own.entrants(question.channel);
    case 'channels':
      return own.entered(question.after, question.limit, question.find);
    case 'activity':
      return own.activityOf(question.users, question.channel);
    case 'concerned':
      return own.concerned(question.action);
    case 'refusals':
      return own.refusals();
    case 'traffic':
      return own.traffic();
    case 'trace':
      return own.trace(question.id);
    case 'stays':
      return own.stays(question.user, question.channel);
  }
}
