import { closeCodes } from '@nine-bells/wire';
import { describe, expect, it } from 'vitest';
import { canonicalAddress, readRange, unitOf } from '../src/index.js';
import { harness } from './harness.js';

const mira = { kind: 'key', id: 'k1' } as const;

describe('an address', () => {
  it.each([
    ['192.0.2.7', '192.0.2.7', '192.0.2.7'],
    ['::ffff:192.0.2.7', '192.0.2.7', '192.0.2.7'],
    ['::ffff:c000:0207', '192.0.2.7', '192.0.2.7'],
    ['2001:DB8:0:0:0:0:0:1', '2001:db8::1', '2001:db8::/64'],
    ['2001:0db8:0000:0001:aaaa:bbbb:cccc:dddd', '2001:db8:0:1:aaaa:bbbb:cccc:dddd', '2001:db8:0:1::/64'],
    ['[2001:db8::1]', '2001:db8::1', '2001:db8::/64'],
    ['fe80::1%eth0', 'fe80::1', 'fe80::/64'],
    ['', '', ''],
    ['localhost', 'localhost', 'localhost'],
    ['3232235521', '3232235521', '3232235521'],
  ])('%s is %s, and counts as %s', (text, canonical, unit) => {
    expect([canonicalAddress(text), unitOf(text)]).toEqual([canonical, unit]);
  });

  it.each([
    ['192.0.2.7', '192.0.2.7'],
    ['192.0.2.7/32', '192.0.2.7'],
    ['192.0.2.7/24', '192.0.2.0/24'],
    ['2001:DB8::1/33', '2001:db8::/33'],
    ['2001:db8::1/128', '2001:db8::1'],
  ])('%s is the range %s', (text, range) => expect(readRange(text).text).toBe(range));

  it.each([
    '',
    'pier',
    '192.0.2',
    '192.0.2.7/33',
    '192.0.2.7/',
    '0.0.0.0/0',
    '2001:db8::/8',
    '10.0.0.0/8/8',
    '1.2.3.4/1e1',
  ])('%s is no range', (text) => expect(() => readRange(text)).toThrow(RangeError));
});

describe('a ban of', () => {
  it.each([
    ['2001:DB8:0::1', '2001:db8::1', '2001:db8::2'],
    ['2001:db8::/64', '2001:db8::ffff:1', '2001:db8:0:1::1'],
    ['192.0.2.0/24', '::ffff:192.0.2.200', '192.0.3.1'],
    ['::ffff:192.0.2.9', '192.0.2.9', '192.0.2.10'],
  ])('%s keeps out %s, there or coming, and not %s', async (address, within, outside) => {
    const { welcomed, engine, connect, settle } = harness();
    const there = await welcomed('pia', {}, engine, canonicalAddress(within));
    const other = await welcomed('jory', {}, engine, outside);
    const { action } = await engine.moderation.ban({ address }, mira);
    await settle();
    expect([there.closedWith?.code, other.closedWith]).toEqual([closeCodes.signedOut, undefined]);
    expect(connect(engine, canonicalAddress(within)).closedWith?.code).toBe(closeCodes.signedOut);
    expect(connect(engine, outside).closedWith).toBeUndefined();
    await engine.moderation.unban(action.id, mira);
    await settle();
    expect(connect(engine, canonicalAddress(within)).closedWith).toBeUndefined();
  });

  it('what is no address is refused, with how to write one', async () => {
    await expect(harness().engine.moderation.ban({ address: '10.0.0.0/4' }, mira)).rejects.toMatchObject({
      problem: { code: 'bad-value', where: '/address', detail: expect.stringContaining('192.0.2.0/24') },
    });
  });
});

describe('limits for one address', () => {
  it('count a /64 network of IPv6 as one', async () => {
    const { connect, engine } = harness({ connectionsPerAddress: 2 });
    const from = (host: string) => connect(engine, `2001:db8:0:1::${host}`).closedWith?.code;
    expect(['1', '2', '3'].map(from)).toEqual([undefined, undefined, closeCodes.tryLater]);
    expect(connect(engine, '2001:db8:0:2::1').closedWith).toBeUndefined();
  });
});
