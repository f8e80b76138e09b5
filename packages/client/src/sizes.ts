/** How many bytes a text has as UTF-8. */
export function utf8Bytes(text: string): number {
  return new TextEncoder().encode(text).length;
}
