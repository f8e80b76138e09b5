import { mapSize, marks, type Point, startLine } from '../src/course.js';
import type { Position } from '../src/regatta.js';

/** Places of a boat's wake that are drawn. */
const wakePlaces = 70;
/** Minimum distance between them, in metres. */
const wakeStep = 4;

/** Height of a label, in units of the map. */
const labelHeight = 12;

interface Box {
  readonly left: number;
  readonly top: number;
  readonly right: number;
  readonly bottom: number;
}

function overlaps(a: Box, b: Box): boolean {
  return a.left < b.right && b.left < a.right && a.top < b.bottom && b.top < a.bottom;
}

/** The course and the boats on it, on a canvas. */
export class Chart {
  readonly #canvas: HTMLCanvasElement;
  readonly #wakes = new Map<string, Point[]>();

  constructor(canvas: HTMLCanvasElement) {
    this.#canvas = canvas;
  }

  draw(fleet: Iterable<[string, Position]>): void {
    const context = this.#canvas.getContext('2d');
    if (context === null) return;
    const width = this.#canvas.clientWidth;
    const scale = width / mapSize.width;
    const ratio = window.devicePixelRatio;
    const height = mapSize.height * scale;
    if (this.#canvas.width !== Math.round(width * ratio)) {
      this.#canvas.width = Math.round(width * ratio);
      this.#canvas.height = Math.round(height * ratio);
      this.#canvas.style.height = `${height}px`;
    }
    context.setTransform(ratio * scale, 0, 0, ratio * scale, 0, 0);
    context.clearRect(0, 0, mapSize.width, mapSize.height);
    const colours = getComputedStyle(this.#canvas);
    const colour = (name: string): string => colours.getPropertyValue(name);
    this.#drawCourse(context, colour);
    const boats = [...fleet];
    for (const [boat, position] of boats) this.#drawBoat(context, colour, boat, position);
    this.#drawLabels(context, colour, boats);
  }

  /** Labels each boat at the first side of it where the label covers neither another label nor a boat. */
  #drawLabels(
    context: CanvasRenderingContext2D,
    colour: (name: string) => string,
    boats: readonly [string, Position][],
  ): void {
    context.fillStyle = colour('--ink');
    const taken: Box[] = boats.map(([, { x, y }]) => ({ left: x - 6, top: y - 10, right: x + 6, bottom: y + 10 }));
    for (const [boat, { x, y, speed = 0 }] of boats) {
      const text = `${nameOf(boat)} ${speed.toFixed(1)}`;
      const { width } = context.measureText(text);
      const sides = [x + 11, x - 11 - width, x - width / 2].flatMap((left) =>
        [-7, 17, -22, 32].map((rise) => ({ left, top: y + rise - labelHeight, right: left + width, bottom: y + rise })),
      );
      const free = sides.find((side) => !taken.some((box) => overlaps(side, box)));
      // In a crowd a label is better left out than unreadable: the table below names all boats.
      if (free === undefined) continue;
      taken.push(free);
      context.fillText(text, free.left, free.bottom);
    }
  }

  #drawCourse(context: CanvasRenderingContext2D, colour: (name: string) => string): void {
    context.font = '13px sans-serif';
    context.lineWidth = 1.5;
    context.strokeStyle = colour('--line');
    context.setLineDash([7, 7]);
    const [pin, boat] = startLine;
    context.beginPath();
    context.moveTo((pin.x + boat.x) / 2, pin.y);
    for (const { x, y } of marks) context.lineTo(x, y);
    context.stroke();
    context.strokeStyle = colour('--buoy');
    context.setLineDash([3, 4]);
    context.beginPath();
    context.moveTo(pin.x, pin.y);
    context.lineTo(boat.x, boat.y);
    context.stroke();
    context.setLineDash([]);
    for (const { x, y, name } of [...marks, { ...pin, name: 'pin' }, { ...boat, name: 'committee boat' }]) {
      context.fillStyle = colour('--buoy');
      context.beginPath();
      context.rect(x - 5, y - 5, 10, 10);
      context.fill();
      context.fillStyle = colour('--faint');
      context.fillText(name, x + 10, y + 15);
    }
  }

  #drawBoat(
    context: CanvasRenderingContext2D,
    colour: (name: string) => string,
    boat: string,
    { x, y, heading = 0 }: Position,
  ): void {
    const wake = this.#wakeOf(boat, { x, y });
    context.strokeStyle = colour('--sea');
    context.lineWidth = 1.2;
    for (let at = 1; at < wake.length; at++) {
      const [from, to] = [wake[at - 1] as Point, wake[at] as Point];
      context.globalAlpha = (at / wake.length) * 0.5;
      context.beginPath();
      context.moveTo(from.x, from.y);
      context.lineTo(to.x, to.y);
      context.stroke();
    }
    context.globalAlpha = 1;
    context.save();
    context.translate(x, y);
    context.rotate((heading * Math.PI) / 180);
    context.fillStyle = colour('--sea');
    context.beginPath();
    context.moveTo(0, -12);
    context.quadraticCurveTo(7, 0, 4, 9);
    context.lineTo(-4, 9);
    context.quadraticCurveTo(-7, 0, 0, -12);
    context.fill();
    context.restore();
  }

  #wakeOf(boat: string, at: Point): readonly Point[] {
    const wake = this.#wakes.get(boat) ?? [];
    this.#wakes.set(boat, wake);
    const last = wake.at(-1);
    const step = last === undefined ? wakeStep : Math.hypot(at.x - last.x, at.y - last.y);
    // A boat that is set down elsewhere has left no wake on its way.
    if (step > 60) wake.length = 0;
    if (step >= wakeStep) wake.push(at);
    if (wake.length > wakePlaces) wake.shift();
    return [...wake, at];
  }
}

export function nameOf(boat: string): string {
  return boat.charAt(0).toUpperCase() + boat.slice(1);
}
