import type { Engine } from '@nine-bells/core';
import type { ChannelName } from '@nine-bells/wire';
import type { Truth } from './faultyPorts.js';
import type { VirtualClock } from './virtualClock.js';

/**
 * Checks what an engine gives of a kept channel in the end against what was logged: each thread is counted right, and replies say
 * how what they answer stands. Gives how many replies there are.
 */
export async function checkReplies(
  engine: Engine,
  channel: ChannelName,
  truth: Truth,
  clock: VirtualClock,
): Promise<number> {
  const reading = engine.messages.read(channel, {}, { messages: 1_000, bytes: 10_000_000 });
  await clock.run(500);
  const { messages, head } = await reading;
  const standing = truth.standing(channel, head.volume);
  const replies = [...standing.values()].filter(({ replyTo }) => replyTo !== undefined);
  for (const each of messages) {
    if (!each.isMessage) continue;
    const shown = JSON.parse(each.shown) as typeof each.message;
    const { cursor, replyTo, answers } = shown;
    const ofThread = replies.filter(({ thread }) => thread === cursor);
    const count = ofThread.filter(({ withdrawn }) => !withdrawn).length;
    if ((shown.replies?.count ?? 0) !== count)
      throw new Error(`${channel}: ${cursor} has ${count} replies, and is given with ${shown.replies?.count ?? 0}`);
    const answered = [...standing.values()].find((other) => other.cursor === replyTo);
    if (answers !== undefined && answers.withdrawn !== answered?.withdrawn)
      throw new Error(`${channel}: ${cursor} is given with ${JSON.stringify(answers)}`);
  }
  return replies.length;
}
