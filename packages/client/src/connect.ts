import type { AnyChannels, ChannelContracts } from './contracts.js';
import { Line } from './line.js';
import type { LineOptions } from './types.js';

/**
 * Opens a line to the service.
 *
 * With a type that `ninebells types` has written, such as `connect<Regatta>(url)`, the compiler knows what passes through each
 * channel by its name.
 *
 * Works in browsers and in Node.js; there, up to version 20, with the package `ws`.
 *
 * @param url - where the service is, such as `https://bells.regatta.example`; in a browser it may be relative
 *
 * @throws {TypeError} if the URL is no text
 *
 * @example
 * const line = connect('http://127.0.0.1:9119', { token });
 * const chat = line.enter('race/3/chat', { last: 50 });
 * for await (const message of chat) console.log(message.by?.name, message.data);
 */
export function connect<C extends ChannelContracts = AnyChannels>(url: string, options: LineOptions = {}): Line<C> {
  if (typeof url !== 'string')
    throw new TypeError("connect(url, options): expected a URL such as 'https://bells.regatta.example' or '/'");
  return new Line<C>(url, options);
}
