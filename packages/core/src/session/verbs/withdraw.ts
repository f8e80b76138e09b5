import type { WithdrawRequest } from '@nine-bells/wire';
import type { ChannelVerb } from '../verb.js';
import { changeMessage, mayChangeMessage } from './changeMessage.js';

/** Takes a message back: what it held is gone. */
export const withdraw: ChannelVerb<WithdrawRequest> = {
  act: 'withdraw',
  cost: 5,
  rate: 'changes',
  decide: mayChangeMessage('withdraw'),
  handle: changeMessage,
};
