import type { MembersPush } from '@nine-bells/wire';

/** Merges two changes: the result tells a client that knows neither. */
export function mergedMembers(earlier: MembersPush, later: MembersPush): MembersPush {
  if (later.whole || later.partial) return later;
  const joined = new Map((earlier.joined ?? []).map((each) => [each.user, each]));
  const changed = new Map((earlier.changed ?? []).map((each) => [each.user, each]));
  const left = new Set(earlier.left);
  for (const user of later.left ?? []) {
    joined.delete(user);
    changed.delete(user);
    left.add(user);
  }
  for (const each of later.joined ?? []) {
    left.delete(each.user);
    changed.delete(each.user);
    joined.set(each.user, each);
  }
  for (const each of later.changed ?? []) {
    left.delete(each.user);
    (joined.has(each.user) ? joined : changed).set(each.user, each);
  }
  const { on, channel, count } = later;
  return {
    on,
    channel,
    ...(earlier.whole ? { whole: true } : {}),
    ...(joined.size === 0 && !earlier.whole ? {} : { joined: [...joined.values()] }),
    ...(left.size === 0 || earlier.whole ? {} : { left: [...left] }),
    ...(changed.size === 0 ? {} : { changed: [...changed.values()] }),
    count,
  };
}
