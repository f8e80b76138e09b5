/** Sentinels that know where the master of a name is. */
export interface Sentinels {
  /** For the master: empty, or `user:password@`. */
  readonly credentials: string;
  /** `host:port` of each. */
  readonly addresses: readonly string[];
  readonly name: string;
}

const pattern = /^redis\+sentinel:\/\/([^@/]*@)?([^@/]+)\/([^/?#]+)$/;

/** Reads `redis+sentinel://HOST:PORT,HOST:PORT/NAME`; `undefined` if it is no such URL. */
export function readSentinels(url: string): Sentinels | undefined {
  const [, credentials = '', addresses = '', name] = pattern.exec(url) ?? [];
  if (name === undefined) return undefined;
  const all = addresses.split(',').map((each) => (/:\d+$/.test(each) ? each : `${each}:26379`));
  if (!all.every((each) => URL.canParse(`redis://${each}`))) return undefined;
  return { credentials, addresses: all, name: decodeURIComponent(name) };
}

export function isSentinelUrl(url: string): boolean {
  return readSentinels(url) !== undefined;
}
