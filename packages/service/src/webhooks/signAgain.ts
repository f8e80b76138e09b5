import { createHmac } from 'node:crypto';
import type { Arrival } from '@nine-bells/core';
import type { ForwardedRequest } from '@nine-bells/wire/http';
import type { IntakeConfiguration, Verification } from '../config/types.js';
import { signaturesOf } from './verify.js';

export type { ForwardedRequest };

/**
 * An event that came in as a request again: with the headers that were kept, and signed anew by the first secret of its intake,
 * as its sender would sign it now. What was dropped is not in it.
 */
export function requestOfArrival(intake: IntakeConfiguration, arrival: Arrival, nowMs: number): ForwardedRequest {
  const { number, id, method, headers, eventId, isBase64 } = arrival;
  const body = isBase64 ? Buffer.from(arrival.body, 'base64').toString('latin1') : arrival.body;
  const signature = signedAgain(intake.verify, body, { ...headers }, eventId ?? id, nowMs);
  return { number, id, what: `${method} /in/${intake.name}`, method, headers: { ...headers, ...signature }, body };
}

function signedAgain(
  verify: Verification,
  body: string,
  headers: Readonly<Record<string, string>>,
  id: string,
  nowMs: number,
): Readonly<Record<string, string>> {
  const seconds = String(Math.floor(nowMs / 1000));
  if (verify.type === 'none') return {};
  const secret = verify.secrets[0] as string;
  if (verify.type === 'bearer') return { authorization: `Bearer ${secret}` };
  if (verify.type === 'basic')
    return { authorization: `Basic ${Buffer.from(`${verify.user}:${secret}`).toString('base64')}` };
  if (verify.type === 'standard')
    return {
      'webhook-id': id,
      'webhook-timestamp': seconds,
      'webhook-signature': signaturesOf([secret], id, seconds, body),
    };
  const { header, algorithm, encoding, prefix, signed, timestamp } = verify;
  const text = signed
    .replaceAll('{timestamp}', seconds)
    .replaceAll('{url}', '')
    .replaceAll(/\{header:([^}]*)\}/g, (_, name: string) => headers[name.toLowerCase()] ?? '')
    .replaceAll('{body}', () => body);
  const mac = createHmac(algorithm, secret).update(text).digest(encoding);
  return { [header.toLowerCase()]: `${prefix}${mac}`, ...(timestamp ? { [timestamp.toLowerCase()]: seconds } : {}) };
}
