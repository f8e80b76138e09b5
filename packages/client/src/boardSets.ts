import type { Json, SetResult } from '@nine-bells/wire';
import type { Board } from './board.js';
import { LineError } from './lineError.js';
import { isPassing } from './outbox.js';
import type { Awaited, RequestMembers } from './requests.js';
import type { SetOptions } from './types.js';

/** What setting entries needs of its line. */
export interface BoardSetsHost {
  /** The board of a channel that was entered; `undefined`: it is not. */
  board(channel: string): Board | undefined;
  /** Whether the service has let the line into the channel on this connection. */
  isLive(channel: string): boolean;
  send(request: RequestMembers & { readonly do: 'set' }, awaited: Awaited<'set'>): void;
}

/** An entry is sent at most this often, in milliseconds. */
const everyMs = 50;

interface Value {
  readonly value: Json;
  readonly options: SetOptions;
  readonly callers: { readonly resolve: (result: SetResult) => void; readonly reject: (error: LineError) => void }[];
}

/** An entry that you set. */
interface Setting {
  readonly channel: string;
  readonly entry: string;
  /** The latest value that was not sent yet. */
  waiting: Value | undefined;
  isUnderWay: boolean;
  timer: ReturnType<typeof setTimeout> | undefined;
  /** The value that goes when this session leaves, to be set again by the next one. */
  held: Value | undefined;
}

/**
 * Sets entries of boards: of each only the latest value waits, so that what is set more often than it can be sent costs
 * nothing. What was not acknowledged when the connection broke is sent again, unless it was set anew meanwhile.
 */
export class BoardSets {
  readonly #host: BoardSetsHost;
  readonly #settings = new Map<string, Setting>();

  constructor(host: BoardSetsHost) {
    this.#host = host;
  }

  /** @param value - `null` removes the entry */
  set(channel: string, entry: string, value: Json, options: SetOptions): Promise<SetResult> {
    const board = this.#host.board(channel);
    if (board === undefined) return Promise.reject(new LineError('left', 'the channel was left'));
    return new Promise((resolve, reject) => {
      if (options.ifVersion !== undefined) {
        this.#setIf(channel, entry, { value, options, callers: [{ resolve, reject }] });
        return;
      }
      board.setOwn(entry, value ?? undefined);
      const setting = this.#settingOf(channel, entry);
      const callers = setting.waiting?.callers ?? [];
      callers.push({ resolve, reject });
      setting.waiting = { value, options, callers };
      this.#sendNext(setting);
    });
  }

  /** The line has entered a channel, perhaps again. */
  entered(channel: string): void {
    const board = this.#host.board(channel);
    for (const setting of this.#settings.values()) {
      if (setting.channel !== channel) continue;
      // It went with the session that held it.
      if (
        setting.held !== undefined &&
        setting.waiting === undefined &&
        !setting.isUnderWay &&
        board?.has(setting.entry) === false
      )
        setting.waiting = setting.held;
      this.#sendNext(setting);
    }
  }

  /** The channel was left, or the line is closed. */
  ended(channel: string | undefined, error: LineError): void {
    for (const [key, setting] of this.#settings) {
      if (channel !== undefined && setting.channel !== channel) continue;
      clearTimeout(setting.timer);
      this.#settings.delete(key);
      for (const { reject } of setting.waiting?.callers ?? []) reject(error);
    }
  }

  #settingOf(channel: string, entry: string): Setting {
    const key = `${channel}\n${entry}`;
    let setting = this.#settings.get(key);
    if (setting === undefined) {
      setting = { channel, entry, waiting: undefined, isUnderWay: false, timer: undefined, held: undefined };
      this.#settings.set(key, setting);
    }
    return setting;
  }

  #sendNext(setting: Setting): void {
    const { channel, entry, waiting: sent } = setting;
    if (sent === undefined || setting.isUnderWay || setting.timer !== undefined || !this.#host.isLive(channel)) return;
    setting.waiting = undefined;
    setting.isUnderWay = true;
    setting.timer = setTimeout(() => {
      setting.timer = undefined;
      this.#sendNext(setting);
      this.#forgetIfDone(setting);
    }, everyMs);
    const { value, options } = sent;
    const settled = (result: SetResult | undefined): void => {
      setting.isUnderWay = false;
      // A later value of yours is shown until that is settled.
      if (setting.waiting === undefined) this.#host.board(channel)?.settled(entry, value ?? undefined, result?.version);
    };
    this.#host.send(requestOf(setting, value, options), {
      repeatable: false,
      resolve: (result) => {
        setting.held = options.whileHere && value !== null ? { value, options, callers: [] } : undefined;
        settled(result);
        for (const { resolve } of sent.callers) resolve(result);
        this.#sendNext(setting);
        this.#forgetIfDone(setting);
      },
      reject: (error) => {
        if (error.problem === undefined || isPassing(error)) {
          // The connection broke, or the service cannot take it now: the latest value goes later.
          setting.isUnderWay = false;
          const later = setting.waiting ?? { value, options, callers: [] };
          later.callers.unshift(...sent.callers);
          setting.waiting = later;
          if (error.problem === undefined) return;
          clearTimeout(setting.timer);
          setting.timer = setTimeout(() => {
            setting.timer = undefined;
            this.#sendNext(setting);
          }, error.problem.retryAfterMs ?? 1_000);
          return;
        }
        settled(undefined);
        for (const { reject } of sent.callers) reject(error);
        this.#sendNext(setting);
      },
    });
  }

  /** With a condition, each value is sent by itself, and shown when it was taken. */
  #setIf(channel: string, entry: string, { value, options, callers }: Value): void {
    const reject = (error: LineError): void => {
      for (const each of callers) each.reject(error);
    };
    if (!this.#host.isLive(channel)) {
      reject(new LineError('not-open', 'the channel is not entered now: the condition cannot be looked at'));
      return;
    }
    this.#host.send(requestOf({ channel, entry }, value, options), {
      repeatable: false,
      resolve: (result) => {
        const board = this.#host.board(channel);
        board?.setOwn(entry, value ?? undefined);
        board?.settled(entry, value ?? undefined, result.version);
        for (const { resolve } of callers) resolve(result);
      },
      reject,
    });
  }

  #forgetIfDone(setting: Setting): void {
    const { channel, entry, waiting, isUnderWay, timer, held } = setting;
    if (waiting === undefined && !isUnderWay && timer === undefined && held === undefined)
      this.#settings.delete(`${channel}\n${entry}`);
  }
}

function requestOf(
  { channel, entry }: { readonly channel: string; readonly entry: string },
  value: Json,
  { ifVersion, forMs, whileHere }: SetOptions,
): RequestMembers & { readonly do: 'set' } {
  return { do: 'set', channel, entry, value, ifVersion, forMs, whileHere };
}
