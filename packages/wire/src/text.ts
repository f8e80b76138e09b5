/**
 * Characters that no id, key or other short text may have: control characters and halves of surrogate pairs. A
 * database returns the latter as something else (Unicode, section 3.9).
 */
// biome-ignore lint/suspicious/noControlCharactersInRegex: the pattern looks for control characters
export const unfitCharacter = /[\u0000-\u001f\u007f\p{Cs}]/u;

// biome-ignore lint/suspicious/noControlCharactersInRegex: the pattern removes control characters
const controls = /[\u0000-\u001f\u007f-\u009f]/g;
const lone = /\p{Cs}/gu;

/** Shortens a text to at most `maxChars` UTF-16 code units, and never in the middle of a character. */
export function shortened(text: string, maxChars: number): string {
  if (text.length <= maxChars) return text;
  const last = text.charCodeAt(maxChars - 1);
  return text.slice(0, last >= 0xd800 && last <= 0xdbff ? maxChars - 1 : maxChars);
}

/** A short text as it may be kept and shown anywhere, in a terminal too: without control characters, and well-formed. */
export function plainText(text: string, maxChars: number): string {
  return shortened(text.replaceAll(controls, '').replaceAll(lone, '\u{fffd}'), maxChars);
}

/** A text as every database takes it: U+FFFD in place of NUL and of halves of surrogate pairs. */
export function storableText(text: string, maxChars: number): string {
  return shortened(text, maxChars).replaceAll('\0', '\u{fffd}').replaceAll(lone, '\u{fffd}');
}
