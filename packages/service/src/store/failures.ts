import { ProblemError, refusal } from '@nine-bells/wire';
import { DatabaseError, UniqueConstraintError } from 'sequelize';

/** When to try again what could not be committed, in milliseconds. */
const retryAfterMs = 1_000;

/** A transaction did not come to its turn in time, or others kept writing what it had read. Nothing was done. */
export class NotDone extends Error {}

/**
 * The connection ended during COMMIT: the transaction may have been committed or not. A later transaction can tell, since
 * it gets the writers' lock only when this one is over.
 */
export class UnknownOutcome extends Error {}

/** A row with this key, or this number, is there already. */
export function isTaken(error: unknown): boolean {
  return (
    error instanceof UniqueConstraintError || (error instanceof Error && /UNIQUE constraint failed/.test(error.message))
  );
}

/** SQLite's codes for a failure that another try may not have. */
const passing = /SQLITE_(CORRUPT|NOTADB|BUSY|FULL|IOERR|LOCKED|READONLY|CANTOPEN|NOMEM|INTERRUPT)/;

/** SQLSTATE classes for a statement that is itself wrong: another try fails, too. */
const wrongStatement = /^(0A|21|22|23|26|42)/;

/**
 * Whether another try may succeed.
 *
 * With a shared database everything counts that is not known to be a fault of the statement: a connection can end in very
 * many ways, and each has an error of its own.
 */
export function isPassing(error: unknown, isShared: boolean): boolean {
  if (error instanceof ProblemError || isTaken(error)) return false;
  if (error instanceof NotDone || error instanceof UnknownOutcome) return true;
  // A fault of this program is none of the database.
  if (error instanceof TypeError || error instanceof RangeError || error instanceof SyntaxError) return false;
  const { message } = error as Error;
  if (!isShared) return passing.test(message);
  const { code } = (error instanceof DatabaseError ? error.original : error) as { code?: unknown };
  return !(typeof code === 'string' && wrongStatement.test(code));
}

/** Whether a shared database refuses the connection itself: the password is wrong, or there is no such database. */
export function isSetUpWrong(error: unknown): boolean {
  const { original } = error as { readonly original?: { readonly code?: unknown } };
  return typeof original?.code === 'string' && /^(28|3D)/.test(original.code);
}

function notDoneText(error: unknown): string {
  const { message } = error as Error;
  if (/SQLITE_FULL/.test(message)) return 'the disk of the database is full; nothing was done';
  if (message.includes('damaged')) return 'the database is damaged and takes nothing any more; nothing was done';
  return 'the database does not answer in time; nothing was done';
}

/** The problem to answer with: `unavailable` where another try may succeed, else the error as it is. */
export function failureOf(error: unknown, isShared: boolean): Error {
  if (error instanceof ProblemError) return error;
  if (!isPassing(error, isShared)) return error instanceof Error ? error : new Error(String(error));
  const refused =
    error instanceof UnknownOutcome
      ? refusal(
          'unavailable',
          'the connection to the database ended during the commit; it is not known whether it was done',
          { retryAfterMs },
        )
      : refusal('unavailable', notDoneText(error), { retryAfterMs });
  refused.cause = error;
  return refused;
}
