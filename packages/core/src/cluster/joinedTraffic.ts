import { type ChannelTraffic, type MinuteTraffic, type RuleTraffic, type Traffic, together } from '../model/traffic.js';

/** Most channels in an answer. */
const maxChannels = 50;

/** The traffic of several instances together. */
export function joinedTraffic(all: readonly Traffic[]): Traffic {
  const minutes = new Map<number, MinuteTraffic>();
  const rules = new Map<string, RuleTraffic>();
  const channels = new Map<string, ChannelTraffic>();
  for (const each of all) {
    for (const one of each.minutes) {
      const known = minutes.get(one.atMs);
      minutes.set(one.atMs, known === undefined ? one : { ...one, ...together(known, one) });
    }
    for (const one of each.rules) {
      const known = rules.get(one.pattern);
      rules.set(one.pattern, known === undefined ? one : { ...one, ...together(known, one) });
    }
    for (const one of each.channels) {
      const known = channels.get(one.channel);
      const recipients = one.recipients + (known?.recipients ?? 0);
      const advice = known?.advice ?? one.advice;
      const joined = { ...one, ...(known && together(known, one)), recipients };
      channels.set(one.channel, { ...joined, ...(advice && { advice }) });
    }
  }
  return {
    minutes: [...minutes.values()].sort((a, b) => a.atMs - b.atMs),
    minutesForMs: Math.max(...all.map(({ minutesForMs }) => minutesForMs)),
    rules: [...rules.values()].sort((a, b) => b.bytes - a.bytes),
    channels: [...channels.values()]
      .sort((a, b) => b.bytes - a.bytes)
      .slice(0, maxChannels)
      // Without clients there is nothing to save.
      .map(({ advice, ...each }) => (advice === undefined || each.recipients === 0 ? each : { ...each, advice })),
    channelsForMs: Math.max(...all.map(({ channelsForMs }) => channelsForMs)),
    frames: all.reduce((sum, { frames }) => sum + frames, 0),
    writes: all.reduce((sum, { writes }) => sum + writes, 0),
  };
}
