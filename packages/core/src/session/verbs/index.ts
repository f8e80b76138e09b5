import type { VerbTable } from '../verb.js';
import { block, blocks, unblock } from './block.js';
import { call } from './call.js';
import { enter } from './enter.js';
import { hail } from './hail.js';
import { inbox } from './inbox.js';
import { accept, invitations, invite, uninvite } from './invite.js';
import { leave } from './leave.js';
import { level, levels } from './level.js';
import { mark } from './mark.js';
import { pending, takeBack } from './pending.js';
import { publish } from './publish.js';
import { pulse } from './pulse.js';
import { react } from './react.js';
import { reactors } from './reactors.js';
import { read } from './read.js';
import { refresh } from './refresh.js';
import { remove } from './remove.js';
import { report } from './report.js';
import { revise } from './revise.js';
import { revisions } from './revisions.js';
import { search } from './search.js';
import { set } from './set.js';
import { silence } from './silence.js';
import { status } from './status.js';
import { threads } from './threads.js';
import { unread } from './unread.js';
import { unwatch, watch } from './watch.js';
import { withdraw } from './withdraw.js';

/** Every verb that a session answers. Tests and `docs/protocol.md` are checked against this table. */
export const sessionVerbs: VerbTable = {
  enter,
  leave,
  publish,
  revise,
  withdraw,
  revisions,
  react,
  reactors,
  hail,
  set,
  call,
  read,
  status,
  mark,
  unread,
  threads,
  search,
  level,
  levels,
  pending,
  'take-back': takeBack,
  block,
  unblock,
  blocks,
  watch,
  unwatch,
  inbox,
  remove,
  silence,
  report,
  invite,
  accept,
  invitations,
  uninvite,
  refresh,
  pulse,
};
