import { existsSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { signToken, type TokenConfiguration } from '@nine-bells/service';
import express, { type RequestHandler, Router } from 'express';
import { personOf } from './people.js';

const page = fileURLToPath(new URL('../dist-page', import.meta.url));

/** Lifetime of the demo's tokens, in milliseconds. */
const tokenMs = 600_000;

/** The regatta's own application, as small as it can be: a page, and tokens for anyone who names a user. */
export function regattaApplication(tokens: TokenConfiguration): RequestHandler {
  const router = Router();
  router.get('/regatta/token', async (request, response) => {
    // A real application knows its users by their sign-in. Here you may be any person of the regatta.
    const person = personOf(String(request.query.user));
    if (person === undefined) {
      response.status(404).json({ detail: 'there is no such person at the regatta' });
      return;
    }
    response.set('Cache-Control', 'no-store').json({ token: await tokenFor(tokens, person.user) });
  });
  router.use('/regatta', (_request, response, next) => {
    response.set({
      'Content-Security-Policy': "default-src 'self'; style-src 'self' 'unsafe-inline'; connect-src 'self' ws: wss:",
      'X-Content-Type-Options': 'nosniff',
    });
    next();
  });
  if (existsSync(page)) router.use('/regatta', express.static(page));
  return router;
}

/** A token of the tracker aboard a boat. */
export function trackerToken(tokens: TokenConfiguration, boat: string): Promise<string> {
  return signToken(tokens, {
    user: `tracker-${boat}`,
    name: boat,
    roles: [],
    claims: { boats: [boat] },
    forMs: tokenMs,
  });
}

/** A token of a person of the regatta. */
export function tokenFor(tokens: TokenConfiguration, user: string): Promise<string> {
  const person = personOf(user);
  if (person === undefined) throw new RangeError(`there is no ${user} at the regatta`);
  return signToken(tokens, {
    user,
    name: person.name,
    roles: person.roles,
    claims: person.claims ?? {},
    forMs: tokenMs,
  });
}
