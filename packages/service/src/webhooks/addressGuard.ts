import { lookup as lookUp } from 'node:dns';
import { isIP, type LookupFunction } from 'node:net';
import { type AddressRange, isWithin } from '@nine-bells/core';
import ipaddr from 'ipaddr.js';

/** IPv6 addresses that stand for an IPv4 address (RFC 4291, 2.5.5.1): some systems send to that one. */
const compatible = ipaddr.IPv6.parseCIDR('::/96');
/** Names that are local everywhere (RFC 6761, 6.3; RFC 6762, 3; RFC 8375), and `internal`. */
const localNames = /(^|\.)(localhost|local|internal|home\.arpa)\.?$/i;

/** Tells whether requests may be sent to an address. */
export class AddressGuard {
  readonly #ranges: readonly AddressRange[];

  /** @param ranges - addresses that are allowed beside public ones */
  constructor(ranges: readonly AddressRange[]) {
    this.#ranges = ranges;
  }

  /** Public addresses, and those that the operator has allowed. */
  allows(address: string): boolean {
    if (this.#ranges.some((range) => isWithin(address, range))) return true;
    if (!ipaddr.isValid(address)) return false;
    const parsed = ipaddr.process(address);
    if (parsed instanceof ipaddr.IPv6 && parsed.match(compatible)) return false;
    return parsed.range() === 'unicast';
  }

  /**
   * Checks the host of a URL: an address, or a name that is local everywhere. Other names are checked when they have been looked up,
   * and so are local ones where the operator allows some addresses.
   *
   * @throws {RangeError}
   */
  check(url: string): void {
    const host = new URL(url).hostname.replace(/^\[(.*)\]$/, '$1');
    const isRefused = isIP(host) === 0 ? this.#ranges.length === 0 && localNames.test(host) : !this.allows(host);
    if (isRefused) throw new RangeError(privateText(host));
  }

  /** Looks up a name as the system does, and fails where it leads to an address that is not allowed. */
  readonly lookup: LookupFunction = (hostname, options, callback) => {
    lookUp(hostname, { ...options, all: true }, (error, addresses) => {
      const refused = addresses?.find(({ address }) => !this.allows(address));
      const [first] = addresses ?? [];
      if (error !== null) callback(error, '', 0);
      else if (refused !== undefined) callback(new RangeError(privateText(refused.address)), '', 0);
      else if (options.all) callback(null, addresses);
      else if (first === undefined) callback(new Error(`${hostname} has no address`), '', 0);
      else callback(null, first.address, first.family);
    });
  };
}

function privateText(address: string): string {
  return `${address} is not a public address; the operator may allow it (service.hookNetworks)`;
}
