import type { Position as Reported } from './regatta.js';

/** A point on the sound, in metres from the corner at the upper left of the map. */
export interface Point {
  readonly x: number;
  readonly y: number;
}

/** Position of a boat: an entry of the board of `race/:race/positions`, as a tracker reports it. */
export type Position = Required<Reported>;

export const mapSize = { width: 1000, height: 560 } as const;
export const boats = ['petrel', 'turnstone', 'dunlin', 'wigeon', 'sandpiper', 'knot', 'curlew', 'whimbrel'] as const;

export const startLine: readonly [Point, Point] = [
  { x: 250, y: 480 },
  { x: 470, y: 480 },
];
export const marks: readonly (Point & { readonly name: string })[] = [
  { name: 'windward mark', x: 470, y: 80 },
  { name: 'reach mark', x: 860, y: 270 },
  { name: 'leeward mark', x: 560, y: 440 },
];

/** The course, from the start to the finish, which is the same line. */
const legs: readonly (Point & { readonly name: string })[] = [
  ...marks,
  marks[0] as (typeof marks)[number],
  { name: 'finish', x: 360, y: 480 },
];

/** Durations of the start sequence, and from one warning signal to the next, in milliseconds. */
export const startMs = 20_000;
export const raceMs = 170_000;
/** The committee's signals of a race, and when they are made, in milliseconds after the warning. */
export const sequence = [
  { atMs: 0, signal: 'warning' },
  { atMs: 8_000, signal: 'preparatory' },
  { atMs: 14_000, signal: 'one-minute' },
  { atMs: startMs, signal: 'start' },
  { atMs: 90_000, signal: 'shortened-course' },
] as const;

/** Returns a boat's position, given the milliseconds since the warning signal. A drawing, not a simulation of sailing. */
export function positionAt(boat: (typeof boats)[number], atMs: number, n: number): Position {
  const lane = boats.indexOf(boat);
  const [here, soon] = [pointAt(lane, atMs), pointAt(lane, atMs + 400)];
  const [dx, dy] = [soon.x - here.x, soon.y - here.y];
  const heading = (Math.round((Math.atan2(dx, -dy) * 180) / Math.PI) + 360) % 360;
  const round = (value: number): number => Math.round(value * 10) / 10;
  return {
    x: round(here.x),
    y: round(here.y),
    heading,
    speed: round(Math.min(9, Math.hypot(dx, dy) / 1.5)),
    to: here.to.replace(' mark', ''),
    n,
  };
}

function pointAt(lane: number, atMs: number): Point & { readonly to: string } {
  const place = (lane - 3.5) * 26;
  const sailedMs = atMs - startMs;
  if (sailedMs < 0) {
    // Before the start the fleet goes to and fro behind the line.
    const sway = Math.sin(atMs / 3_000 + lane * 1.7) * 45 * Math.min(1, -sailedMs / 4_000);
    return { x: 360 + place + sway, y: 505 + Math.abs(sway) / 3, to: 'start' };
  }
  const pace = 21 + ((lane * 5) % 8) * 0.5;
  let left = (sailedMs / 1000) * pace * (1 + 0.04 * Math.sin(atMs / 9_000 + lane));
  let from: Point = { x: 360 + place, y: 505 };
  for (const to of legs) {
    const length = Math.hypot(to.x - from.x, to.y - from.y);
    if (left < length) {
      const part = left / length;
      // Against the wind a boat goes in zigzags; everywhere each keeps a lane of its own between the marks.
      const isUpwind = to.name === 'windward mark';
      const swing = isUpwind ? Math.asin(Math.sin(part * 13 + lane * 2)) * 16 : 0;
      const aside = Math.sin(part * Math.PI) * (place * 0.45 + swing);
      const [ux, uy] = [(to.x - from.x) / length, (to.y - from.y) / length];
      return { x: from.x + ux * left - uy * aside, y: from.y + uy * left + ux * aside, to: to.name };
    }
    left -= length;
    from = to;
  }
  const drift = Math.min(left, 40 + lane * 6);
  return { x: from.x + place * 0.9, y: from.y + 12 + drift * 0.6, to: 'harbour' };
}
