import { readRange } from '@nine-bells/core';
import { describe, expect, it } from 'vitest';
import { AddressGuard } from '../src/webhooks/addressGuard.js';

const guard = new AddressGuard([]);
const lookUp = (by: AddressGuard, name: string): Promise<string> =>
  new Promise((resolve, reject) =>
    by.lookup(name, {}, (error, address) => (error === null ? resolve(String(address)) : reject(error))),
  );

describe('hooks that are registered over HTTP', () => {
  it.each([
    '127.0.0.1',
    '10.1.2.3',
    '169.254.1.1',
    '[::]',
    '[::1]',
    '[::127.0.0.1]',
    '[::a01:203]',
    '[::ffff:10.1.2.3]',
    '[64:ff9b::10.1.2.3]',
    '[fe80::1]',
    '[fd00::1]',
    '2130706433',
    'localhost',
    'desk.localhost',
    'desk.local.',
    'desk.Internal',
  ])('may not lead to %s', (host) => {
    expect(() => guard.check(`http://${host}:80/`)).toThrow('is not a public address');
  });

  it.each(['192.0.1.1', '[2600::1]', 'office.example', 'local.example'])('may lead to %s', (host) => {
    expect(() => guard.check(`http://${host}/`)).not.toThrow();
  });

  it('are looked up each time: a name may lead to an address that is not public', async () => {
    await expect(lookUp(guard, 'localhost')).rejects.toThrow('is not a public address');
    const allowed = new AddressGuard(['127.0.0.0/8', '::1/128'].map(readRange));
    allowed.check('http://localhost/');
    expect(await lookUp(allowed, 'localhost')).toMatch(/^(127\.0\.0\.1|::1)$/);
  });
});
