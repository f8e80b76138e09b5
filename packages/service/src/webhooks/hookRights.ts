import { type Hook, type HookEvent, moderationEvents, parsePattern } from '@nine-bells/core';
import { type ChannelName, refusal } from '@nine-bells/wire';
import type { ApiKey } from '../store/apiKeys.js';
import type { ChannelRight } from '../store/rights.js';

const ofModeration: ReadonlySet<HookEvent> = new Set(moderationEvents);

type About = Pick<Hook, 'channels' | 'events'>;

/**
 * Says why a key may not register, read or operate a hook; `undefined` if it may. It needs the rights to what the hook tells: `read`,
 * and `moderate` for events of moderation, in all channels of the hook.
 */
export function hookRightsFault({ name, rights }: ApiKey, { channels, events }: About): string | undefined {
  const key = `the key ${JSON.stringify(name)}`;
  if (!rights.has('hooks')) return `${key} does not have the right \`hooks\``;
  const moderation = events.find((each) => ofModeration.has(each));
  const needed: readonly ChannelRight[] = moderation === undefined ? ['read'] : ['read', 'moderate'];
  for (const right of needed) {
    if (rights.has(right)) continue;
    const does = right === 'read' ? 'read' : `hear of \`${moderation}\` in`;
    const may = `it has ${rights}, and needs \`${right}\``;
    if (channels === undefined)
      return `${key} may not ${does} all channels: ${may}, or \`${right}:PATTERN\` and \`channels\` of the hook`;
    const missing = channels.find((each) => !rights.hasForPattern(right, parsePattern(each)));
    if (missing !== undefined) return `${key} may not ${does} ${missing}: ${may} there`;
  }
  return undefined;
}

/** Checks that a key may see the data of an event. @throws {ProblemError} `not-allowed` */
export function checkEventRights({ name, rights }: ApiKey, event: HookEvent, channel: ChannelName | undefined): void {
  const may = channel === undefined ? rights.has('moderate') : rights.hasIn('moderate', channel);
  if (ofModeration.has(event) && !may)
    throw refusal('not-allowed', `the key ${JSON.stringify(name)} may not see events of moderation; it has ${rights}`);
}

/** @throws {ProblemError} `not-allowed` */
export function checkHookRights(key: ApiKey, hook: About): void {
  const fault = hookRightsFault(key, hook);
  if (fault !== undefined) throw refusal('not-allowed', fault);
}
