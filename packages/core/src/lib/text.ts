/** Whether a text has another in it, whatever the case of either. */
export function hasText(text: string, find: string): boolean {
  return find === '' || text.toLowerCase().includes(find.toLowerCase());
}

/** Compares texts without telling by the time taken where they differ. */
export function isSameText(expected: string | undefined, given: string): boolean {
  if (expected?.length !== given.length) return false;
  let difference = 0;
  for (let at = 0; at < given.length; at++) difference |= expected.charCodeAt(at) ^ given.charCodeAt(at);
  return difference === 0;
}
