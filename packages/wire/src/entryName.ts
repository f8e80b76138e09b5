import { protocolLimits } from './limits.js';

const namePattern = /^[A-Za-z0-9][A-Za-z0-9\-._~@+=,:/]*$/;

/** Says what is wrong with the name of a board's entry, for people, or `undefined` if nothing is. */
export function entryNameFault(name: string): string | undefined {
  if (name.length === 0) return "an entry's name has at least one character";
  if (name.length > protocolLimits.entryChars)
    return `an entry's name has at most ${protocolLimits.entryChars} characters, this one has ${name.length}`;
  if (namePattern.test(name)) return undefined;
  return `an entry's name begins with a letter or digit and holds letters, digits and - . _ ~ @ + = , : / only, unlike ${JSON.stringify(name)}`;
}
