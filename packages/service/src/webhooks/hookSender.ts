import {
  BoundedMap,
  type DeliveryRecord,
  deliveryId,
  type Hook,
  type HookAnswer,
  type HookCaller,
  type ShapedDelivery,
  shapedDelivery,
} from '@nine-bells/core';
import { Agent, request } from 'undici';
import type { Outbound } from '../outbound/outbound.js';
import { serviceVersion } from '../version.js';
import type { AddressGuard } from './addressGuard.js';
import { hookBodyOf } from './cloudEvents.js';
import { signaturesOf } from './verify.js';

/** The header that counts through how many intakes an event has come: so a circle is found. */
export const hopsHeader = 'ninebells-hops';

/** Maximum size of an answer as stored, and as read, in bytes. */
const keptBytes = 4_096;
const readBytes = 65_536;
/** Connection timeout, in milliseconds. */
const connectMs = 5_000;
/** Keep-alive time of an idle connection, in milliseconds. */
const keepAliveMs = 10_000;
/** Maximum number of failing hooks remembered. */
const maxFailing = 1_000;

export interface HookSenderHost {
  /** Returns the signing secrets of a hook; `undefined` if the hook has been deleted. */
  readonly secretsOf: (hook: string) => readonly string[] | undefined;
  /** Returns true for hooks of the configuration, which may send to any address. */
  readonly isTrusted: (hook: string) => boolean;
  readonly guard: AddressGuard;
  /** The `source` of events. */
  readonly source: string;
  readonly now: () => number;
  /** Called when the deliveries of a hook begin to fail. */
  readonly failing: (hook: Hook, cause: string) => void;
  /** Called when they succeed again. */
  readonly recovered: (hook: Hook) => void;
  /** Default: over the network. */
  readonly send?: Outbound | undefined;
}

/** Sends events over HTTP: as CloudEvents, signed as Standard Webhooks says. Redirects are not followed. */
export class HookSender implements HookCaller {
  readonly #host: HookSenderHost;
  readonly #trusted: Agent;
  readonly #guarded: Agent;
  /** Names of hooks whose last delivery failed. */
  readonly #failing = new BoundedMap<string, true>(maxFailing);

  constructor(host: HookSenderHost) {
    this.#host = host;
    const options = { keepAliveTimeout: keepAliveMs, connections: 128 };
    this.#trusted = new Agent({ ...options, connect: { timeout: connectMs } });
    this.#guarded = new Agent({ ...options, connect: { timeout: connectMs, lookup: host.guard.lookup } });
  }

  async send(hook: Hook, deliveries: readonly ShapedDelivery[]): Promise<HookAnswer> {
    const fromMs = performance.now();
    const { headers, body } = this.#requestOf(hook, deliveries);
    const sent = { ...headers, 'webhook-signature': masked(headers['webhook-signature'] as string) };
    const answer = await this.#answerTo(hook, headers, body);
    this.#note(hook, answer.problem);
    return { ...answer, sent, tookMs: performance.now() - fromMs };
  }

