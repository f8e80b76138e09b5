import { createHmac, timingSafeEqual } from 'node:crypto';
import { refusal } from '@nine-bells/wire';
import type { Verification } from '../config/types.js';
import { equalInConstantTime } from '../system/serviceSecret.js';

/** A request as it came, before anything in it is believed. */
export interface RawRequest {
  readonly method: string;
  /** Path and query, as they were sent. */
  readonly url: string;
  /** By lower-case name; of several of one name, the first. */
  readonly headers: Readonly<Record<string, string>>;
  readonly body: Buffer;
}

/** Finds out whether a request was sent by who may send it. */
export type Verifier = (request: RawRequest, nowMs: number) => void;

/**
 * Makes the verifier of an intake. It compares in constant time, and takes any of its secrets.
 *
 * The verifier throws `ProblemError` `signature-invalid`; the detail says what was looked at, and no secret.
 */
export function verifierOf(verification: Verification): Verifier {
  switch (verification.type) {
    case 'none':
      return () => {};
    case 'standard':
      return standard(verification);
    case 'hmac':
      return hmac(verification);
    case 'bearer':
      return ({ headers }) => {
        const given = /^Bearer +(\S+)$/i.exec(headers.authorization ?? '')?.[1];
        if (given === undefined) throw invalid('send the secret as `Authorization: Bearer SECRET` (RFC 6750)');
        if (!isOneOf(verification.secrets, given)) throw invalid('the bearer secret is not one of this intake');
      };
    case 'basic':
      return basic(verification);
  }
}

function invalid(detail: string): Error {
  return refusal('signature-invalid', detail);
}

function isOneOf(secrets: readonly string[], given: string): boolean {
  let found = false;
  // All are compared, so that the time says nothing.
  for (const secret of secrets) found = equalInConstantTime(secret, given) || found;
  return found;
}

/** Standard Webhooks: `webhook-id`, `webhook-timestamp` and `webhook-signature` over `id.timestamp.body`. */
function standard({ secrets, toleranceMs }: Extract<Verification, { type: 'standard' }>): Verifier {
  const keys = secrets.map((secret) => Buffer.from(secret.slice('whsec_'.length), 'base64'));
  return ({ headers, body }, nowMs) => {
    const { 'webhook-id': id, 'webhook-timestamp': timestamp, 'webhook-signature': given } = headers;
    for (const [name, value] of Object.entries({ id, timestamp, signature: given }))
      if (!value) throw invalid(`the header webhook-${name} is missing (Standard Webhooks)`);
    checkTime('webhook-timestamp', timestamp as string, toleranceMs, nowMs);
    const signatures = (given as string)
      .split(' ')
      .filter((each) => each.startsWith('v1,'))
      .map((each) => Buffer.from(each.slice(3), 'base64'));
    let isValid = false;
    for (const key of keys) {
      const expected = createHmac('sha256', key).update(`${id}.${timestamp}.`).update(body).digest();
      for (const each of signatures) isValid = isSame(expected, each) || isValid;
    }
    if (!isValid) throw invalid('webhook-signature has no v1 signature of this body by a secret of this intake');
  };
}

function isSame(expected: Buffer, given: Buffer): boolean {
  return expected.length === given.length && timingSafeEqual(expected, given);
}

function hmac(verification: Extract<Verification, { type: 'hmac' }>): Verifier {
  const { secrets, algorithm, encoding, prefix, timestamp, toleranceMs } = verification;
  const header = verification.header.toLowerCase();
  return (request, nowMs) => {
    const { headers } = request;
    const given = headers[header];
    if (given === undefined) throw invalid(`the header ${verification.header} is missing: it has the signature`);
    if (!given.startsWith(prefix))
      throw invalid(`${verification.header} does not begin with ${JSON.stringify(prefix)}`);
    const time = timestamp === undefined ? '' : headers[timestamp.toLowerCase()];
    if (time === undefined) throw invalid(`the header ${timestamp} is missing: it has the time of sending`);
    if (timestamp !== undefined) checkTime(timestamp, time, toleranceMs, nowMs);
    const signature = Buffer.from(given.slice(prefix.length), encoding);
    let isValid = false;
    for (const secret of secrets) isValid = isSame(hmacOf(verification, secret, request, time), signature) || isValid;
    if (!isValid)
      throw invalid(`${verification.header} is no ${algorithm} signature of this request by a secret of this intake`);
  };
}

