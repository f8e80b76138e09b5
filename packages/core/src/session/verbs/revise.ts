import type { ReviseRequest } from '@nine-bells/wire';
import type { ChannelVerb } from '../verb.js';
import { changeMessage, mayChangeMessage } from './changeMessage.js';

/** Replaces what a message holds. */
export const revise: ChannelVerb<ReviseRequest> = {
  act: 'revise',
  cost: 5,
  rate: 'changes',
  decide: mayChangeMessage('revise'),
  handle: changeMessage,
};
