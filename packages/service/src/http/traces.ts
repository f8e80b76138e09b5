import type { Engine, Fate, Trace } from '@nine-bells/core';
import { protocolLimits, refusal } from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import { queryText } from './query.js';
import { type Route, route, type Serve } from './route.js';

/** `GET /v1/traces/ID`: what became of a message, on all instances; with `user`, for that user's sessions. */
export function traces(engine: Engine): readonly Route[] {
  const trace: Serve<'GET /v1/traces/:id'> = async (request, response, caller) => {
    const user = queryText(request, 'user');
    if (user !== undefined && (user === '' || user.length > protocolLimits.userChars))
      throw refusal('bad-value', 'that is no user id', { where: '?user' });
    const found = await engine.cluster.trace(String(request.params.id), user);
    // A key for other channels learns nothing, not even that there is such a message.
    if (found === undefined || !caller.rights.hasIn('read', found.channel))
      throw refusal('no-trace', 'no instance that answered remembers a message with this id');
    response.json(shown(found));
  };
  return [route('GET /v1/traces/:id', { right: { perChannel: 'read' }, query: ['user'] }, trace)];
}

/** Times as RFC 3339 says. */
function shown({ accepted, instances, missing, user, ...trace }: Trace): Http.Trace {
  return {
    ...trace,
    ...(accepted === undefined ? {} : { accepted: timed(withoutPlace(accepted)) }),
    instances: instances.map((each) => timed(withoutPlace(each))),
    ...(missing.length === 0 ? {} : { missing }),
    ...(user === undefined ? {} : { user: { ...user, fates: user.fates.map(fateShown) } }),
  };
}

/** Which message it was, the trace says once. */
function withoutPlace<T extends object>(account: T): Omit<T, 'id' | 'channel' | 'cursor'> {
  const { id: _id, channel: _channel, cursor: _cursor, ...rest } = account as T & Record<string, unknown>;
  return rest as Omit<T, 'id' | 'channel' | 'cursor'>;
}

function timed<T extends { readonly atMs: number }>({ atMs, ...rest }: T): Omit<T, 'atMs'> & { at: string } {
  return { ...rest, at: new Date(atMs).toISOString() };
}

function fateShown({ atMs, recoveredAtMs, ...fate }: Fate): Http.Fate {
  return {
    ...fate,
    ...(atMs === undefined ? {} : { at: new Date(atMs).toISOString() }),
    ...(recoveredAtMs === undefined ? {} : { recoveredAt: new Date(recoveredAtMs).toISOString() }),
  };
}
