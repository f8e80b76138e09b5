import type { Json } from '../json.js';
import { amount, times } from './keepText.js';

/** An access rule in words. */
export function accessText(rule: Json): string {
  if (typeof rule === 'string') return rule;
  if (typeof rule !== 'object' || rule === null || Array.isArray(rule)) return JSON.stringify(rule);
  const { role, user, claim, is, holds, among, author, invited, all, any, not, ask } = rule as Readonly<
    Record<string, Json>
  >;
  const list = (parts: Json, word: string): string => (parts as readonly Json[]).map(accessText).join(` ${word} `);
  if (role !== undefined) return `the role ${role}`;
  if (user !== undefined) return `the user ${user}`;
  if (claim !== undefined)
    return is === undefined ? `whose claim ${claim} holds ${holds}` : `whose claim ${claim} is ${is}`;
  if (among !== undefined) return `the users in ${among}`;
  if (author !== undefined) {
    const { withinMs } = author as { readonly withinMs?: number };
    return withinMs === undefined ? 'the author' : `the author within ${amount(withinMs, times, 'ms')}`;
  }
  if (invited !== undefined) return `invited as ${invited}`;
  if (all !== undefined) return list(all, 'and');
  if (any !== undefined) return list(any, 'or');
  if (not !== undefined) return `not ${accessText(not)}`;
  return ask === undefined ? JSON.stringify(rule) : `as ${ask} answers`;
}
