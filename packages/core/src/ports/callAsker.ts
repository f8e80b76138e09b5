import type { Call, CallAnswer, CallRule } from '../model/call.js';

/** Hands calls to the application. */
export interface CallAsker {
  /** @throws if there is no answer in time, or none that can be read; the message is for the operator */
  call(rule: CallRule, url: string, call: Call): Promise<CallAnswer>;
}
