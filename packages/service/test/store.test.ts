import { describe } from 'vitest';
import { storeSuite } from './storeSuite.js';

describe('in SQLite', () => {
  storeSuite({ isFile: true, make: async () => ({ url: undefined, remove: async () => {} }) });
});
