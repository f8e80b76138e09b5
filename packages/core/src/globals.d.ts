/**
 * The only thing the core takes from its surroundings that the language does not have: UTF-8 (Encoding standard).
 * Timers, the network, files and the process are not declared here, so the compiler refuses them in the core.
 */
declare class TextEncoder {
  encode(text: string): Uint8Array<ArrayBuffer>;
  encodeInto(text: string, into: Uint8Array): { readonly read: number; readonly written: number };
}
