import type { Encoding } from '@nine-bells/core';

const data = Buffer.from('\ndata: ');
const end = Buffer.from('\n\n');
const push = '{"on":"';

/**
 * One event of an event stream (HTML, section 9.2): `event` names the push, or says `reply`; `data` is the frame. A frame is
 * JSON on one line, so that one `data` line holds it.
 */
export const eventStreamEncoding: Encoding = {
  encode(payload) {
    const frame = Buffer.from(payload.buffer, payload.byteOffset, payload.length);
    const head = Buffer.from(`event: ${kindOf(frame)}`);
    return Buffer.concat([head, data, frame, end]);
  },
  join: (frames) => Buffer.concat(frames),
};

/** A push begins with its kind, a reply with the number that it answers. */
function kindOf(frame: Buffer): string {
  const start = frame.toString('latin1', 0, push.length);
  if (start !== push) return 'reply';
  return frame.toString('latin1', push.length, frame.indexOf('"', push.length));
}
