import type { ChannelName, Json } from '@nine-bells/wire';
import { BoundedMap } from '../lib/boundedMap.js';
import type { Hook, HookEvent } from '../model/hook.js';
import { countsAsUnread } from '../model/mark.js';
import { matchPattern, type Pattern, parsePattern } from '../model/pattern.js';
import { holds, without } from '../rules/shape.js';

/** Most channels of which it is remembered which hooks hear of them. */
const maxChannels = 10_000;

interface Listed {
  readonly hook: Hook;
  readonly patterns: readonly Pattern[] | undefined;
}

/** Which hooks hear of which events. */
export class HookBook {
  #listed: readonly Listed[] = [];
  readonly #byChannel = new BoundedMap<string, readonly Hook[]>(maxChannels);

  /** The hooks that hear of events from now on. */
  set(hooks: readonly Hook[]): void {
    this.#listed = hooks.map((hook) => ({ hook, patterns: hook.channels?.map(parsePattern) }));
    this.#byChannel.clear();
  }

  get isEmpty(): boolean {
    return this.#listed.length === 0;
  }

  /** Hooks that hear of an event in a channel, before their conditions. Hot: once per message. */
  inChannel(event: HookEvent, channel: ChannelName): readonly Hook[] {
    if (this.#listed.length === 0) return none;
    const key = `${event} ${channel}`;
    const known = this.#byChannel.get(key);
    if (known !== undefined) return known;
    const hooks = this.#listed
      .filter(({ patterns }) => patterns?.some((each) => matchPattern(each, channel) !== undefined) ?? true)
      .map(({ hook }) => hook)
      .filter(({ events }) => events.includes(event));
    this.#byChannel.set(key, hooks);
    return hooks;
  }

  /** Hooks that hear of an event. One that is of no channel is heard of by hooks that name no channels. */
  for(event: HookEvent, channel: ChannelName | undefined, data: Json): readonly Hook[] {
    const hooks =
      channel === undefined
        ? this.#listed
            .filter(({ hook, patterns }) => patterns === undefined && hook.events.includes(event))
            .map(({ hook }) => hook)
        : this.inChannel(event, channel);
    return hooks.filter((hook) => wants(hook, data));
  }

  /** Hooks that hear of a message, or of its changes. */
  forMessage(
    channel: ChannelName,
    type: string,
    data: () => Json,
    event: 'message' | 'changed' = 'message',
  ): readonly string[] | undefined {
    const hooks = this.inChannel(event, channel);
    if (hooks.length === 0) return undefined;
    const wanting = hooks.filter(
      (hook) =>
        (hook.types?.includes(type) ?? countsAsUnread(type)) && (hook.when === undefined || wants(hook, data())),
    );
    return wanting.length === 0 ? undefined : wanting.map(({ name }) => name);
  }
}

const none: readonly Hook[] = [];

/** Whether a hook's own condition holds for the data of an event. */
function wants({ when, drop }: Hook, data: Json): boolean {
  if (when === undefined) return true;
  return holds(when, { body: drop === undefined ? data : without(data, drop), headers: {}, method: 'POST' });
}
