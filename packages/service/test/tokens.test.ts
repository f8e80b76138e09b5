import { generateKeyPairSync, type KeyObject } from 'node:crypto';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { SignJWT, UnsecuredJWT } from 'jose';
import { describe, expect, it } from 'vitest';
import { defaultClaimNames, type TokenAlgorithm, tokenAlgorithms } from '../src/config/configuration.js';
import { parseConfiguration, signToken } from '../src/index.js';
import { Tokens } from '../src/tokens/tokens.js';

const configuration = {
  secrets: ['a secret of the regatta, for tests only, long enough'],
  publicKeys: [],
  jwks: undefined,
  issuer: undefined,
  audience: undefined,
  toleranceMs: 5000,
  claims: defaultClaimNames,
};
const own = {
  observer: [new Uint8Array(32).fill(7)] as const,
  workbench: [new Uint8Array(32).fill(8)] as const,
  isInUse: (key: string) => key === 'k1',
};
const tokens = new Tokens(configuration, own);
const bytes = (text: string) => new TextEncoder().encode(text);
const jwt = (claims: object, key = bytes(configuration.secrets[0] as string), header: object = {}) =>
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
        new SignJWT({ sub: 'pia' }).setProtectedHeader({ alg: 'HS512' }).sign(bytes('long enough for HS512'.repeat(4))),
      'token-invalid',
    ],
    ['not a token', () => 'ahoy', 'token-invalid'],
    ['half a token', () => 'eyJhbGciOiJIUzI1NiJ9.e30', 'token-invalid'],
    ['that has ended', () => jwt({ sub: 'pia', exp: nowS - 60 }), 'token-ended'],
    ['that has not begun', () => jwt({ sub: 'pia', nbf: nowS + 60 }), 'token-invalid'],
    ['without a subject', () => jwt({ name: 'Pia' }), 'token-invalid'],
    ['whose subject is a fraction', () => jwt({ sub: 3.5 }), 'token-invalid'],
    ['whose subject is a list', () => jwt({ sub: ['pia'] }), 'token-invalid'],
    ['that claims to be a guest', () => jwt({ sub: 'guest:abc' }), 'token-invalid'],
    ['that claims to be an observer by its subject', () => jwt({ sub: 'observer:first' }), 'token-invalid'],
    [
      'that claims to be an observer by its header',
      () => jwt({ sub: 'x', aud: 'nine-bells:observer', exp: nowS + 60 }, undefined, { kid: 'observer' }),
      'token-invalid',
    ],
  ])('that are %s are refused', async (_, make, code) => {
    await expect(tokens.read(await make())).rejects.toMatchObject({ code });
  });

  it('end within the clocks’ tolerance', async () => {
    expect(await tokens.read(await jwt({ sub: 'pia', exp: nowS - 2 }))).toMatchObject({ user: 'pia' });
  });

  it('must be of the issuer and for the audience that are configured', async () => {
    const strict = new Tokens({ ...configuration, issuer: 'regatta', audience: 'bells' }, own);
    await expect(strict.read(await jwt({ sub: 'pia', iss: 'other', aud: 'bells' }))).rejects.toThrow('iss');
    await expect(strict.read(await jwt({ sub: 'pia', iss: 'regatta' }))).rejects.toThrow('aud');
    expect(await strict.read(await jwt({ sub: 'pia', iss: 'regatta', aud: 'bells' }))).toMatchObject({ user: 'pia' });
  });

  it('for observer are of the service’s own key', async () => {
    const { token } = await tokens.observer({ id: 'k7', name: 'first' }, 60_000);
    expect(await tokens.read(token)).toMatchObject({ observer: true, user: 'observer:k7', name: 'first' });
    await expect(
      new Tokens(configuration, { ...own, observer: [new Uint8Array(32)] }).read(token),
    ).rejects.toMatchObject({
      code: 'token-invalid',
    });
  });

  it('has no name cut inside a character, and no roles that no database takes', async () => {
    const reader = new Tokens(configuration, own);
    const token = await signToken(configuration, {
      user: 'tomas',
      name: `${'x'.repeat(199)}\u{1f6f6}`,
      roles: ['skipper', 'a\u0000b', 'half \ud83d'],
      forMs: 1000,
    });
    expect(await reader.read(token)).toMatchObject({ name: 'x'.repeat(199), roles: ['skipper'] });
  });

  it('may say who one is under other names, through nested claims too', async () => {
    const claims = {
      user: ['account', 'id'],
      name: 'nickname',
      roles: ['realm', 'roles'],
      access: 'https://regatta.example/access',
    };
    const other = { ...configuration, claims };
    const reader = new Tokens(other, own);
    const token = await signToken(other, {
      user: 'tomas',
      name: 'Tomas\u001b[31m Verne\n',
      roles: ['skipper'],
      claims: { account: { boat: 'petrel' } },
      forMs: 1000,
    });
    expect(await reader.read(token)).toMatchObject({
      user: 'tomas',
      // Names are shown in terminals, too.
      name: 'Tomas[31m Verne',
      roles: ['skipper'],
      claims: { account: { id: 'tomas', boat: 'petrel' } },
      issuedAt: expect.any(Number),
    });
    await expect(reader.read(await jwt({ sub: 'tomas' }))).rejects.toThrow('no `account.id`');
    await expect(reader.read(await jwt({ account: { id: 'guest:x' } }))).rejects.toThrow('may begin with "guest:"');
  });

  it('may bring access rules along, all of which must be understood', async () => {
    const access = [{ pattern: 'crew/:boat', allow: { enter: { claim: 'boats', holds: ':boat' } } }];
    const { grants } = await tokens.read(await jwt({ sub: 'tomas', access }));
    expect(grants).toMatchObject([{ pattern: { text: 'crew/:boat' }, allow: access[0]?.allow }]);
    await expect(
      tokens.read(await jwt({ sub: 'tomas', access: [{ pattern: 'crew', alow: {} }] })),
    ).rejects.toMatchObject({
      code: 'token-invalid',
      problem: { detail: 'its access rules: there is no "alow" there' },
    });
  });

  it('cannot be signed for a user id that none may carry', async () => {
    await expect((async () => signToken(configuration, { user: 'guest:x', forMs: 1000 }))()).rejects.toThrow(
      RangeError,
    );
  });
});

