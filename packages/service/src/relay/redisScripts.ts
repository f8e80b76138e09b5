import { createHash } from 'node:crypto';

/*
 * What Redis does in one step. Each script is made for one term of one Redis process (`terms.ts`), whose number stands in
 * its text: so it is unknown to a Redis that was started again, and a record that is marked with another term is not taken
 * for whole.
 *
 * The keys of a channel, all in one slot:
 *
 * - `head`, a hash: v the volume, n the number of the last message, r the term that has recorded it, t when it was tidied
 *   last, x when the log expires, and for each idempotency key `k` and the SHA-1 of its name: "number id time volume". They stand
 *   here so that they are evicted together with the head, or not at all.
 * - `log`, a stream: an entry for what came together, whose id is the number of its last message, with t the time and m the
 *   lines.
 * - `changed`, a sorted set: the entries of the log that hold something changed, by their numbers: "number time lines". How
 *   many there are stands in the head (c).
 * - `order`, a list: the fields of the keys, oldest first.
 *
 * The log and the set expire soon after their last message is too old; the head and the order stay longer, so that a client that has
 * seen everything comes back without a gap.
 *
 * Redis should evict nothing (`maxmemory-policy noeviction`). If it does, a head, a log and a set that do not fit begin a new volume.
 * Times are of Redis' own clock, which is one for all instances. Messages and keys are forgotten by the earlier one of it and the
 * settled time of the instance, so that a jump of the clock takes nothing away at once.
 */

/*
 * A line of the log (`carried.ts`) says what has become of a message by what stands before its text. A change replaces the
 * line of its message, and that of the change before. An entry of a stream can be removed and not replaced: so the entry moves
 * to `changed`, whatever the length of the log.
 */
const changing = String.raw`
-- Entries of the log and of those that were moved, in order, the first ones up to a count: {id, {'t', time, 'm', lines}}.
local entriesOf = function(log, changed, moved, from, count, isReversed)
  local some = isReversed and redis.call('XREVRANGE', log, from == '+' and '+' or from .. '-0', '-', 'COUNT', count)
    or redis.call('XRANGE', log, from == '-' and '-' or from .. '-0', '+', 'COUNT', count)
  if moved == 0 then return some end
  local found = isReversed and redis.call('ZRANGE', changed, from == '+' and '+inf' or from, '-inf', 'BYSCORE', 'REV', 'LIMIT', 0, count)
    or redis.call('ZRANGE', changed, from == '-' and '-inf' or from, '+inf', 'BYSCORE', 'LIMIT', 0, count)
  for _, member in ipairs(found) do
    local number, time, lines = string.match(member, '^(%d+) (%d+) (.*)$')
    some[#some + 1] = {number .. '-0', {'t', time, 'm', lines}, member}
  end
  local number = function(entry) return tonumber(string.match(entry[1], '^%d+')) end
  table.sort(some, function(a, b)
    if isReversed then return number(a) > number(b) end
    return number(a) < number(b)
  end)
  for at = #some, count + 1, -1 do some[at] = nil end
  return some
end
-- A line: its head, up to its text; what stands before the text, and its number; the text.
local partsOf = function(line)
  local head, rest = string.match(line, '^(%d+\t[^\t]*\t)(.*)$')
  local mark, number, tail = string.match(rest, '^([>~!])(%d+) (.*)$')
  if mark then return head, mark, tonumber(number), tail end
  return head, rest == 'x' and rest or '', 0, rest
end
-- Where a message stands: its entry, the lines of that, and which of them.
local find = function(log, changed, moved, number)
  local entry = entriesOf(log, changed, moved, string.format('%d', number), 1)[1]
  if not entry then return nil end
  local lines = {}
  for line in string.gmatch(entry[2][4] .. '\n', '(.-)\n') do lines[#lines + 1] = line end
  local index = number - tonumber(string.match(entry[1], '^%d+')) + #lines
  if index < 1 then return nil end
  return {entry = entry, lines = lines, index = index}
end
-- Replaces a line, and moves its entry to those that were changed.
local replace = function(log, changed, found, line)
  found.lines[found.index] = line
  local entry = found.entry
  local number = string.match(entry[1], '^%d+')
  redis.call('ZADD', changed, number, number .. ' ' .. entry[2][2] .. ' ' .. table.concat(found.lines, '\n'))
  if entry[3] then redis.call('ZREM', changed, entry[3]) else redis.call('XDEL', log, entry[1]) end
end
-- Makes a message stand as it does after the change that is about to be appended, or says why it cannot be changed.
local change = function(head, log, changed, moved, n, oldest, of, wanted, tail, withdraws)
  local missing = {'change-refused', 'no-such-message', 0}
  if of < oldest or of > n then return missing end
  local found = find(log, changed, moved, of)
  if not found then return missing end
  local lineHead, mark, revision = partsOf(found.lines[found.index])
  if mark == '>' or mark == 'x' then return missing end
  if mark == '!' then return {'change-refused', 'withdrawn', revision} end
  if wanted ~= '' and tonumber(wanted) ~= revision then return {'change-refused', 'conflict', revision} end
  -- Fails here, if memory is short, before anything is taken away.
  redis.call('HSET', head, 'n', n)
  replace(log, changed, found, lineHead .. (withdraws and '!' or '~') .. string.format('%d', n + 1) .. ' ' .. tail)
  local earlier = mark == '~' and find(log, changed, redis.call('ZCARD', changed), revision)
  if earlier then replace(log, changed, earlier, partsOf(earlier.lines[earlier.index]) .. 'x') end
  redis.call('HSET', head, 'c', redis.call('ZCARD', changed))
end
`;

