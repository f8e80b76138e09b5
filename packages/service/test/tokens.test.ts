import { SignJWT, UnsecuredJWT } from 'jose';
import { describe, expect, it } from 'vitest';
import { signToken } from '../src/index.js';
import { Tokens } from '../src/tokens/tokens.js';

const configuration = {
  secret: 'a secret of the regatta, for tests only, long enough',
  issuer: undefined,
  audience: undefined,
  toleranceMs: 5000,
};
const oversightKey = new Uint8Array(32).fill(7);
const tokens = new Tokens(configuration, oversightKey);
const bytes = (text: string) => new TextEncoder().encode(text);
const jwt = (claims: object, key = bytes(configuration.secret), header: object = {}) =>
  new SignJWT(claims as never).setProtectedHeader({ alg: 'HS256', ...header }).sign(key);
const nowS = Math.floor(Date.now() / 1000);

describe('tokens', () => {
  it('say who one is', async () => {
    const token = await signToken(configuration, {
      user: 'tomas',
      name: 'Tomas Verne',
      roles: ['skipper'],
      claims: { boats: 'petrel' },
      forMs: 60_000,
    });
    expect(await tokens.read(token)).toMatchObject({
      user: 'tomas',
      name: 'Tomas Verne',
      guest: false,
      roles: ['skipper'],
      claims: { boats: 'petrel' },
    });
  });

  it.each<[string, () => Promise<string> | string, string]>([
    [
      'signed with another secret',
      () => jwt({ sub: 'pia' }, bytes('another secret of more than 32 bytes !!')),
      'token-invalid',
    ],
    ['not signed at all', () => new UnsecuredJWT({}).setSubject('pia').encode(), 'token-invalid'],
    [
      'signed with another algorithm',
      () =>
        new SignJWT({ sub: 'pia' }).setProtectedHeader({ alg: 'HS512' }).sign(bytes(configuration.secret.repeat(2))),
      'token-invalid',
    ],
    ['not a token', () => 'ahoy', 'token-invalid'],
    ['half a token', () => 'eyJhbGciOiJIUzI1NiJ9.e30', 'token-invalid'],
    ['that has ended', () => jwt({ sub: 'pia', exp: nowS - 60 }), 'token-ended'],
    ['that has not begun', () => jwt({ sub: 'pia', nbf: nowS + 60 }), 'token-invalid'],
    ['without a subject', () => jwt({ name: 'Pia' }), 'token-invalid'],
    ['whose subject is a number', () => jwt({ sub: 3 }), 'token-invalid'],
    ['that claims to be a guest', () => jwt({ sub: 'guest:abc' }), 'token-invalid'],
    ['that claims oversight by its subject', () => jwt({ sub: 'oversight:first' }), 'token-invalid'],
    [
      'that claims oversight by its header',
      () => jwt({ sub: 'x', aud: 'nine-bells:oversight', exp: nowS + 60 }, undefined, { kid: 'oversight' }),
      'token-invalid',
    ],
  ])('that are %s are refused', async (_, make, code) => {
    await expect(tokens.read(await make())).rejects.toMatchObject({ code });
  });

  it('end within the clocks’ tolerance', async () => {
    expect(await tokens.read(await jwt({ sub: 'pia', exp: nowS - 2 }))).toMatchObject({ user: 'pia' });
  });

  it('must be of the issuer and for the audience that are configured', async () => {
    const strict = new Tokens({ ...configuration, issuer: 'regatta', audience: 'bells' }, oversightKey);
    await expect(strict.read(await jwt({ sub: 'pia', iss: 'other', aud: 'bells' }))).rejects.toThrow('iss');
    await expect(strict.read(await jwt({ sub: 'pia', iss: 'regatta' }))).rejects.toThrow('aud');
    expect(await strict.read(await jwt({ sub: 'pia', iss: 'regatta', aud: 'bells' }))).toMatchObject({ user: 'pia' });
  });

  it('for oversight are of the service’s own key', async () => {
    const { token } = await tokens.oversight('first', 60_000);
    expect(await tokens.read(token)).toMatchObject({ oversight: true, user: 'oversight:first' });
    await expect(new Tokens(configuration, new Uint8Array(32)).read(token)).rejects.toMatchObject({
      code: 'token-invalid',
    });
  });

  it('cannot be signed for a user id that none may carry', async () => {
    await expect((async () => signToken(configuration, { user: 'guest:x', forMs: 1000 }))()).rejects.toThrow(
      RangeError,
    );
  });
});
