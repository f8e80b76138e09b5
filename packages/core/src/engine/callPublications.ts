import type { CallOrigin, CallsHost } from '../calls/calls.js';
import type { Inboxes } from '../inbox/inboxes.js';
import type { CallPublication } from '../model/call.js';
import type { Publisher } from '../record/publisher.js';
import type { ChannelRules } from '../rules/channelRule.js';
import type { BoardDirectory } from './boardDirectory.js';
import type { Messages } from './messages.js';

/** Publishes what comes with the answer to a call, as an application would. */
export function publishedWithCall(
  engine: { readonly messages: Messages; readonly boards: BoardDirectory; readonly inboxes: Inboxes },
  rules: ChannelRules,
  publisher: Publisher,
): CallsHost['publish'] {
  return async (publication: CallPublication, { owner, key, caller }: CallOrigin): Promise<unknown> => {
    if ('message' in publication) {
      const { by, ...message } = publication.message;
      const own = key === undefined ? {} : { owner, key };
      return engine.messages.publish({ ...message, ...own, ...(by === undefined ? {} : { by: { user: by } }) });
    }
    if ('entry' in publication) return engine.boards.set(publication.entry.channel, publication.entry);
    if ('notice' in publication)
      return engine.inboxes.notify({ ...(key === undefined ? {} : { key }), ...publication.notice });
    const { hail } = publication;
    publisher.hail(rules.require(hail.channel), { ...hail, from: caller.session });
  };
}
