import type { SearchQuery } from '../model/search.js';
import { type FoundWord, placesOf } from './words.js';

/** Characters of a hit's text, and of what stands before the first word that was found. */
const shownChars = 160;
const beforeChars = 50;
/** A message as old as this counts half as much as one of now, in milliseconds. */
const halfLifeMs = 60 * 86_400_000;

/** How well a text fits, and what is shown of it. */
export interface Fit {
  readonly score: number;
  readonly text: string;
  readonly marks: readonly { readonly from: number; readonly to: number }[];
}

/** How well a text fits what is looked for; `undefined`: not at all. */
export function fitOf(text: string, words: readonly FoundWord[], query: SearchQuery, ageMs: number): Fit | undefined {
  if (query.none.some((term) => placesOf(term, words).length > 0)) return undefined;
  const spans: [from: number, to: number][] = [];
  let often = 0;
  for (const term of query.all) {
    const places = placesOf(term, words);
    if (places.length === 0) return undefined;
    // Many times is better than once, by less and less; and words that stand together more than one alone.
    often += (1 + Math.log(places.length)) * term.words.length;
    for (const start of places)
      spans.push([(words[start] as FoundWord).from, (words[start + term.words.length - 1] as FoundWord).to]);
  }
  const age = 2 ** -(Math.max(0, ageMs) / halfLifeMs);
  const score = (often / Math.sqrt(words.length + 8)) * (1 + age);
  return { score, ...shownOf(text, merged(spans)) };
}

/** Spans in their order, those that touch as one. */
function merged(spans: readonly [number, number][]): readonly [number, number][] {
  const joined: [number, number][] = [];
  for (const [from, to] of [...spans].sort((a, b) => a[0] - b[0])) {
    const last = joined.at(-1);
    if (last !== undefined && from <= last[1]) last[1] = Math.max(last[1], to);
    else joined.push([from, to]);
  }
  return joined;
}

/** The part of a text around the first word that was found, on one line. */
function shownOf(text: string, spans: readonly [number, number][]): Pick<Fit, 'text' | 'marks'> {
  const first = spans[0]?.[0] ?? 0;
  const wanted = first <= beforeChars ? 0 : first - beforeChars;
  // Not within a word, nor within a character.
  const start = wanted === 0 ? 0 : text.slice(wanted, first).search(/\s\S*/) + wanted + 1;
  const end = Math.min(text.length, start + shownChars);
  const atSpace = text.lastIndexOf(' ', end);
  const wish = end === text.length ? end : Math.max(atSpace > start ? atSpace : end, spans[0]?.[1] ?? 0);
  const cut = /[\uD800-\uDBFF]/.test(text.charAt(wish - 1)) ? wish - 1 : wish;
  const head = start === 0 ? '' : '… ';
  const shown = text.slice(start, cut).replaceAll(/\s/g, ' ');
  const marks = spans
    .filter(([from, to]) => from >= start && to <= cut)
    .map(([from, to]) => ({ from: from - start + head.length, to: to - start + head.length }));
  return { text: `${head}${shown}${cut < text.length ? ' …' : ''}`, marks };
}