/*
 * The board of a channel is one hash, so that it is whole or not there: v the volume, n the number of its last change, r the
 * term, c how many entries there are, b their bytes, and for each entry `e` and its name: "number ends bytes record", with the
 * time at which it ends or 0. In another term its entries stay, under a new volume: the last changes may be lost.
 */

/** Reads the number and bytes of an entry, and decides whether a condition holds. */
const entries = `
local about = function(held)
  if not held then return 0, 0 end
  local number, bytes = string.match(held, '^(%d+) %d+ (%d+) ')
  return tonumber(number), tonumber(bytes)
end
local holds = function(kind, value, number, volume)
  if kind == 'is' then return number == tonumber(value) end
  if kind ~= 'since' or number == 0 then return true end
  local of, since = string.match(value, '^(.*):(%d+)$')
  return of == volume and number <= tonumber(since)
end
`;

/** How much longer than it is shown a log stays in Redis, in milliseconds: heads are tidied once a second only. */
export const logMarginMs = 60_000;

/**
 * Finds out what is left of a channel: `true` if entries are missing that nothing has made too old. What has expired as a whole is
 * not missing.
 */
const missing = `
local isMissing = function(log, changed, n, moved, expires)
  local isThere = redis.call('EXISTS', log) == 1
  if n > 0 and not isThere then return not expires or now < expires end
  return moved > 0 and redis.call('ZCARD', changed) ~= moved
end
`;

/** Begins every script: the time, by Redis' clock, in milliseconds. */
const time = `
local time = redis.call('TIME')
local now = time[1] * 1000 + math.floor(time[2] / 1000)
`;

/**
 * Begins every script that reads a channel. Gives up where the record is of another term. Where there is no record, one is
 * made if clients are in the channel (ARGV 2 says for how long an empty one is held), else nothing is written.
 */
const opening = `
local head, log, changed = KEYS[1], KEYS[2], KEYS[3]
local found = redis.call('HMGET', head, 'v', 'n', 'r', 'c', 'x')
local volume, n, moved = found[1], tonumber(found[2]), tonumber(found[4] or 0)
if volume and found[3] ~= run then return {'another-run', found[3] or ''} end
if not volume or isMissing(log, changed, n, moved, tonumber(found[5])) then
  redis.call('DEL', log, changed)
  if volume or ARGV[2] ~= '' then redis.call('HSET', head, 'v', ARGV[1], 'n', 0, 'r', run, 'c', 0) end
  volume, n, moved = ARGV[1], 0, 0
elseif moved > 0 and redis.call('EXISTS', log) == 0 then
  redis.call('DEL', changed)
  redis.call('HSET', head, 'c', 0)
  moved = 0
end
if n == 0 and ARGV[2] ~= '' then redis.call('PEXPIRE', head, ARGV[2]) end
`;

