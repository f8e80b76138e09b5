import { type Json, refusal, shortened } from '@nine-bells/wire';
import { valueAt } from '../lib/jsonPointer.js';
import type { SearchQuery, SearchTerm } from '../model/search.js';

/** Words of one message that are found, and characters of its texts that are looked at. */
const maxWords = 2_000;
const maxChars = 20_000;
/** Longest word, in characters; what is longer is cut. */
const wordChars = 64;
/** Letters that the beginning of a word has at least. */
const prefixChars = 2;
/** Most terms of a search. */
const maxTerms = 10;

/** Letters of scripts that put no spaces between words: each is a word, and words are found as letters that stand together. */
const single =
  '[\\p{Script=Han}\\p{Script=Hiragana}\\p{Script=Katakana}\\p{Script=Thai}\\p{Script=Lao}\\p{Script=Khmer}\\p{Script=Myanmar}]';
const wordPattern = new RegExp(`${single}\\p{M}*|(?:(?!${single})[\\p{L}\\p{N}\\p{M}])+`, 'gu');

/** The same for texts of ASCII characters only, in a tenth of the time. */
const ascii = /^[\0-\x7f]*$/;
const asciiPattern = /[a-z0-9]+/gi;

/** A word, and where it stands in its text, in UTF-16 code units. */
export interface FoundWord {
  readonly word: string;
  readonly from: number;
  readonly to: number;
}

/** The words of a text, without case and accents. */
export function wordsIn(text: string): readonly FoundWord[] {
  const found: FoundWord[] = [];
  const looked = shortened(text, maxChars);
  const isAscii = ascii.test(looked);
  for (const { 0: written, index } of looked.matchAll(isAscii ? asciiPattern : wordPattern)) {
    const word = isAscii ? written.toLowerCase().slice(0, wordChars) : folded(written);
    if (word !== '') found.push({ word, from: index, to: index + written.length });
    if (found.length >= maxWords) break;
  }
  return found;
}

function folded(written: string): string {
  const letters = written.normalize('NFKD').replace(/[^\p{L}\p{N}]/gu, '');
  return shortened(letters.toLowerCase(), wordChars);
}

/**
 * What a message says, for search: the texts at these places of its data, or the data itself if that is a text.
 *
 * @param places - JSON Pointers (RFC 6901)
 */
export function searchedText(data: Json, places: readonly string[]): string {
  if (typeof data === 'string') return data;
  return places
    .map((place) => valueAt(data, place))
    .filter((each) => typeof each === 'string')
    .join('\n');
}

/**
 * Reads what is looked for: words, `"words together"`, `word*`, and `-` before what must not be there. Everything else in it
 * separates words, so that no text is a mistake.
 *
 * @throws {ProblemError} `bad-value` if there is no word that must be there, or too many terms
 */
export function queryOf(text: string): SearchQuery {
  const query: { all: SearchTerm[]; none: SearchTerm[] } = { all: [], none: [] };
  for (const [, minus, together, plain = ''] of text.matchAll(/(?<=^|\s)(-)?(?:"([^"]*)"?|(\S+))/g)) {
    const words = wordsIn(together ?? plain).map(({ word }) => word);
    if (words.length === 0) continue;
    // One letter alone begins too many words.
    const isPrefix = together === undefined && plain.endsWith('*') && (words.at(-1) ?? '').length >= prefixChars;
    query[minus === undefined ? 'all' : 'none'].push({ words, isPrefix });
  }
  const where = '/words';
  if (query.all.length === 0) throw refusal('bad-value', 'no word is looked for', { where });
  if (query.all.length + query.none.length > maxTerms)
    throw refusal('bad-value', `at most ${maxTerms} words are looked for at once`, { where });
  return query;
}

/** Where a term begins in words, by index. */
export function placesOf({ words, isPrefix }: SearchTerm, found: readonly FoundWord[]): readonly number[] {
  const places: number[] = [];
  for (let start = 0; start + words.length <= found.length; start++) {
    const fits = words.every((word, index) => {
      const { word: there } = found[start + index] as FoundWord;
      return isPrefix && index === words.length - 1 ? there.startsWith(word) : there === word;
    });
    if (fits) places.push(start);
  }
  return places;
}
