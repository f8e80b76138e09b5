import type { Seal } from '../ports/hmac.js';

/**
 * A session's secret: `generation.mac`, the MAC over session, user and generation under a key that the instances
 * share. So any instance can check it, also one that has never met the session.
 */
export function makeSecret(seal: Seal, session: string, user: string, generation: number): string {
  return `${generation}.${seal.sign(signedText(session, user, generation))}`;
}

/** The generation of a secret, if it is genuine and of this session and user. */
export function readSecret(seal: Seal, secret: string, session: string, user: string): number | undefined {
  const match = /^([1-9][0-9]{0,9})\.([A-Za-z0-9_-]+)$/.exec(secret);
  if (match === null) return undefined;
  const generation = Number(match[1]);
  return seal.matches(signedText(session, user, generation), match[2] as string) ? generation : undefined;
}

/** The id of the guest that a session is; it says nothing of the session's own id. */
export function guestIdOf(seal: Seal, session: string): string {
  return `guest:${seal.sign(`guest ${session}`).replaceAll(/[-_]/g, '').slice(0, 10).toLowerCase()}`;
}

function signedText(session: string, user: string, generation: number): string {
  return JSON.stringify(['session', session, user, generation]);
}
