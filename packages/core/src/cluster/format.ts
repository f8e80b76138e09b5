/**
 * Format of everything that instances of one service share: the records and texts of the relay, the control log, and the tables of the
 * database. Instances of different formats do not run together. Raise it with every change of one of these, and with it the version.
 *
 * - 1: versions up to 0.1, which do not say it
 * - 2: logs in Redis expire before their heads, keys stand under digests; deliveries say what they copy
 * - 3: arrivals are pruned to the sender's id; an index of them
 */
export const instanceFormat = 3;
