/** A keyed hash (HMAC). Instances of one service share the key. */
export interface Hmac {
  /** The MAC of `text`, as text of `A-Z a-z 0-9 - _`, at least 32 characters. */
  sign(text: string): string;
  /** Compares in constant time. */
  matches(text: string, mac: string): boolean;
  /** A digest without a key (SHA-256), which takes less time: to know a text again that cannot be guessed. */
  digest(text: string): string;
}
