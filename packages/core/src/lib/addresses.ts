import ipaddr from 'ipaddr.js';
import { BoundedMap } from './boundedMap.js';

/** Addresses that share a prefix (RFC 4632, RFC 4291): `192.0.2.0/24`, `2001:db8::/32`. */
export interface AddressRange {
  /** As it is written in one way only; a range of one address has no prefix length. */
  readonly text: string;
  readonly family: 'ipv4' | 'ipv6';
  /** Bits that all its addresses have in common. */
  readonly bits: number;
}

/** The bits that belong to one customer: IPv6 networks are given out in blocks, of which one client has any address. */
const unitBits = { ipv4: 32, ipv6: 64 } as const;
const allBits = { ipv4: 32, ipv6: 128 } as const;
/** Wider ranges are taken for a mistake. */
const fewestBits = { ipv4: 8, ipv6: 16 } as const;

/** What was found out of so many addresses is remembered, and their texts are shared: each connection asks several times. */
const maxRemembered = 4_096;
/** Longer texts are no addresses, and not remembered. */
const maxAddressChars = 64;
const canonical = new BoundedMap<string, string>(maxRemembered);
const units = new BoundedMap<string, string>(maxRemembered);

/**
 * An address as it is written in one way only (RFC 5952); an IPv4 address that came over an IPv6 socket is the IPv4 address
 * (RFC 4291, section 2.5.5.2). A text that is no address stays as it is.
 */
export function canonicalAddress(text: string): string {
  return remembered(canonical, text, () => parsed(text)?.toString() ?? text);
}

/** What limits for one address count: an IPv4 address, or the /64 network of an IPv6 address. */
export function unitOf(address: string): string {
  return remembered(units, address, () => {
    const found = parsed(address);
    return found === undefined ? address : masked(found, unitBits[found.kind()]).text;
  });
}

function remembered(all: Map<string, string>, text: string, find: () => string): string {
  const known = all.get(text);
  if (known !== undefined) return known;
  const found = find();
  if (text.length <= maxAddressChars) all.set(text, found);
  return found;
}

/**
 * Reads an address or a range.
 *
 * @throws {RangeError} with what is wrong
 */
export function readRange(text: string): AddressRange {
  const [address = '', bitsText, ...rest] = text.split('/');
  const found = parsed(address);
  const expected = 'expected an IPv4 or IPv6 address, or a range such as 192.0.2.0/24';
  if (found === undefined || rest.length > 0) throw new RangeError(expected);
  const family = found.kind();
  const most = allBits[family];
  const bits = bitsText === undefined ? most : /^\d{1,3}$/.test(bitsText) ? Number(bitsText) : Number.NaN;
  if (!(bits >= fewestBits[family] && bits <= most))
    throw new RangeError(`${expected}, of ${fewestBits[family]} to ${most} bits`);
  return masked(found, bits);
}

/** The range of so many bits in which an address is; `undefined` for a text that is none, or another family's. */
export function rangeOf(address: string, family: 'ipv4' | 'ipv6', bits: number): string | undefined {
  const found = parsed(address);
  return found?.kind() === family ? masked(found, bits).text : undefined;
}

/** Whether an address is in a range. */
export function isWithin(address: string, { text, family, bits }: AddressRange): boolean {
  return rangeOf(address, family, bits) === text;
}

type Address = ipaddr.IPv4 | ipaddr.IPv6;

function parsed(text: string): Address | undefined {
  // A zone says on which link of this machine an address is (RFC 4007, section 11), and is no part of it.
  const bare = text.replace(/^\[(.*)\]$/, '$1').replace(/%.*$/, '');
  // IPv4 in four decimal parts only: no client's address is written in any other way.
  if (!ipaddr.IPv6.isValid(bare) && !ipaddr.IPv4.isValidFourPartDecimal(bare)) return undefined;
  return ipaddr.process(bare);
}

function masked(address: Address, bits: number): AddressRange {
  const family = address.kind();
  const bytes = address.toByteArray();
  for (const [index, byte] of bytes.entries()) {
    const kept = Math.min(8, Math.max(0, bits - index * 8));
    bytes[index] = byte & (0xff << (8 - kept));
  }
  const network = ipaddr.fromByteArray(bytes).toString();
  return { text: bits === allBits[family] ? network : `${network}/${bits}`, family, bits };
}
