import type { Verb } from '@nine-bells/wire';
import type { Act } from '../model/access.js';

/**
 * What is decided before a verb of the line does anything: an act, or `own` for what concerns only the client's own
 * session and user. Every verb stands here; the compiler sees to it.
 */
export const decidedFor: Readonly<Record<Verb, Act | 'own'>> = {
  hello: 'enter',
  enter: 'enter',
  leave: 'own',
  publish: 'publish',
  hail: 'hail',
  set: 'set',
  read: 'read',
  status: 'own',
  mark: 'enter',
  unread: 'own',
  watch: 'watch',
  unwatch: 'own',
  inbox: 'own',
  remove: 'moderate',
  refresh: 'enter',
  pulse: 'own',
};
