/** A message as somebody saw it, or was told of it. */
export interface Seen {
  readonly cursor: string;
  readonly id: string;
  readonly data: unknown;
}

/** What a client saw of a channel, in order. */
export type Heard = { readonly message: Seen } | { readonly gap: { after: string; cursor: string; why: string } };

/** An acknowledged publish. */
export interface Acknowledged extends Seen {
  readonly channel: string;
}

/** What a client saw of a channel from the place on at which it began. */
export interface Consumed {
  readonly client: string;
  readonly channel: string;
  readonly heard: readonly Heard[];
}

/** A row of the database. */
export interface Row {
  readonly channel: string;
  readonly volume: string;
  readonly head: number;
  readonly number: number;
  readonly id: string;
  readonly data: unknown;
}

export interface Evidence {
  readonly acknowledged: readonly Acknowledged[];
  readonly consumed: readonly Consumed[];
  /** What the database has of kept channels. */
  readonly rows: readonly Row[];
  readonly isKept: (channel: string) => boolean;
}

/**
 * Compares everything that was acknowledged, everything that clients saw, and the database. Returns what broke a promise, a
 * sentence each.
 */
export function judge({ acknowledged, consumed, rows, isKept }: Evidence): string[] {
  const faults: string[] = [];
  const ids = new Map<string, string>();
  const isSame = (channel: string, { cursor, id }: { cursor: string; id: string }, who: string): void => {
    const place = `${channel} ${cursor}`;
    const known = ids.get(place);
    if (known !== undefined && known !== id) faults.push(`${who}: ${place} is ${id}, and elsewhere ${known}`);
    ids.set(place, id);
  };
  const stored = new Map(rows.map((row) => [`${row.channel} ${row.volume}:${row.number}`, row]));
  for (const row of rows) isSame(row.channel, { cursor: `${row.volume}:${row.number}`, id: row.id }, 'the database');
  for (const each of acknowledged) {
    isSame(each.channel, each, 'acknowledged');
    if (isKept(each.channel) && !stored.has(`${each.channel} ${each.cursor}`))
      faults.push(`${each.channel} ${each.cursor} was acknowledged, and is not in the database`);
  }
  faults.push(...faultsOfRows(rows));
  for (const each of consumed) {
    for (const one of each.heard) if ('message' in one) isSame(each.channel, one.message, each.client);
    const mine = acknowledged.filter(({ channel }) => channel === each.channel);
    faults.push(...faultsOfClient(each, mine, isKept(each.channel)));
  }
  return faults;
}

/** The rows of a channel run from 1 to its head without holes, and nothing was published twice. */
function faultsOfRows(rows: readonly Row[]): string[] {
  const faults: string[] = [];
  for (const [channel, all] of groupedBy(rows, ({ channel }) => channel)) {
    const numbers = all.map(({ number }) => number).sort((a, b) => a - b);
    const hole = numbers.findIndex((number, index) => number !== index + 1);
    if (hole !== -1) faults.push(`the database: ${channel} has no message ${hole + 1}`);
    const head = all[0]?.head;
    if (head !== numbers.at(-1)) faults.push(`the database: the head of ${channel} is ${head}, not ${numbers.at(-1)}`);
    for (const [data, some] of groupedBy(all, ({ data }) => JSON.stringify(data)))
      if (some.length > 1) faults.push(`the database: ${channel} has ${data} ${some.length} times`);
  }
  return faults;
}

/** A client sees a channel in order, without doubles, and everything that was acknowledged unless it was told of a gap. */
function faultsOfClient(
  { client, channel, heard }: Consumed,
  mine: readonly Acknowledged[],
  isKept: boolean,
): string[] {
  const faults: string[] = [];
  const who = `${client}: ${channel}`;
  const seen = new Set<string>();
  const volumes = new Set<string>();
  const data = new Map<string, string>();
  let at: { volume: string; number: number } | undefined;
  for (const each of heard) {
    if ('gap' in each) {
      if (isKept) faults.push(`${who}: told of a gap (${each.gap.why}) after ${each.gap.after}`);
      at = placeOf(each.gap.cursor);
      continue;
    }
    const { cursor, data: value } = each.message;
    const place = placeOf(cursor);
    if (at !== undefined && (at.volume !== place.volume || at.number + 1 !== place.number))
      faults.push(`${who}: ${cursor} follows ${at.volume}:${at.number}, and no gap was told`);
    at = place;
    seen.add(cursor);
    volumes.add(place.volume);
    const text = JSON.stringify(value);
    const before = data.get(text);
    // Where the relay has lost its keys together with the record, nobody can know that it was published before.
    if (before !== undefined && (isKept || placeOf(before).volume === place.volume))
      faults.push(`${who}: ${text} came twice, at ${before} and ${cursor}`);
    data.set(text, cursor);
  }
  const first = heard.find((each) => 'message' in each);
  const begin = first === undefined ? undefined : placeOf((first as { message: Seen }).message.cursor);
  const gaps = heard.flatMap((each) => ('gap' in each ? [each.gap] : []));
  for (const { cursor } of mine) {
    if (seen.has(cursor)) continue;
    const place = placeOf(cursor);
    if (begin !== undefined && place.volume === begin.volume && place.number < begin.number) continue;
    const isTold = gaps.some(({ after, cursor: to }) => {
      const [from, until] = [placeOf(after), placeOf(to)];
      const isBehind = from.volume === place.volume && from.number < place.number;
      const isBefore = until.volume === place.volume && until.number >= place.number;
      // A volume that came and went between two others is within the gap from one to the other.
      return isBehind || isBefore || (!volumes.has(place.volume) && from.volume !== until.volume);
    });
    if (!isTold) faults.push(`${who}: ${cursor} was acknowledged, never came, and no gap was told`);
  }
  return faults;
}

function placeOf(cursor: string): { volume: string; number: number } {
  const [volume = '', number = ''] = cursor.split(':');
  return { volume, number: Number(number) };
}

function groupedBy<T>(all: readonly T[], keyOf: (each: T) => string): Map<string, T[]> {
  const groups = new Map<string, T[]>();
  for (const each of all) {
    const key = keyOf(each);
    const group = groups.get(key);
    if (group === undefined) groups.set(key, [each]);
    else group.push(each);
  }
  return groups;
}
