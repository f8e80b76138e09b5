/** The names of pages, as in the menu and in the browser's tab; and sentences that several pages share. */
export const texts = {
  overview: 'Overview',
  search: 'Search',
  traffic: 'Traffic',
  rules: 'Rules',
  sessions: 'Sessions',
  instances: 'Instances',
  webhooks: 'Webhooks',
  trace: 'Trace',
  access: 'Access',
  people: 'People',
  keys: 'Keys',
  workbench: 'Workbench',
  pageFailed: 'This page failed. Reload it, or go to another.',
  signedOut: 'your sign-in has ended',
  signOutMeans: 'All its sessions end, and earlier tokens are revoked.',
  previousPage: 'Previous page',
  nextPage: 'Next page',
  findChannel: 'Find a channel by its name',
  findSession: 'Find a user, session, address or channel',
  findBan: 'Find a user, address, channel or reason',
  findAudit: 'Only about the user with this id',
  unbanMeans: 'The user may come back at once.',
} as const;

const moments = new Intl.DateTimeFormat(undefined, { dateStyle: 'medium', timeStyle: 'medium' });
const days = new Intl.DateTimeFormat(undefined, { dateStyle: 'medium' });
const clockTimes = new Intl.DateTimeFormat(undefined, { timeStyle: 'medium' });
const numbers = new Intl.NumberFormat();

/** A moment, in the reader's time zone and way of writing. */
export function dayTime(at: string): string {
  return moments.format(new Date(at));
}

/** The time of day, in the reader's time zone and way of writing. */
export function timeOfDay(at: string): string {
  return clockTimes.format(new Date(at));
}

/** How long ago something was, in words. */
export function ago(at: string | undefined): string {
  if (at === undefined) return '';
  const seconds = Math.max(0, Math.round((Date.now() - Date.parse(at)) / 1000));
  if (seconds < 5) return 'just now';
  if (seconds < 60) return `${seconds} s ago`;
  if (seconds < 3600) return `${Math.round(seconds / 60)} min ago`;
  if (seconds < 86_400) return `${Math.round(seconds / 3600)} h ago`;
  return days.format(new Date(at));
}

/** A rate per second, with as many digits as it deserves. */
export function rateText(rate: number | undefined): string {
  if (rate === undefined) return '–';
  if (rate > 0 && rate < 10) return rate.toFixed(1);
  return numbers.format(Math.round(rate));
}
