import type { Json } from '@nine-bells/wire';

/** Whether a text is a JSON Pointer (RFC 6901, section 3). */
export function isJsonPointer(text: string): boolean {
  return text === '' || (text.startsWith('/') && !/~(?![01])/.test(text));
}

/** What a JSON Pointer points to (RFC 6901, section 4); `undefined` if there is nothing. */
export function valueAt(value: Json, pointer: string): Json | undefined {
  let found: Json | undefined = value;
  for (const escaped of pointer.split('/').slice(1)) {
    const name = escaped.replaceAll('~1', '/').replaceAll('~0', '~');
    if (typeof found !== 'object' || found === null || !Object.hasOwn(found, name)) return undefined;
    found = (found as Readonly<Record<string, Json>>)[name];
  }
  return found;
}