/** Lets go of what is older than a logbook shows, and gives how many entries are left among those that were moved. */
const forgetting = `
local forgetChanged = function(head, changed, moved, below)
  if moved == 0 or redis.call('ZREMRANGEBYSCORE', changed, '-inf', '(' .. below) == 0 then return moved end
  local left = redis.call('ZCARD', changed)
  redis.call('HSET', head, 'c', left)
  return left
end
local forget = function(head, log, changed, moved, forMs, now)
  for round = 1, 50 do
    local some = entriesOf(log, changed, moved, '-', 20)
    local keep
    for _, entry in ipairs(some) do
      if tonumber(entry[2][2]) >= now - forMs then keep = entry[1] break end
    end
    if #some == 0 or keep == some[1][1] then return moved end
    local below = string.match(keep or some[#some][1], '^%d+')
    if not keep then below = string.format('%d', below + 1) end
    redis.call('XTRIM', log, 'MINID', below .. '-0')
    moved = forgetChanged(head, changed, moved, below)
    if keep then return moved end
  end
  return moved
end
`;

const sources = {
  /**
   * For one or more channels. KEYS for each: head log changed order. ARGV keys, keys-for-ms, settled time; then for each channel: volume-if-new,
   * ms-until-forgotten, topic, messages, for-ms, how many messages, and either `together` and all lines joined by line ends,
   * where none has a key, or `each` and for each message: key or nothing, id, line; or `change`, for the one message of which
   * follow also: the number of what it changes, the number of its last change as it must be or nothing, its text as it stands
   * then, `withdraws` or nothing. Gives for each channel the volume, then for each message a number, or for a known key what
   * stands under it; of messages together only the first. Or `change-refused`, and why.
   *
   * What can fail comes first: nothing may be acknowledged, now or for a key later, that is not in the log.
   */
  append: `${time}${missing}${changing}${forgetting}
local maxKeys, keysForMs, settled = tonumber(ARGV[1]), tonumber(ARGV[2]), math.min(now, tonumber(ARGV[3]))
local at, tidyMs, own = 4, 1000, 6
-- Before there were digests, keys stood under their names.
local fieldOf = function(name) return 'k' .. redis.sha1hex(name) end
local known = function(head, name) return redis.call('HGET', head, fieldOf(name)) or redis.call('HGET', head, 'k' .. name) end
-- Keys whose order is not known, or the other way round: one of the two was evicted.
local mend = function(head, order)
  local all, keys = redis.call('HGETALL', head), {}
  for i = 1, #all, 2 do
    if string.sub(all[i], 1, 1) == 'k' then keys[#keys + 1] = {all[i], tonumber(string.match(all[i + 1], '^%d+ %S+ (%d+)'))} end
  end
  table.sort(keys, function(a, b) return a[2] < b[2] end)
  redis.call('DEL', order)
  for _, each in ipairs(keys) do redis.call('RPUSH', order, each[1]) end
end
local append = function(head, log, changed, order)
  local ttl, topic, messages, forMs, count = ARGV[at + 1], ARGV[at + 2], tonumber(ARGV[at + 3]), ARGV[at + 4], tonumber(ARGV[at + 5])
  local fresh, together, changes, begin = ARGV[at], ARGV[at + 6] == 'together', ARGV[at + 6] == 'change', at + 7
  at = begin + (together and 1 or changes and 7 or 3 * count)
  local logMs = tonumber(forMs) + ${logMarginMs}
  local found = redis.call('HMGET', head, 'v', 'n', 'r', 't', 'c', 'x')
  local volume, n, tidied, moved = found[1], tonumber(found[2] or 0), tonumber(found[4] or 0), tonumber(found[5] or 0)
  if volume and found[3] ~= run then return {'another-run', found[3] or ''} end
  if not volume or isMissing(log, changed, n, moved, tonumber(found[6])) then
    volume, n, tidied, moved = fresh, 0, 0, 0
    if redis.call('EXISTS', log, changed) > 0 then redis.call('DEL', log, changed) end
  elseif moved > 0 and redis.call('EXISTS', log) == 0 then
    redis.call('DEL', changed)
    tidied, moved = 0, 0
  end
  local out, first, text, keyed, given = {volume}, n + 1, nil, {}, {}
  if together then
    n = n + count
    out[2] = first
    text = ARGV[begin]
  else
    local lines = {}
    if changes and not (ARGV[begin] ~= '' and known(head, ARGV[begin])) then
      moved = forget(head, log, changed, moved, tonumber(forMs), settled)
      local of, wanted, tail, withdraws = tonumber(ARGV[begin + 3]), ARGV[begin + 4], ARGV[begin + 5], ARGV[begin + 6] ~= ''
      local refused = change(head, log, changed, moved, n, n - messages + 1, of, wanted, tail, withdraws)
      if refused then
        refused[4] = volume
        return refused
      end
      moved = redis.call('ZCARD', changed)
    end
    for i = begin, begin + 3 * count - 1, 3 do
      local key = ARGV[i] ~= '' and fieldOf(ARGV[i])
      local before = key and (given[key] or known(head, ARGV[i]))
      if before then
        out[#out + 1] = before
      else
        n = n + 1
        if key then
          given[key] = n .. ' ' .. ARGV[i + 1] .. ' ' .. now .. ' ' .. volume
          keyed[#keyed + 1] = key
        end
        out[#out + 1] = n
        lines[#lines + 1] = ARGV[i + 2]
      end
    end
    if #lines == 0 then return out end
    text = table.concat(lines, '\\n')
  end
  redis.call('XADD', log, 'MINID', math.max(1, n - messages + 1) .. '-0', n .. '-0', 't', now, 'm', text)
  moved = forgetChanged(head, changed, moved, math.max(1, n - messages + 1))
  for _, key in ipairs(keyed) do
    redis.call('HSET', head, key, given[key])
    redis.call('RPUSH', order, key)
  end
  -- Cleaned up now and then: readers do not see what is too old in any case.
  if now - tidied > tidyMs or now < tidied then
    redis.call('HSET', head, 'v', volume, 'n', n, 'r', run, 't', now, 'c', moved, 'x', string.format('%d', now + logMs))
    if redis.call('HLEN', head) - own ~= redis.call('LLEN', order) then mend(head, order) end
    forget(head, log, changed, moved, tonumber(forMs), settled)
    redis.call('PEXPIRE', head, ttl)
    redis.call('PEXPIRE', log, logMs)
    redis.call('PEXPIRE', changed, logMs)
  else
    redis.call('HSET', head, 'n', n)
    if changes then redis.call('PEXPIRE', changed, logMs) end
  end
  if #keyed > 0 or now - tidied > tidyMs then redis.call('PEXPIRE', order, ttl) end
  for round = 1, 2 * #keyed do
    if redis.call('LLEN', order) <= maxKeys then break end
    local oldest = redis.call('LINDEX', order, 0)
    local value = redis.call('HGET', head, oldest)
    if value and tonumber(string.match(value, '^%d+ %S+ (%d+)')) > settled - keysForMs then break end
    redis.call('LPOP', order)
    redis.call('HDEL', head, oldest)
  end
  redis.call('SPUBLISH', topic, volume .. ':' .. first .. '\\n' .. text)
  return out
end
local all = {}
for i = 1, #KEYS, 4 do all[#all + 1] = append(KEYS[i], KEYS[i + 1], KEYS[i + 2], KEYS[i + 3]) end
return all`,

  /** KEYS head log changed; ARGV volume-if-new, ms-until-an-empty-one-is-forgotten or nothing. Gives the volume and the number of the last message. */
  head: `${time}${missing}${opening}
return {volume, n}`,

  /**
   * KEYS head log changed; ARGV volume-if-new, ms-until-an-empty-one-is-forgotten or nothing, messages, for-ms, first, last or `+`, count, from the front or
   * the end, settled time. Gives the volume, the number of the last message, the oldest number there is, and entries: the number
   * of the last message in it, and its lines. They may hold more than was asked for, and are in no order.
   */
  read: `${time}${missing}${changing}${opening}${forgetting}
moved = forget(head, log, changed, moved, tonumber(ARGV[4]), math.min(now, tonumber(ARGV[9])))
local some
if ARGV[8] == 'front' then
  some = entriesOf(log, changed, moved, ARGV[5], ARGV[7])
else
  some = entriesOf(log, changed, moved, ARGV[6], ARGV[7], true)
  -- The entry that holds the last one wanted may end behind it.
  if ARGV[6] ~= '+' then
    local after = string.format('%d', ARGV[6] + 1)
    for _, entry in ipairs(entriesOf(log, changed, moved, after, 1)) do some[#some + 1] = entry end
  end
end
local oldest = n + 1
for _, entry in ipairs(entriesOf(log, changed, moved, '-', 1)) do
  oldest = tonumber(string.match(entry[1], '^%d+')) - select(2, string.gsub(entry[2][4], '\\n', ''))
end
local out = {volume, n, math.max(oldest, n - tonumber(ARGV[3]) + 1)}
for _, entry in ipairs(some) do
  out[#out + 1] = tonumber(string.match(entry[1], '^%d+'))
  out[#out + 1] = entry[2][4]
end
return out`,

  /**
   * KEYS head log changed; ARGV the term that had it, whether nothing can have been lost, a new volume. Takes over a record of another
   * term: as it is, or as lost. Keys are known on in any case: what was published under them is not published again.
   */
  adopt: `
if redis.call('HGET', KEYS[1], 'r') ~= ARGV[1] then return 0 end
if ARGV[2] == 'whole' then
  redis.call('HSET', KEYS[1], 'r', run)
else
  redis.call('DEL', KEYS[2], KEYS[3])
  redis.call('HSET', KEYS[1], 'v', ARGV[3], 'n', 0, 'r', run, 'c', 0)
end
return 1`,

  /**
   * KEYS board; ARGV volume-if-new, ms-until-forgotten, topic, most entries, most bytes, `must` if it must be there; then for
   * each change: entry, kind of condition or nothing, its value, for-ms or 0, bytes or nothing to remove it, record. Gives the
   * volume, then for each change its number, `full`, or `conflict` and what stands there; nothing where the board is missing.
   */
  changeBoard: `${time}${entries}
local key = KEYS[1]
local found = redis.call('HMGET', key, 'v', 'n', 'r', 'c', 'b')
local volume, n, count, bytes = found[1], tonumber(found[2] or 0), tonumber(found[4] or 0), tonumber(found[5] or 0)
if not volume and ARGV[6] == 'must' then return {} end
if not volume or found[3] ~= run then volume = ARGV[1] end
local after, out, done, set = n, {volume}, {}, {}
for i = 7, #ARGV, 6 do
  local field = 'e' .. ARGV[i]
  local held = redis.call('HGET', key, field)
  local number, size = about(held)
  if not holds(ARGV[i + 1], ARGV[i + 2], number, volume) then
    out[#out + 1] = 'conflict ' .. (held or '')
  elseif ARGV[i + 4] == '' then
    if held then
      n = n + 1
      redis.call('HDEL', key, field)
      count, bytes = count - 1, bytes - size
      done[#done + 1] = ARGV[i + 5]
    end
    out[#out + 1] = n
  else
    local more = tonumber(ARGV[i + 4]) - size
    if (not held and count >= tonumber(ARGV[4])) or bytes + more > tonumber(ARGV[5]) then
      out[#out + 1] = 'full'
    else
      n = n + 1
      local ends = ARGV[i + 3] == '0' and 0 or now + tonumber(ARGV[i + 3])
      redis.call('HSET', key, field, n .. ' ' .. string.format('%d', ends) .. ' ' .. ARGV[i + 4] .. ' ' .. ARGV[i + 5])
      if not held then count = count + 1 end
      bytes = bytes + more
      done[#done + 1] = ARGV[i + 5]
      out[#out + 1] = n
    end
  end
end
redis.call('HSET', key, 'v', volume, 'n', n, 'r', run, 'c', count, 'b', bytes)
redis.call('PEXPIRE', key, ARGV[2])
if #done > 0 then
  redis.call('SPUBLISH', ARGV[3], '{"board":"' .. volume .. '","after":' .. after .. ',"changes":[' .. table.concat(done, ',') .. ']}')
end
return out`,

  /**
   * KEYS board; ARGV volume-if-of-another-term, ms-until-forgotten. Gives the time, the volume, the number, and each entry's
   * record with what stands before it; only the time where there is no board.
   */
  readBoard: `${time}
local key = KEYS[1]
local found = redis.call('HMGET', key, 'v', 'n', 'r')
local volume = found[1]
if not volume then return {now} end
if found[3] ~= run then
  volume = ARGV[1]
  redis.call('HSET', key, 'v', volume, 'r', run)
end
redis.call('PEXPIRE', key, ARGV[2])
local out = {now, volume, found[2]}
local all = redis.call('HGETALL', key)
for i = 1, #all, 2 do
  if string.sub(all[i], 1, 1) == 'e' then out[#out + 1] = all[i + 1] end
end
return out`,

  /** KEYS board; ARGV ms-until-forgotten. Gives the volume and the number; no volume where it is of another term. */
  boardPlace: `
local found = redis.call('HMGET', KEYS[1], 'v', 'n', 'r')
if not found[1] then return {} end
redis.call('PEXPIRE', KEYS[1], ARGV[1])
return {found[3] == run and found[1] or '', found[2]}`,

  /** KEYS board; ARGV volume, ms-until-forgotten; then for each entry: name, for-ms or 0, bytes, record. Only where there is none. */
  restoreBoard: `${time}
local key = KEYS[1]
if redis.call('EXISTS', key) == 1 then return 0 end
local n, bytes = 0, 0
for i = 3, #ARGV, 4 do
  n = n + 1
  bytes = bytes + tonumber(ARGV[i + 2])
  local ends = ARGV[i + 1] == '0' and 0 or now + tonumber(ARGV[i + 1])
  redis.call('HSET', key, 'e' .. ARGV[i], n .. ' ' .. string.format('%d', ends) .. ' ' .. ARGV[i + 2] .. ' ' .. ARGV[i + 3])
end
redis.call('HSET', key, 'v', ARGV[1], 'n', n, 'r', run, 'c', n, 'b', bytes)
redis.call('PEXPIRE', key, ARGV[2])
return 1`,

  /**
   * KEYS leases cards; ARGV holder, card, ttl-ms, forgotten-after-ms. Gives whether the previous lease still held, the time,
   * then for each lease its holder, its card and the milliseconds left.
   */
  beat: `${time}
local before = redis.call('ZSCORE', KEYS[1], ARGV[1])
redis.call('ZADD', KEYS[1], now + ARGV[3], ARGV[1])
redis.call('HSET', KEYS[2], ARGV[1], ARGV[2])
local old = redis.call('ZRANGE', KEYS[1], '-inf', now - ARGV[4], 'BYSCORE')
for _, each in ipairs(old) do
  redis.call('ZREM', KEYS[1], each)
  redis.call('HDEL', KEYS[2], each)
end
local out = {(before and tonumber(before) > now) and 1 or 0, now}
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

/** The scripts for one term of one Redis process. */
export function scriptsFor(term: number): Readonly<Record<ScriptName, Script>> {
  const all = Object.entries(sources).map(([name, source]) => {
    const text = `local run = '${term}'\n${source}`;
    return [name, { text, sha: createHash('sha1').update(text).digest('hex') }];
  });
  return Object.fromEntries(all);
}
