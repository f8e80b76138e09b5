import { statSync } from 'node:fs';
import { join } from 'node:path';
import { QueryTypes, Sequelize } from 'sequelize';
import type { Database } from './database.js';
import { setFact } from './statements.js';

/** Up to this size a file is checked before the service starts, in bytes; a larger one while it runs. */
const smallBytes = 64 * 1_048_576;
/** How the fact is called that says whether the database was closed cleanly. */
const cleanFact = 'closed-cleanly';

/**
 * Checks an SQLite file after an end that was not clean, with SQLite's own `quick_check`, table by table. A shared database
 * is its own server's to check.
 *
 * @returns a promise that resolves when the check of a small file, or the start of that of a large one, is done
 */
export async function checkSoundness(database: Database, folder: string, tellError: (error: unknown) => void) {
  if (database.isShared) return;
  const wasClean = await isMarkedClean(database).catch(() => false);
  if (!wasClean) {
    const file = join(folder, 'bells.sqlite');
    const checking = quickCheck(file).then(
      (faults) => faults.length > 0 && database.health.isDamaged(faults.slice(0, 3).join('; ')),
      tellError,
    );
    if (statSync(file).size <= smallBytes) await checking;
  }
  await mark(database, false).catch(tellError);
}

/** Notes that the database is closed cleanly, so that the next start need not check it. */
export async function markClean(database: Database): Promise<void> {
  if (database.isShared || database.health.damage !== undefined) return;
  // Else the next start checks, which does no harm.
  await mark(database, true).catch(() => {});
}

async function isMarkedClean(database: Database): Promise<boolean> {
  const [row] = await database.reads.select<{ value: string }>('SELECT value FROM facts WHERE name = :name', {
    name: cleanFact,
  });
  // A database that was just made has nothing that could be damaged.
  const [channel] = await database.reads.select('SELECT id FROM channels LIMIT 1');
  return row?.value === 'yes' || (row === undefined && channel === undefined);
}

function mark(database: Database, isClean: boolean): Promise<void> {
  const statement = setFact(cleanFact, isClean ? 'yes' : 'no', database);
  return database.write(async () => ({ statements: [statement], result: undefined }));
}

/** What is wrong with a file, as SQLite says it; nothing if it is sound. On a connection of its own, so that others go on. */
async function quickCheck(file: string): Promise<readonly string[]> {
  const connection = new Sequelize({ dialect: 'sqlite', storage: file, logging: false });
  const select = <Row extends object>(sql: string): Promise<Row[]> =>
    connection.query<Row>(sql, { type: QueryTypes.SELECT });
  try {
    const faults: string[] = [];
    for (const { name } of await select<{ name: string }>("SELECT name FROM sqlite_master WHERE type = 'table'"))
      for (const row of await select<Record<string, string>>(`PRAGMA quick_check('${name.replaceAll("'", "''")}')`))
        for (const told of Object.values(row)) if (told !== 'ok') faults.push(`${name}: ${told}`);
    return faults;
  } catch (error) {
    return [(error as Error).message];
  } finally {
    await connection.close();
  }
}
