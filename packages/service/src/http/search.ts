import type { Engine } from '@nine-bells/core';
import { protocolLimits, refusal } from '@nine-bells/wire';
import type { Request } from 'express';
import { queryText, queryWhole } from './query.js';
import { type Route, route, type Serve } from './route.js';

/** What one search counts for, in requests of the key: it may look at very many messages. */
const cost = 5;

/** Messages that are found by their words. */
export function search(engine: Engine): readonly Route[] {
  const find: Serve<'GET /v1/search'> = async (request, response, caller) => {
    const words = queryText(request, 'words') ?? '';
    if (words.length > protocolLimits.searchChars)
      throw refusal('bad-value', `at most ${protocolLimits.searchChars} characters are looked for`, {
        where: '?words',
      });
    caller.charge(cost - 1);
    const wished = {
      in: namesOf(request, 'in'),
      by: namesOf(request, 'by'),
      types: namesOf(request, 'type'),
      since: queryText(request, 'since'),
      until: queryText(request, 'until'),
      after: queryText(request, 'after'),
      limit: queryWhole(request, 'limit', 100),
    };
    const wish = Object.fromEntries(Object.entries(wished).filter(([, value]) => value !== undefined));
    // Everywhere, only with the right to read everywhere.
    if (wished.in === undefined) caller.needIn('read', undefined);
    const mayRead = async ({ channel }: { readonly channel: string }): Promise<undefined> =>
      caller.needIn('read', channel) as undefined;
    response.json(await engine.search.find({ words, ...wish }, { mayRead }));
  };

  const progress: Serve<'GET /v1/search/progress'> = async (_, response) => {
    response.json(await engine.indexer.progress());
  };

  return [
    route(
      'GET /v1/search',
      {
        right: { perChannel: 'read' },
        query: ['words', 'in', 'by', 'type', 'since', 'until', 'after', 'limit'],
      },
      find,
    ),
    route('GET /v1/search/progress', { right: 'read' }, progress),
  ];
}

/** Names that a query holds, separated by commas. */
function namesOf(request: Request, name: string): readonly string[] | undefined {
  const names = queryText(request, name)
    ?.split(',')
    .filter((each) => each !== '');
  if (names === undefined || names.length === 0) return undefined;
  if (names.length > protocolLimits.searchNames)
    throw refusal('bad-value', `at most ${protocolLimits.searchNames} are named`, { where: `?${name}` });
  return names;
}
