const unitsMs: Readonly<Record<string, number>> = { s: 1_000, m: 60_000, h: 3_600_000, d: 86_400_000 };

/**
 * The value of the condition `author`: `always`, or for how long after a message was published, such as `within 15m`.
 *
 * @throws {RangeError} if it is neither
 */
export function authorWithin(text: string): { readonly withinMs?: number } {
  if (text === 'always') return {};
  const [, count, unit] = /^within ([1-9][0-9]{0,5})([smhd])$/.exec(text) ?? [];
  if (count === undefined)
    throw new RangeError(`expected always, or within a time such as within 15m, found ${JSON.stringify(text)}`);
  return { withinMs: Number(count) * (unitsMs[unit as string] as number) };
}
