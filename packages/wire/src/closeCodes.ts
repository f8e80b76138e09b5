/**
 * Close codes of the line: those registered for WebSocket (RFC 6455, section 7.4) where one fits, and ours in the
 * private range 4000 to 4999.
 */
export const closeCodes = {
  normal: 1000,
  goingAway: 1001,
  unsupportedData: 1003,
  invalidText: 1007,
  /** The reason is a problem code. */
  policy: 1008,
  tooBig: 1009,
  /** The instance drains: come back elsewhere. */
  drain: 1012,
  tryLater: 1013,
  tooSlow: 4900,
  continuedElsewhere: 4901,
  signedOut: 4902,
  tokenEnded: 4903,
  /** Said by the client, which was asked to come back elsewhere. */
  movingOn: 4904,
} as const;

/** Whether a client that was closed with `code` should stay away instead of reconnecting by itself. */
export function isFinalClose(code: number): boolean {
  return code === closeCodes.continuedElsewhere || code === closeCodes.signedOut;
}
