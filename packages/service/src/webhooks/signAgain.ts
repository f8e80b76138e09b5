import type { Arrival } from '@nine-bells/core';
import type { ForwardedRequest } from '@nine-bells/wire/http';
import type { IntakeConfiguration, Verification } from '../config/types.js';
import { hmacOf, signaturesOf } from './verify.js';

export type { ForwardedRequest };

/**
 * An event that came in as a request again: with the headers that were kept, and signed anew by the first secret of its intake,
 * as its sender would sign it now. What was dropped is not in it.
 */
export function requestOfArrival(intake: IntakeConfiguration, arrival: Arrival, nowMs: number): ForwardedRequest {
  const { number, id, method, headers, eventId, body, isBase64 } = arrival;
  const bytes = Buffer.from(body, isBase64 ? 'base64' : 'utf8');
  const signature = signedAgain(intake.verify, bytes, { ...headers }, eventId ?? id, nowMs);
  const what = `${method} /in/${intake.name}`;
  return {
    number,
    id,
    what,
    method,
    headers: { ...headers, ...signature },
    body,
    ...(isBase64 ? { isBase64 } : {}),
  };
}

function signedAgain(
  verify: Verification,
  body: Buffer,
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
  const { header, encoding, prefix, timestamp } = verify;
  const mac = hmacOf(verify, secret, { headers, body, url: '' }, seconds).toString(encoding);
  return { [header.toLowerCase()]: `${prefix}${mac}`, ...(timestamp ? { [timestamp.toLowerCase()]: seconds } : {}) };
}
