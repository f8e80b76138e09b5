/** Whether a text matches a glob, in which `*` stands for any text. Takes time in proportion to both lengths at most. */
export function matchesGlob(glob: string, text: string): boolean {
  let at = 0;
  let inGlob = 0;
  let star = -1;
  let resumeAt = 0;
  while (at < text.length) {
    if (glob[inGlob] === '*') {
      star = inGlob++;
      resumeAt = at;
    } else if (glob[inGlob] === text[at]) {
      inGlob += 1;
      at += 1;
    } else if (star !== -1) {
      // The last star takes one more character.
      inGlob = star + 1;
      at = ++resumeAt;
    } else return false;
  }
  while (glob[inGlob] === '*') inGlob += 1;
  return inGlob === glob.length;
}
