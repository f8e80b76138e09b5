import { Backend, type Evaluation } from '@nine-bells/client/backend';
import type { Json, Problem } from '@nine-bells/wire';
import type { CallStep } from '../format/drill.js';
import type { Surroundings } from './surroundings.js';

/** Default time limit of an HTTP request, in milliseconds. */
const callMs = 15_000;

export interface CallAnswer {
  readonly status: number;
  readonly body: Json;
}

/** Calls the HTTP interface as the application would. */
export class Application {
  readonly #surroundings: Surroundings;
  /** Used to explain failures; absent without an API key. */
  readonly #backend: Backend | undefined;

  constructor(surroundings: Surroundings) {
    const { url, key } = surroundings;
    this.#surroundings = surroundings;
    this.#backend = key === undefined ? undefined : new Backend(url, { key });
  }

  /** Sends a request with the run's API key, or with the key of the step. */
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
      // The answer is text, such as metrics.
    }
    return { status: response.status, body: answer };
  }

  /** Asks the service to explain an access decision; returns an empty list if it cannot. */
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

  /** Finds a message in a channel's record, and traces it for a user. */
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
      // Without the right to read, or after the trace has expired, there is no explanation.
      return [];
    }
  }
}

/** The problem (RFC 9457) in an HTTP answer, if there is one. */
export function problemIn({ status, body }: CallAnswer): Problem | undefined {
  return status >= 400 && typeof body === 'object' && body !== null && 'code' in body
    ? (body as unknown as Problem)
    : undefined;
}
