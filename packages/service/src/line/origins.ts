/**
 * Whether a page of an origin may open a line (RFC 6454). Pages that the service serves itself always may, by whichever name
 * it was reached.
 *
 * @param host - the request's `Host`
 * @param origins - as configured; absent: any
 */
export function mayOpen(
  origin: string | undefined,
  host: string | undefined,
  origins: readonly string[] | undefined,
): boolean {
  if (origin === undefined || origins === undefined || origins.includes(origin)) return true;
  return URL.canParse(origin) && new URL(origin).host === host;
}
