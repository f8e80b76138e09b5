import type { Database, Reads } from '../store/database.js';
import { insertOf } from '../store/statements.js';
import type { Row } from '../store/tables.js';
import { type Agreed, compareTerms, nextTerm, type ServerFacts, type Term, type TermBook } from './terms.js';

/** Terms so far behind the last one are forgotten: records that are marked with them count as lost. */
const maxTerms = 10_000;

/** The terms of the relay in the database, where all instances of the service find them. */
export class TermStore implements TermBook {
  readonly #database: Database;

  constructor(database: Database) {
    this.#database = database;
  }

  async agree(place: string, facts: ServerFacts): Promise<Agreed> {
    // Nearly always the server is the one that was there last, and nothing need be locked to see that.
    const known = await latestAt(this.#database.reads, place);
    if (known !== undefined && compareTerms(known, facts) === 'same')
      return { term: known, isNew: false, wasMet: true };
    return this.#database.write<Agreed>(async (reads) => {
      const latest = await latestAt(reads, place);
      if (latest !== undefined && compareTerms(latest, facts) === 'same')
        return { statements: [], result: { term: latest, isNew: false, wasMet: true } };
      const [row] = await reads.select<{ last: number | null; met: number | string }>(
        `SELECT (SELECT MAX(term) FROM relay_terms) AS last,
           (SELECT COUNT(*) FROM relay_terms WHERE run = :run) AS met`,
        { run: facts.run },
      );
      const term = nextTerm(Number(row?.last ?? 0), place, latest, facts);
      const statements = [
        insertOf('relay_terms', [rowOf(term)], this.#database),
        `DELETE FROM relay_terms WHERE term < ${term.term - maxTerms}`,
      ];
      return { statements, result: { term, isNew: true, wasMet: Number(row?.met) > 0 } };
    });
  }

  async note(term: number, what: { readonly isDurable?: false; readonly isReplicated?: true }): Promise<void> {
    const changes = [
      ...(what.isDurable === false ? ['durable = 0'] : []),
      ...(what.isReplicated ? ['replicated = 1'] : []),
    ];
    const statements = [`UPDATE relay_terms SET ${changes.join(', ')} WHERE term = ${term}`];
    await this.#database.write(async () => ({ statements, result: undefined }));
  }

  async latestOf(term: number): Promise<Term | undefined> {
    const { reads } = this.#database;
    const of = async (which: 'term' | 'continues', value: number): Promise<Term | undefined> => {
      const [row] = await reads.select<Row<'relay_terms'>>(
        `SELECT * FROM relay_terms WHERE ${which} = :value ORDER BY term`,
        {
          value,
        },
      );
      return row === undefined ? undefined : termOf(row);
    };
    let latest = await of('term', term);
    while (latest !== undefined) {
      const next = await of('continues', latest.term);
      if (next === undefined) return latest;
      latest = next;
    }
    return undefined;
  }
}

async function latestAt(reads: Reads, place: string): Promise<Term | undefined> {
  const [row] = await reads.select<Row<'relay_terms'>>(
    'SELECT * FROM relay_terms WHERE place = :place ORDER BY term DESC LIMIT 1',
    { place },
  );
  return row === undefined ? undefined : termOf(row);
}

function rowOf(term: Term): Row<'relay_terms'> {
  const { place, run, replication, isDurable, isReplicated, continues, seenAtMs } = term;
  return {
    ...{ term: term.term, place, run, replication, durable: Number(isDurable), replicated: Number(isReplicated) },
    ...{ continues: continues ?? null, seen_at_ms: seenAtMs },
  };
}

function termOf(row: Row<'relay_terms'>): Term {
  return {
    term: Number(row.term),
    place: row.place,
    run: row.run,
    replication: row.replication,
    isDurable: Number(row.durable) === 1,
    isReplicated: Number(row.replicated) === 1,
    ...(row.continues === null ? {} : { continues: Number(row.continues) }),
    seenAtMs: Number(row.seen_at_ms),
  };
}
