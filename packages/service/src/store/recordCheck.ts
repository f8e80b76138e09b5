import type { Report } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { Database } from './database.js';
import { type HeadRow, headsOf, lastOf, moveHeads } from './messageRows.js';

/** Channels whose heads are checked in one query, and mended in one transaction. */
const checkedChannels = 20_000;
const mendedChannels = 200;

/**
 * Compares the heads of all channels with their messages. A head that is too low is raised; where messages are missing, all
 * that can be done is to say so.
 */
export async function checkHeads(database: Database, report: Report): Promise<void> {
  const [last] = await database.reads.select<{ id: number | null }>('SELECT MAX(id) AS id FROM channels');
  const wrong: { readonly name: ChannelName; readonly head: number | string }[] = [];
  // In portions, so that no query takes longer than it may.
  for (let from = 0; from <= (last?.id ?? 0); from += checkedChannels)
    wrong.push(
      ...(await database.reads.select<(typeof wrong)[number]>(
        `SELECT c.name, c.head FROM channels c
         WHERE c.id >= :from AND c.id < :to AND c.head <> COALESCE(${lastOf}, c.oldest - 1) ORDER BY c.name`,
        { from, to: from + checkedChannels },
      )),
    );
  for (let from = 0; from < wrong.length; from += mendedChannels) {
    const some = wrong.slice(from, from + mendedChannels);
    const changes = await database.write(async (reads) => {
      const heads = await headsOf(
        reads,
        some.map(({ name }) => name),
      );
      const result = some.map(({ name, head }) => ({
        name,
        was: Number(head),
        head: heads.get(name)?.head ?? Number(head),
      }));
      const raised = result.filter(({ head, was }) => head > was).map(({ name }) => heads.get(name) as HeadRow);
      return { statements: raised.length === 0 ? [] : [moveHeads(raised, database)], result };
    });
    for (const { name, head, was } of changes)
      report(
        new Error(
          was === head
            ? `messages are missing at the end of ${name}, whose head is ${head}: clients are told by a gap`
            : `the head of ${name} was ${was}, though there are messages up to ${head}: it was raised`,
        ),
        { event: 'record-repaired', channel: name },
      );
  }
}
