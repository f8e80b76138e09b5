import { overlap, type Pattern, parsePattern } from '@nine-bells/core';
import type { Finding, Reader } from '@nine-bells/yaml';
import { distance } from 'fastest-levenshtein';

/** Reads a pattern of channels, or a channel with values in it, and warns where no channel rule matches it. */
export function mentionedPattern(reader: Reader<string>): Reader<string> {
  return (node, at) => {
    const value = reader(node, at);
    if (value !== undefined) at.afterwards(node, (document) => unmatched(value, patternsIn(document)));
    return value;
  };
}

/** Reads the pattern of a channel rule, and warns where fixed text in it looks like a parameter or a separator. */
export function rulePattern(reader: Reader<string>): Reader<string> {
  return (node, at) => {
    const value = reader(node, at);
    if (value !== undefined) at.afterwards(node, () => oddText(parsePattern(value)));
    return value;
  };
}

function unmatched(text: string, rules: readonly string[]): Finding | undefined {
  const pattern = parsePattern(text);
  if (rules.some((rule) => overlap(pattern, parsePattern(rule)))) return undefined;
  const nearest = [...rules].sort((a, b) => distance(a, text) - distance(b, text))[0];
  const help = nearest === undefined ? '' : `; the nearest rule is ${nearest}`;
  return { warning: `no channel rule matches ${text}${help}` };
}

function oddText({ segments }: Pattern): Finding | undefined {
  const odd = segments.flatMap((each) => ('literal' in each && /[.:]/.test(each.literal) ? [each.literal] : []))[0];
  if (odd === undefined) return undefined;
  return {
    warning: `${odd} is fixed text: "." and ":" within a segment do not divide it. Segments are divided by "/", and a parameter is a whole segment such as ${odd.replace(/^([^.:]*)[.:]+/, '$1/:')}`,
  };
}

function patternsIn(document: unknown): readonly string[] {
  const { channels = [] } = document as { channels?: readonly { readonly pattern: string }[] };
  return channels.map(({ pattern }) => pattern);
}
