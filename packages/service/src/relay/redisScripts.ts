import { createHash } from 'node:crypto';

/*
 * What Redis does in one step. Each script is made for one run of one Redis process, whose `run_id` stands in its text: so
 * it is unknown to a Redis that was started anew, and what is recorded there by another run is not taken for whole.
 *
 * The keys of a channel, all in one slot: `head` (a hash: v the volume, n the number of the last message, r the run that has
 * recorded it, t when it was tidied last), `log` (a stream: an entry for what came together, whose id
 * is the number of its last message, with t the time and m the lines), `keys` (a hash: author and key to "number id time") and `order`
 * (a list: the keys, oldest first).
 */

/** Begins every script that reads a channel. Gives up where the record is of another run. */
const opening = `
local head, log = KEYS[1], KEYS[2]
local found = redis.call('HMGET', head, 'v', 'n', 'r')
local volume, n = found[1], tonumber(found[2])
if not volume then
  volume, n = ARGV[1], 0
  redis.call('HSET', head, 'v', volume, 'n', 0, 'r', run)
  redis.call('PEXPIRE', head, ARGV[2])
elseif found[3] ~= run then
  return {'another-run', found[3] or ''}
end
`;

/** Lets go of what is older than a logbook shows. */
const forgetting = `
local forget = function(log, forMs, now)
  for round = 1, 50 do
    local some = redis.call('XRANGE', log, '-', '+', 'COUNT', 20)
    local keep
    for _, entry in ipairs(some) do
      if tonumber(entry[2][2]) >= now - forMs then keep = entry[1] break end
    end
    if #some == 0 or keep == some[1][1] then return end
    if keep then redis.call('XTRIM', log, 'MINID', keep) return end
    redis.call('XTRIM', log, 'MINID', (tonumber(string.match(some[#some][1], '^%d+')) + 1) .. '-0')
  end
end
`;

