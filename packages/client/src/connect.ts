import { Line } from './line.js';
import type { LineOptions } from './types.js';

/**
 * Opens a line to the service.
 *
 * Works in browsers and in Node.js; there, up to version 20, with the package `ws`.
 *
 * @param url - where the service is, such as `https://bells.regatta.example`; in a browser it may be relative
 *
 * @example
 * const line = connect('http://127.0.0.1:9119', { token });
 * const chat = line.enter('race/3/chat', { last: 50 });
 * for await (const message of chat) console.log(message.by?.name, message.data);
 */
export function connect(url: string, options: LineOptions = {}): Line {
  return new Line(url, options);
}
