/** Whether a text has another in it, whatever the case of either. */
export function hasText(text: string, find: string): boolean {
  return find === '' || text.toLowerCase().includes(find.toLowerCase());
}