const sources = {
  /**
   * For one or more channels. KEYS for each: head log keys order. ARGV now-ms, keys, keys-for-ms; then for each channel:
   * volume-if-new, ms-until-forgotten, topic, messages, for-ms, how many messages, and either `together` and all lines joined
   * by line ends, where none has a key, or `each` and for each message: key or nothing, id, line. Gives for each channel the
   * volume, then for each message a number, or for a known key what stands under it; of messages together only the first.
   */
  append: `${forgetting}
local now, mostKeys, keysForMs = tonumber(ARGV[1]), tonumber(ARGV[2]), tonumber(ARGV[3])
local at, tidyMs = 4, 1000
local append = function(head, log, keys, order)
  local ttl, topic, messages, forMs, count = ARGV[at + 1], ARGV[at + 2], tonumber(ARGV[at + 3]), ARGV[at + 4], tonumber(ARGV[at + 5])
  local together, begin = ARGV[at + 6] == 'together', at + 7
  local found = redis.call('HMGET', head, 'v', 'n', 'r', 't')
  local volume, n, tidied = found[1], tonumber(found[2] or 0), tonumber(found[4] or 0)
  if not volume then
    volume, n = ARGV[at], 0
    redis.call('HSET', head, 'v', volume, 'r', run)
  end
  at = begin + (together and 1 or 3 * count)
  if found[1] and found[3] ~= run then return {'another-run', found[3] or ''} end
  local out, first, keyed, text = {volume}, n + 1, 0, nil
  if together then
    n = n + count
    out[2] = first
    text = ARGV[begin]
  else
    local lines = {}
    for i = begin, begin + 3 * count - 1, 3 do
      local key = ARGV[i]
      local known = key ~= '' and redis.call('HGET', keys, key)
      if known then
        out[#out + 1] = known
      else
        n = n + 1
        if key ~= '' then
          keyed = keyed + 1
          redis.call('HSET', keys, key, n .. ' ' .. ARGV[i + 1] .. ' ' .. now)
          redis.call('RPUSH', order, key)
        end
        out[#out + 1] = n
        lines[#lines + 1] = ARGV[i + 2]
      end
    end
    if #lines == 0 then return out end
    text = table.concat(lines, '\\n')
  end
  redis.call('XADD', log, 'MINID', math.max(1, n - messages + 1) .. '-0', n .. '-0', 't', now, 'm', text)
  -- What is done now and then: whoever reads does not see what is too old in any case.
  if now - tidied > tidyMs or now < tidied then
    redis.call('HSET', head, 'n', n, 't', now)
    forget(log, tonumber(forMs), now)
    for _, each in ipairs({head, log, keys, order}) do redis.call('PEXPIRE', each, ttl) end
  else
    redis.call('HSET', head, 'n', n)
  end
  for round = 1, 2 * keyed do
    if redis.call('LLEN', order) <= mostKeys then break end
    local oldest = redis.call('LINDEX', order, 0)
    local value = redis.call('HGET', keys, oldest)
    if value and tonumber(string.match(value, '%d+$')) > now - keysForMs then break end
    redis.call('LPOP', order)
    redis.call('HDEL', keys, oldest)
  end
  redis.call('SPUBLISH', topic, volume .. ':' .. first .. '\\n' .. text)
  return out
end
local all = {}
for i = 1, #KEYS, 4 do all[#all + 1] = append(KEYS[i], KEYS[i + 1], KEYS[i + 2], KEYS[i + 3]) end
return all`,

  /** KEYS head log; ARGV volume-if-new, ms-until-forgotten. Gives the volume and the number of the last message. */
  head: `${opening}
return {volume, n}`,

  /**
   * KEYS head log; ARGV volume-if-new, ms-until-forgotten, messages, for-ms, now-ms, first, last or `+`, count, from the
   * front or the end. Gives the volume, the number of the last message, the oldest number there is, and entries: the number
   * of the last message in it, and its lines. They may hold more than was asked for, and are in no order.
   */
  read: `${opening}${forgetting}
forget(log, tonumber(ARGV[4]), tonumber(ARGV[5]))
local some
if ARGV[9] == 'front' then
  some = redis.call('XRANGE', log, ARGV[6] .. '-0', '+', 'COUNT', ARGV[8])
else
  some = redis.call('XREVRANGE', log, ARGV[7] == '+' and '+' or ARGV[7] .. '-0', '-', 'COUNT', ARGV[8])
  -- The entry that holds the last one wanted may end behind it.
  if ARGV[7] ~= '+' then
    for _, entry in ipairs(redis.call('XRANGE', log, '(' .. ARGV[7] .. '-0', '+', 'COUNT', 1)) do some[#some + 1] = entry end
  end
end
local oldest = n + 1
for _, entry in ipairs(redis.call('XRANGE', log, '-', '+', 'COUNT', 1)) do
  oldest = tonumber(string.match(entry[1], '^%d+')) - select(2, string.gsub(entry[2][4], '\\n', ''))
end
local out = {volume, n, math.max(oldest, n - tonumber(ARGV[3]) + 1)}
for _, entry in ipairs(some) do
  out[#out + 1] = tonumber(string.match(entry[1], '^%d+'))
  out[#out + 1] = entry[2][4]
end
return out`,

  /**
   * KEYS head log keys order; ARGV the run that had it, whether nothing can have been lost, a new volume. Takes over a record
   * of another run: as it is, or as lost.
   */
  adopt: `
if redis.call('HGET', KEYS[1], 'r') ~= ARGV[1] then return 0 end
if ARGV[2] == 'whole' then
  redis.call('HSET', KEYS[1], 'r', run)
else
  redis.call('DEL', KEYS[2], KEYS[3], KEYS[4])
  redis.call('HSET', KEYS[1], 'v', ARGV[3], 'n', 0, 'r', run)
end
return 1`,

  /**
   * KEYS leases cards; ARGV holder, card, ttl-ms, forgotten-after-ms. Gives whether the lease of before held, then for each
   * lease its holder, its card and the milliseconds left.
   */
  beat: `
local time = redis.call('TIME')
local now = time[1] * 1000 + math.floor(time[2] / 1000)
local before = redis.call('ZSCORE', KEYS[1], ARGV[1])
redis.call('ZADD', KEYS[1], now + ARGV[3], ARGV[1])
redis.call('HSET', KEYS[2], ARGV[1], ARGV[2])
local old = redis.call('ZRANGE', KEYS[1], '-inf', now - ARGV[4], 'BYSCORE')
for _, each in ipairs(old) do
  redis.call('ZREM', KEYS[1], each)
  redis.call('HDEL', KEYS[2], each)
end
local out = {(before and tonumber(before) > now) and 1 or 0}
local all = redis.call('ZRANGE', KEYS[1], 0, -1, 'WITHSCORES')
for i = 1, #all, 2 do
  out[#out + 1] = all[i]
  out[#out + 1] = redis.call('HGET', KEYS[2], all[i]) or '{}'
  out[#out + 1] = tonumber(all[i + 1]) - now
end
return out`,

  /** KEYS leases cards; ARGV holder. */
  leave: `
redis.call('ZREM', KEYS[1], ARGV[1])
redis.call('HDEL', KEYS[2], ARGV[1])
return 1`,
} as const;

export type ScriptName = keyof typeof sources;

export interface Script {
  readonly text: string;
  /** SHA-1 in hexadecimal, by which Redis knows it. */
  readonly sha: string;
}

/** The scripts for one run of one Redis process. */
export function scriptsFor(run: string): Readonly<Record<ScriptName, Script>> {
  const all = Object.entries(sources).map(([name, source]) => {
    const text = `local run = '${run}'\n${source}`;
    return [name, { text, sha: createHash('sha1').update(text).digest('hex') }];
  });
  return Object.fromEntries(all);
}
