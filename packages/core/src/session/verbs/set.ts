import { refusal, type SetRequest } from '@nine-bells/wire';
import type { OwnVerb } from '../verb.js';

/** Part of the protocol; this version has no boards yet. */
export const set: OwnVerb<SetRequest> = {
  act: 'own',
  cost: 1,
  handle() {
    throw refusal('unknown-verb', 'this version of the service does not answer `set`', { where: '/do' });
  },
};
