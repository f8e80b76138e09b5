/** A moment, in the reader's time zone: `2031-06-14 12:03:11`. */
export function dayTime(at: string): string {
  return new Date(at).toLocaleString('sv-SE');
}

/** How long ago something was, in words. */
export function ago(at: string | undefined): string {
  if (at === undefined) return '';
  const seconds = Math.max(0, Math.round((Date.now() - Date.parse(at)) / 1000));
  if (seconds < 5) return 'just now';
  if (seconds < 60) return `${seconds} s ago`;
  if (seconds < 3600) return `${Math.round(seconds / 60)} min ago`;
  if (seconds < 86_400) return `${Math.round(seconds / 3600)} h ago`;
  return new Date(at).toLocaleDateString();
}

/** A rate per second, with as many digits as it deserves. */
export function rateText(rate: number | undefined): string {
  if (rate === undefined) return '–';
  if (rate > 0 && rate < 10) return rate.toFixed(1);
  return Math.round(rate).toLocaleString('en');
}