/**
 * The HMAC (RFC 2104) of what an intake says is signed.
 *
 * @param time - what stands for `{timestamp}`, as in its header
 */
export function hmacOf(
  { algorithm, signed }: Pick<Extract<Verification, { type: 'hmac' }>, 'algorithm' | 'signed'>,
  secret: string,
  { headers, body, url }: Pick<RawRequest, 'headers' | 'body' | 'url'>,
  time: string,
): Buffer {
  const mac = createHmac(algorithm, secret);
  for (const part of signed.split(/(\{[^}]*\})/))
    if (part === '{body}') mac.update(body);
    else if (part === '{timestamp}') mac.update(time);
    else if (part === '{url}') mac.update(url);
    else if (part.startsWith('{header:')) mac.update(headers[part.slice(8, -1).toLowerCase()] ?? '');
    else mac.update(part);
  return mac.digest();
}

function basic({ user, secrets }: Extract<Verification, { type: 'basic' }>): Verifier {
  return ({ headers }) => {
    const encoded = /^Basic +(\S+)$/i.exec(headers.authorization ?? '')?.[1];
    if (encoded === undefined) throw invalid('send user and password as `Authorization: Basic ...` (RFC 7617)');
    const text = Buffer.from(encoded, 'base64').toString('utf8');
    const colon = text.indexOf(':');
    const isUser = equalInConstantTime(user, text.slice(0, Math.max(0, colon)));
    const isPassword = isOneOf(secrets, text.slice(colon + 1));
    if (colon === -1 || !isUser || !isPassword) throw invalid('user or password are not those of this intake');
  };
}

/** A request that was sent long ago may have been recorded and sent again by another. */
function checkTime(header: string, text: string, toleranceMs: number, nowMs: number): void {
  const atMs = timeOf(text);
  if (atMs === undefined) throw invalid(`${header} is no time: ${JSON.stringify(text.slice(0, 40))}`);
  const offMs = atMs - nowMs;
  if (Math.abs(offMs) <= toleranceMs) return;
  const by = `${Math.round(Math.abs(offMs) / 1000)} s`;
  throw invalid(`${header} is ${by} ${offMs < 0 ? 'old' : 'ahead'}; at most ${toleranceMs / 1000} s are taken`);
}

/** Seconds or milliseconds since the epoch, or RFC 3339. */
function timeOf(text: string): number | undefined {
  if (/^[0-9]{9,11}$/.test(text)) return Number(text) * 1000;
  if (/^[0-9]{12,14}$/.test(text)) return Number(text);
  const parsed = /^[0-9]{4}-/.test(text) ? Date.parse(text) : Number.NaN;
  return Number.isNaN(parsed) ? undefined : parsed;
}

/**
 * The value of `webhook-signature`: one signature for each secret (Standard Webhooks). By the runtime's own HMAC, which takes
 * a fraction of the time of one in JavaScript: every call and every delivery is signed.
 *
 * @param id - `webhook-id`
 * @param timestamp - `webhook-timestamp`: seconds since the epoch
 */
export function signaturesOf(secrets: readonly string[], id: string, timestamp: string, body: string | Buffer): string {
  return secrets
    .map((secret) => {
      const key = Buffer.from(secret.slice('whsec_'.length), 'base64');
      return `v1,${createHmac('sha256', key).update(`${id}.${timestamp}.`).update(body).digest('base64')}`;
    })
    .join(' ');
}