describe('tokens signed with private keys', () => {
  const pair = (algorithm: TokenAlgorithm) =>
    algorithm === 'RS256'
      ? generateKeyPairSync('rsa', { modulusLength: 2048 })
      : algorithm === 'ES256'
        ? generateKeyPairSync('ec', { namedCurve: 'P-256' })
        : generateKeyPairSync('ed25519');
  const sign = (alg: string, key: KeyObject, header: object = {}) =>
    new SignJWT({ sub: 'pia' }).setProtectedHeader({ alg, ...header }).sign(key);

  it('are taken with each of several secrets, and signed with the first', async () => {
    const [next, last] = ['the next secret of the regatta, long enough', 'the last secret of the regatta, long enough'];
    const reader = new Tokens({ ...configuration, secrets: [next, last] }, own);
    for (const each of [next, last])
      expect(await reader.read(await jwt({ sub: 'pia' }, bytes(each)))).toMatchObject({ user: 'pia' });
    await expect(reader.read(await jwt({ sub: 'pia' }))).rejects.toMatchObject({ code: 'token-invalid' });
    const signed = await signToken({ ...configuration, secrets: [next, last] }, { user: 'pia', forMs: 60_000 });
    expect(await new Tokens({ ...configuration, secrets: [next] }, own).read(signed)).toMatchObject({ user: 'pia' });
  });

  it.each(tokenAlgorithms)('%s are taken with the public key that is configured, and no other', async (algorithm) => {
    const [right, other] = [pair(algorithm), pair(algorithm)];
    const reader = new Tokens(
      {
        ...configuration,
        secrets: [],
        publicKeys: [
          { algorithm, key: other.publicKey },
          { algorithm, key: right.publicKey },
        ],
      },
      own,
    );
    expect(await reader.read(await sign(algorithm, right.privateKey))).toMatchObject({ user: 'pia' });
    await expect(reader.read(await sign(algorithm, pair(algorithm).privateKey))).rejects.toMatchObject({
      code: 'token-invalid',
    });
  });

  it('are not taken under an algorithm that the key was not configured for', async () => {
    const { publicKey } = pair('RS256');
    const reader = new Tokens(
      { ...configuration, secrets: [], publicKeys: [{ algorithm: 'RS256', key: publicKey }] },
      own,
    );
    // The public key, which everybody knows, used as if it were a shared secret.
    const pem = bytes(publicKey.export({ type: 'spki', format: 'pem' }) as string);
    await expect(reader.read(await jwt({ sub: 'pia' }, pem))).rejects.toMatchObject({ code: 'token-invalid' });
  });

  it('are taken with a set of keys at a URL, which is asked again for a key it did not have; if it is not there, later', async () => {
    const first = pair('ES256');
    const jwk = { ...first.publicKey.export({ format: 'jwk' }), kid: 'first', alg: 'ES256' };
    let asked = 0;
    let status = 500;
    const server = createServer((_, response) => {
      asked += 1;
      response.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify({ keys: [jwk] }));
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}/keys`;
    const reader = new Tokens({ ...configuration, jwks: { url, algorithms: ['ES256'] } }, own);
    const token = await sign('ES256', first.privateKey, { kid: 'first' });
    await expect(reader.read(token)).rejects.toMatchObject({ code: 'unavailable' });
    status = 200;
    expect(await reader.read(token)).toMatchObject({ user: 'pia' });
    expect(await reader.read(token)).toMatchObject({ user: 'pia' });
    expect(asked).toBe(2);
    await expect(reader.read(await sign('ES256', first.privateKey, { kid: 'second' }))).rejects.toMatchObject({
      code: 'token-invalid',
    });
    await expect(reader.read(await sign('EdDSA', pair('EdDSA').privateKey))).rejects.toMatchObject({
      code: 'token-invalid',
    });
    expect(await reader.read(await jwt({ sub: 'pia' }))).toMatchObject({ user: 'pia' });
    server.close();
  });

  it('are configured by a file that must hold a key of the right kind', () => {
    const folder = mkdtempSync(join(tmpdir(), 'bells-keys-'));
    writeFileSync(join(folder, 'es.pem'), pair('ES256').publicKey.export({ type: 'spki', format: 'pem' }));
    writeFileSync(join(folder, 'not.pem'), 'ahoy');
    const read = (file: string, algorithm: string) =>
      parseConfiguration(
        `tokens: { publicKeys: [{ file: ${file}, algorithm: ${algorithm} }] }\nchannels: []`,
        join(folder, 'bells.yaml'),
      ).tokens.publicKeys;
    expect(read('es.pem', 'ES256')).toMatchObject([{ algorithm: 'ES256' }]);
    expect(() => read('es.pem', 'RS256')).toThrow('RS256 needs a key of kind rsa, es.pem holds one of kind ec P-256');
    expect(() => read('not.pem', 'ES256')).toThrow('does not hold a public key');
    expect(() => read('nowhere.pem', 'ES256')).toThrow('tokens.publicKeys[0]');
    expect(() => read('es.pem', 'HS256')).toThrow('expected RS256, ES256 or EdDSA');
    rmSync(folder, { recursive: true });
  });

  it('of the workbench say what a user of the application would, for as long as the key that asked for them is valid', async () => {
    const wish = {
      user: 'tomas',
      name: 'Tomas Verne',
      roles: ['skipper'],
      claims: { boats: ['petrel'] },
      forMs: 60_000,
    };
    const { token } = await tokens.workbench({ id: 'k1', name: 'first' }, wish);
    const who = await tokens.read(token);
    expect(who).toMatchObject({
      user: 'tomas',
      name: 'Tomas Verne',
      roles: ['skipper'],
      guest: false,
      workbench: 'observer:k1',
    });
    expect(who.claims).toMatchObject({ boats: ['petrel'] });
    expect(who.claims).not.toHaveProperty('aud');
    const gone = await tokens.workbench({ id: 'k2', name: 'gone' }, wish);
    const others = new Tokens(configuration, { ...own, workbench: [new Uint8Array(32).fill(9)] });
    for (const [reader, text] of [
      [tokens, gone.token],
      [others, token],
    ] as const)
      await expect(reader.read(text)).rejects.toMatchObject({ code: 'token-invalid' });
    // The application's secret makes no token of the workbench.
    const forged = await jwt({ sub: 'tomas', iss: 'k1', aud: 'nine-bells:workbench', exp: nowS + 60 }, undefined, {
      kid: 'workbench',
    });
    await expect(tokens.read(forged)).rejects.toMatchObject({ code: 'token-invalid' });
    await expect(tokens.workbench({ id: 'k1', name: 'first' }, { ...wish, user: 'guest:1' })).rejects.toMatchObject({
      code: 'bad-value',
    });
  });
});
