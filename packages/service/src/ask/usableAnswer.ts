import { UnusableAnswer } from '@nine-bells/core';

/** Statuses of a proxy without its application, and of an application under too much load (RFC 9110, 15.6; RFC 6585, 4). */
const away: ReadonlySet<number> = new Set([429, 502, 503, 504]);

/** @throws {UnusableAnswer} for any status but 200; an `Error` if it says that the application is away */
export function checkStatus(status: number, url: string): void {
  if (status === 200) return;
  const text = `${url} answered with status ${status}, not 200`;
  throw away.has(status) ? new Error(text) : new UnusableAnswer(text);
}

/** Reads an answer. @throws {UnusableAnswer} if it is not as it should be */
export function usable<T>(read: () => T): T {
  try {
    return read();
  } catch (error) {
    throw new UnusableAnswer((error as Error).message, { cause: error });
  }
}
