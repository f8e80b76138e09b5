import type { Hmac } from '../ports/hmac.js';

/**
 * A session's secret: `generation.mac`, the MAC over session, user and generation under a key that the instances
 * share. So any instance can check it, also one that has never met the session.
 */
export function makeSecret(hmac: Hmac, session: string, user: string, generation: number): string {
  return `${generation}.${hmac.sign(signedText(session, user, generation))}`;
}

/** The generation of a secret, if it is genuine and of this session and user. */
export function readSecret(hmac: Hmac, secret: string, session: string, user: string): number | undefined {
  const match = /^([1-9][0-9]{0,9})\.([A-Za-z0-9_-]+)$/.exec(secret);
  if (match === null) return undefined;
  const generation = Number(match[1]);
  return hmac.matches(signedText(session, user, generation), match[2] as string) ? generation : undefined;
}

/** The id of the guest that a session is; it says nothing of the session's own id. */
export function guestIdOf(hmac: Hmac, session: string): string {
  return `guest:${hmac.sign(`guest ${session}`).replaceAll(/[-_]/g, '').slice(0, 10).toLowerCase()}`;
}

function signedText(session: string, user: string, generation: number): string {
  return JSON.stringify(['session', session, user, generation]);
}
