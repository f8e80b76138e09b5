import { Backend, type Evaluation } from '@nine-bells/client/backend';
import type { Json, Problem } from '@nine-bells/wire';
import type { CallStep } from '../format/drill.js';
import type { Surroundings } from './surroundings.js';

/** How long a call of the HTTP interface may take, if nothing else is said, in milliseconds. */
const callMs = 15_000;

export interface CallAnswer {
  readonly status: number;
  readonly body: Json;
}

/** The application's side: calls of the HTTP interface. */
export class Application {
  readonly #surroundings: Surroundings;
  /** To ask why; absent without a key. */
  readonly #backend: Backend | undefined;

  constructor(surroundings: Surroundings) {
    const { url, key } = surroundings;
    this.#surroundings = surroundings;
    this.#backend = key === undefined ? undefined : new Backend(url, { key });
  }

  /** Calls, with the key of the run unless another is named. */
  async call(
    { method, path, body, key }: Pick<CallStep, 'method' | 'path' | 'body' | 'key'>,
    withinMs = callMs,
  ): Promise<CallAnswer> {
    const bearer = key === undefined ? this.#surroundings.key : key;
    const response = await fetch(`${this.#surroundings.url}${path}`, {
      method,
      headers: {
        ...(bearer === undefined || bearer === null ? {} : { authorization: `Bearer ${bearer}` }),
        ...(body === undefined ? {} : { 'content-type': 'application/json' }),
      },
      ...(body === undefined ? {} : { body: JSON.stringify(body) }),
      signal: AbortSignal.timeout(Math.ceil(withinMs)),
    });
    const text = await response.text();
    let answer: Json = text;
    try {
      answer = text === '' ? null : (JSON.parse(text) as Json);
    } catch {
      // Pages and metrics are texts.
    }
    return { status: response.status, body: answer };
  }

  /** Asks why a client's session may not do something, or may; nothing, if that cannot be asked. */
  async explain(act: string, channel: string, session: string): Promise<readonly string[]> {
    const asked = await this.#backend?.explain(act, channel, { session }).catch(() => undefined);
    if (asked === undefined) return [];
    const { rule, evaluation, ban, others } = asked;
    const lines: string[] = [];
    if (ban !== undefined) lines.push(`banned: ${JSON.stringify(ban)}`);
    if (rule === undefined)
      for (const { pattern, why } of others) lines.push(`the rule ${pattern} does not hold: ${why}`);
    else lines.push(`the rule ${rule.pattern} decides`);
    const look = ({ asks, holds, found, parts }: Evaluation, depth: number): void => {
      lines.push(
        `${'  '.repeat(depth)}${holds ? 'holds' : 'does not hold'}: ${asks}${found === undefined ? '' : `; found ${found}`}`,
      );
      for (const part of parts ?? []) look(part, depth + 1);
    };
    if (evaluation !== undefined) look(evaluation, 0);
    return lines;
  }

  /** Looks for a message in a channel's record, and asks what became of it for a user. */
  async trace(channel: string, isMeant: (message: Json) => boolean, user: string): Promise<readonly string[]> {
    const backend = this.#backend;
    if (backend === undefined) return [];
    try {
      const { messages } = await backend.read(channel, { limit: 50 });
      const found = [...messages].reverse().find((message) => isMeant(message as unknown as Json));
      if (found === undefined) return [`no such message is in the record of ${channel}`];
      const trace = await backend.trace(found.id, { user });
      const fates = trace.user?.fates.map(({ sentence }) => sentence) ?? [];
      return [
        `${found.id} in ${channel}: ${trace.sentence}`,
        ...(fates.length > 0 ? fates : [trace.user?.sentence ?? '']),
      ];
    } catch {
      // What cannot be read, or was forgotten, explains nothing.
      return [];
    }
  }
}

/** The problem in an answer of the HTTP interface, if it is one. */
export function problemIn({ status, body }: CallAnswer): Problem | undefined {
  return status >= 400 && typeof body === 'object' && body !== null && 'code' in body
    ? (body as unknown as Problem)
    : undefined;
}
