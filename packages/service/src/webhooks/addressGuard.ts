import { lookup as lookUp } from 'node:dns';
import { isIP, type LookupFunction } from 'node:net';
import { type AddressRange, isWithin } from '@nine-bells/core';
import ipaddr from 'ipaddr.js';

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
    return ipaddr.isValid(address) && ipaddr.process(address).range() === 'unicast';
  }

  /**
   * Checks the host of a URL where it is an address; a name is checked when it has been looked up.
   *
   * @throws {RangeError}
   */
  check(url: string): void {
    const host = new URL(url).hostname.replace(/^\[(.*)\]$/, '$1');
    if (isIP(host) !== 0 && !this.allows(host)) throw new RangeError(privateText(host));
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
