import type { Hook, HookAnswer, ShapedDelivery } from '../model/hook.js';

/** Sends events to the receiver of a hook. */
export interface HookCaller {
  /** Sends one event, or a batch in one request. Never rejects: what went wrong is in the answer. */
  send(hook: Hook, deliveries: readonly ShapedDelivery[]): Promise<HookAnswer>;
}
