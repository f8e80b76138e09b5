import type { Identity } from '../model/access.js';

/** Reads tokens. */
export interface TokenReader {
  /** @throws {ProblemError} `token-invalid` or `token-ended` */
  read(token: string): Promise<Identity>;
}