  /** A delivery as a request by itself, signed now; `undefined` if it cannot be shaped. */
  requestFor(
    hook: Hook,
    delivery: DeliveryRecord,
  ): { id: string; headers: Readonly<Record<string, string>>; body: string } | undefined {
    const { batch: _, ...single } = hook;
    try {
      return { id: deliveryId(delivery), ...this.#requestOf(single, [shapedDelivery(hook, delivery)]) };
    } catch {
      return undefined;
    }
  }

  /** Reports the first failure of a hook, and its first success after it. */
  #note(hook: Hook, problem: string | undefined): void {
    const { failing, recovered } = this.#host;
    if (problem === undefined) {
      if (this.#failing.delete(hook.name)) recovered(hook);
    } else if (!this.#failing.has(hook.name)) {
      this.#failing.set(hook.name, true);
      failing(hook, problem);
    }
  }

  #requestOf(hook: Hook, deliveries: readonly ShapedDelivery[]): { headers: Record<string, string>; body: string } {
    const { id, contentType, text } = hookBodyOf(hook, deliveries, this.#host.source);
    const timestamp = String(Math.floor(this.#host.now() / 1000));
    const hops = Math.max(...deliveries.map(({ delivery }) => delivery.hops ?? 0));
    const headers = {
      'content-type': contentType,
      'user-agent': `ninebells/${serviceVersion}`,
      'webhook-id': id,
      'webhook-timestamp': timestamp,
      'webhook-signature': signaturesOf(this.#host.secretsOf(hook.name) ?? [], id, timestamp, text),
      ...(hops === 0 ? {} : { [hopsHeader]: String(hops) }),
    };
    return { headers, body: text };
  }

  /** Closes all connections. */
  async close(): Promise<void> {
    await Promise.all([this.#trusted.destroy(), this.#guarded.destroy()]);
  }

  async #answerTo(hook: Hook, headers: Record<string, string>, body: string): Promise<Omit<HookAnswer, 'tookMs'>> {
    const isTrusted = this.#host.isTrusted(hook.name);
    const signal = AbortSignal.timeout(hook.withinMs);
    try {
      if (!isTrusted) this.#host.guard.check(hook.url);
      const { name, url, withinMs: timeoutMs } = hook;
      const answered = await this.#host.send?.({ kind: 'hook', name, url, headers, body, timeoutMs });
      if (answered !== undefined) return statusAnswer(answered.status, answered.text);
      const response = await request(hook.url, {
        method: 'POST',
        headers,
        body,
        signal,
        dispatcher: isTrusted ? this.#trusted : this.#guarded,
        headersTimeout: hook.withinMs,
        bodyTimeout: hook.withinMs,
      });
      const status = response.statusCode;
      const text = await beginningOf(response.body);
      return statusAnswer(status, text, response.headers);
    } catch (error) {
      return { problem: failureText(error, hook) };
    }
  }
}

function statusAnswer(
  status: number,
  text: string,
  headers: Readonly<Record<string, string | string[] | undefined>> = {},
): Omit<HookAnswer, 'tookMs'> {
  if (status >= 200 && status < 300) return { status, text };
  return { status, text, problem: problemOf(status, headers.location), ...retryAfter(headers) };
}

function masked(signatures: string): string {
  return signatures.replaceAll(/v1,\S+/g, 'v1,***');
}

function problemOf(status: number, location: string | string[] | undefined): string {
  if (status >= 300 && status < 400)
    return `status ${status}: redirects are not followed${location === undefined ? '' : ` (to ${String(location).slice(0, 200)})`}`;
  return `status ${status}`;
}

/** Reads an answer as far as it is of use; the rest is not waited for. */
async function beginningOf(body: AsyncIterable<Buffer> & { destroy(): unknown }): Promise<string> {
  const chunks: Buffer[] = [];
  let bytes = 0;
  for await (const chunk of body) {
    chunks.push(chunk);
    bytes += chunk.length;
    if (bytes > readBytes) break;
  }
  if (bytes > readBytes) body.destroy();
  return Buffer.concat(chunks).subarray(0, keptBytes).toString('utf8').replaceAll('\0', '');
}

/** `Retry-After` as seconds or as a date (RFC 9110, section 10.2.3). */
function retryAfter(headers: Readonly<Record<string, unknown>>): { retryAfterMs?: number } {
  const text = headers['retry-after'];
  if (typeof text !== 'string') return {};
  const ms = /^[0-9]{1,9}$/.test(text) ? Number(text) * 1000 : Date.parse(text) - Date.now();
  return Number.isNaN(ms) ? {} : { retryAfterMs: Math.max(0, ms) };
}

function failureText(error: unknown, { withinMs }: Hook): string {
  const { name, message, code } = error as Error & { code?: string };
  if (name === 'TimeoutError' || code === 'UND_ERR_HEADERS_TIMEOUT' || code === 'UND_ERR_BODY_TIMEOUT')
    return `no answer within ${withinMs / 1000} s`;
  if (code === 'UND_ERR_CONNECT_TIMEOUT') return `no connection within ${connectMs / 1000} s`;
  if (/CERT|SIGNED|ERR_TLS|UNABLE_TO/.test(code ?? '')) return `the certificate is not valid: ${message} (${code})`;
  const { errors } = error as { errors?: readonly Error[] };
  return (errors?.[0]?.message ?? message) || String(code ?? name);
}
