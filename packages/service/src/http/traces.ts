import type { Engine, Fate, Trace } from '@nine-bells/core';
import { protocolLimits, refusal } from '@nine-bells/wire';
import { queryText } from './query.js';
import type { Route } from './route.js';

/** `GET /v1/traces/ID`: what became of a message, on all instances; with `user`, for that user's sessions. */
export function traces(engine: Engine): readonly Route[] {
  const trace: Route['serve'] = async (request, response, caller) => {
    const user = queryText(request, 'user');
    if (user !== undefined && (user === '' || user.length > protocolLimits.userChars))
      throw refusal('bad-value', 'that is no user id', { where: '?user' });
    const found = await engine.cluster.trace(String(request.params.id), user);
    // A key for other channels learns nothing, not even that there is such a message.
    if (found === undefined || !caller.rights.hasIn('read', found.channel))
      throw refusal('no-trace', 'no instance that answered remembers a message with this id');
    response.json(shown(found));
  };
  return [{ method: 'get', path: '/traces/:id', query: ['user'], right: { perChannel: 'read' }, serve: trace }];
}

/** Times as RFC 3339 says. */
function shown({ accepted, instances, missing, user, ...trace }: Trace): object {
  return {
    ...trace,
    ...(accepted === undefined ? {} : { accepted: timed(accepted) }),
    instances: instances.map(timed),
    ...(missing.length === 0 ? {} : { missing }),
    ...(user === undefined ? {} : { user: { ...user, fates: user.fates.map(fateShown) } }),
  };
}

function timed<T extends { readonly atMs: number }>({ atMs, ...rest }: T): object {
  return { ...rest, at: new Date(atMs).toISOString() };
}

function fateShown({ atMs, recoveredAtMs, ...fate }: Fate): object {
  return {
    ...fate,
    ...(atMs === undefined ? {} : { at: new Date(atMs).toISOString() }),
    ...(recoveredAtMs === undefined ? {} : { recoveredAt: new Date(recoveredAtMs).toISOString() }),
  };
}
