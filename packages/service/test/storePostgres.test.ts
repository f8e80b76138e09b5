import { describe } from 'vitest';
import { postgresIsThere } from '../../../tests/support/realPostgres.js';
import { makeMigratedDatabase, sharedPostgres } from '../../../tests/support/shared.js';
import { storeSuite } from './storeSuite.js';

describe.skipIf(!postgresIsThere)('in PostgreSQL', () => {
  storeSuite({
    isFile: false,
    make: async () => {
      const url = await makeMigratedDatabase();
      return { url, remove: async () => (await sharedPostgres()).dropDatabase(url) };
    },
  });
});
