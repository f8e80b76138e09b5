import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  channelNameFault,
  directSegment,
  formatCursor,
  ProblemError,
  parseCursor,
  plainText,
  readRequest,
  readServerFrame,
  shortened,
  storableText,
  unfitCharacter,
  usersOfDirect,
  verbs,
} from '../src/index.js';

const volume = fc.stringMatching(/^[a-z0-9]{1,16}$/);
const segment = fc.stringMatching(/^[A-Za-z0-9\-_~@+=]{1,12}$/);
const user = fc.string({ minLength: 1, maxLength: 20 });

describe('whatever is given', () => {
  it('cursors are read back as they were written, and nothing else is taken for one', () => {
    fc.assert(
      fc.property(volume, fc.nat({ max: Number.MAX_SAFE_INTEGER }), (name, number) => {
        expect(parseCursor(formatCursor({ volume: name, number }))).toEqual({ volume: name, number });
      }),
    );
    fc.assert(
      fc.property(fc.string(), (text) => {
        const place = parseCursor(text);
        if (place !== undefined) expect(formatCursor(place)).toBe(text);
      }),
    );
  });

  it('a channel name is taken exactly if all of its segments are', () => {
    const isSegment = (text: string) => /^[a-]/.test(text) || (/^\./.test(text) && text !== '.' && text !== '..');
    fc.assert(
      fc.property(fc.array(fc.constantFrom('a', '-', '.', ':', '/', ' '), { maxLength: 8 }), (letters) => {
        const name = letters.join('');
        const isName = !name.includes(' ') && name.split('/').every(isSegment);
        expect(channelNameFault(name) === undefined).toBe(isName);
      }),
      { numRuns: 3000 },
    );
  });

  it('a frame is read or refused with a code and a place, and never throws', () => {
    const members = fc.dictionary(
      fc.constantFrom(
        'id',
        'channel',
        'data',
        'after',
        'last',
        'token',
        'enter',
        'cursor',
        'user',
        'status',
        'to',
        'got',
      ),
      fc.oneof(fc.jsonValue(), segment, fc.nat(), fc.constant(null)),
    );
    const frames = fc.oneof(
      fc.string().map((text) => text),
      fc.json(),
      fc.tuple(fc.constantFrom(...verbs), members).map(([verb, more]) => JSON.stringify({ do: verb, ...more })),
    );
    fc.assert(
      fc.property(frames, (text) => {
        const reading = readRequest(text);
        if (reading.ok) expect(verbs).toContain(reading.request.do);
        else expect(reading.problem).toMatchObject({ code: expect.any(String), title: expect.any(String) });
      }),
      { numRuns: 2_000 },
    );
  });

  it('a frame of the service is a reply, a push, or refused', () => {
    fc.assert(
      fc.property(fc.oneof(fc.string(), fc.json()), (text) => {
        try {
          const frame = readServerFrame(text) as { re?: number; on?: string };
          expect(typeof frame.re === 'number' || typeof frame.on === 'string').toBe(true);
        } catch (error) {
          expect(error).toBeInstanceOf(ProblemError);
        }
      }),
    );
  });

  it('a text is shortened between characters, and made plain and well-formed', () => {
    // Any code units, halves of surrogate pairs among them.
    const unit = fc.oneof(fc.integer({ min: 0, max: 0x7f }), fc.integer({ min: 0xd7f0, max: 0xe010 }));
    const anyText = fc.array(unit, { maxLength: 40 }).map((units) => String.fromCharCode(...units));
    fc.assert(
      fc.property(anyText, fc.integer({ min: 1, max: 30 }), (text, maxChars) => {
        const short = shortened(text, maxChars);
        expect(text.startsWith(short) && short.length <= maxChars).toBe(true);
        expect(short.length).toBeGreaterThanOrEqual(Math.min(text.length, maxChars) - 1);
        expect(unfitCharacter.test(plainText(text, maxChars))).toBe(false);
        expect(/\0|\p{Cs}/u.test(storableText(text, maxChars))).toBe(false);
      }),
    );
  });

  it('names of segments are channel names, and the users of a direct channel are found in its name', () => {
    fc.assert(
      fc.property(fc.array(segment, { minLength: 1, maxLength: 8 }), (parts) => {
        expect(channelNameFault(parts.join('/'))).toBeUndefined();
      }),
    );
    fc.assert(
      fc.property(fc.uniqueArray(user, { minLength: 2, maxLength: 5 }), (users) => {
        let name: string;
        try {
          name = directSegment(users);
        } catch (error) {
          // A user whose id cannot stand in a name at all.
          expect(error).toBeInstanceOf(Error);
          return;
        }
        expect(usersOfDirect(name)).toEqual([...users].sort());
        expect(directSegment([...users].reverse())).toBe(name);
      }),
    );
  });
});
