import type { Json } from '@nine-bells/wire';
import type { Expected } from '../format/drill.js';
import { type Difference, differences } from '../values/matching.js';
import type { Application } from './application.js';
import { DrillClient } from './client.js';
import type { FrameSource, Waiting } from './frameQueue.js';
import { StepFailure } from './results.js';
import { withoutSecrets } from './secrets.js';

/**
 * Waits for pushes in this order, takes them from the client's queue, and returns them.
 *
 * @throws {StepFailure} with the closest push, its differences, and possible reasons
 */
export async function expectFrames(
  client: FrameSource,
  expected: readonly Expected[],
  withinMs: number,
  application?: Application,
): Promise<readonly Json[]> {
  const found = await client.until(() => find(client, expected), withinMs);
  if (found === undefined) throw await notGot(client, expected, withinMs, application);
  for (const each of found) client.take(each);
  return found.map(({ frame }) => frame as Json);
}

/**
 * Checks that no matching push is queued or arrives within `forMs`.
 *
 * @throws {StepFailure} with the matching push
 */
export async function expectNone(client: FrameSource, expected: Expected, forMs: number): Promise<void> {
  const found = await client.until(() => find(client, [expected]), forMs);
  if (found === undefined) return;
  throw new StepFailure({
    expected: `no ${expectedText(expected)} at ${client.name} for ${forMs} ms`,
    came: `${short(found[0]?.frame as Json)} arrived`,
  });
}

async function notGot(
  client: FrameSource,
  expected: readonly Expected[],
  withinMs: number,
  application: Application | undefined,
): Promise<StepFailure> {
  let reached = 0;
  while (find(client, expected.slice(0, reached + 1)) !== undefined) reached += 1;
  const missing = expected[reached] as Expected;
  const near = client.waiting
    .map(({ frame }) => ({ frame, differences: differencesOf(missing, frame) }))
    .filter(({ frame }) => kindOf(frame) === missing.on)
    .sort((a, b) => a.differences.length - b.differences.length)[0];
  const isElsewhere = near !== undefined && near.differences.length === 0;
  const nth = expected.length > 1 ? ` (${reached + 1} of ${expected.length})` : '';
  return new StepFailure({
    expected: `${expectedText(missing)}${nth} at ${client.name} within ${withinMs} ms`,
    came: cameText(client, near?.frame, isElsewhere),
    differences: near === undefined || isElsewhere ? [] : near.differences,
    why: await whyNot(client, missing, application),
  });
}

function cameText(client: FrameSource, nearest: Waiting['frame'] | undefined, isElsewhere: boolean): string {
  if (isElsewhere) return 'it arrived fewer times, or before the push that it should follow';
  if (nearest !== undefined) return `the closest is ${short(nearest as Json)}`;
  return `no such ${client instanceof DrillClient ? 'push' : 'request'} arrived${waitingText(client)}`;
}

/** Possible reasons why a push did not arrive. */
async function whyNot(
  client: FrameSource,
  { on, pattern }: Expected,
  application: Application | undefined,
): Promise<readonly string[]> {
  const { channel } = pattern as { channel?: Json };
  const why: string[] = [];
  if (!(client instanceof DrillClient)) return why;
  const { ended } = client;
  if (!client.isOpen) why.push(`${client.name} is not connected: ${ended?.code ?? 1006} ${ended?.reason ?? ''}`.trim());
  else if (typeof channel === 'string' && !client.channels.includes(channel))
    why.push(`${client.name} is not in ${channel}; it is in ${client.channels.join(', ') || 'no channel'}`);
  if (on !== 'message' || application === undefined) return why;
  const isMeant = (message: Json): boolean => differences(pattern, message).length === 0;
  const about = typeof channel === 'string' ? [channel] : client.channels.slice(0, 3);
  for (const each of about) why.push(...(await application.trace(each, isMeant, client.welcome?.user ?? '')));
  return why;
}

/** Finds queued pushes that match, in this order, using each at most once. */
function find(client: FrameSource, expected: readonly Expected[]): Waiting[] | undefined {
  const found: Waiting[] = [];
  const { waiting } = client;
  let from = 0;
  for (const each of expected) {
    const at = waiting.findIndex((one, index) => index >= from && differencesOf(each, one.frame).length === 0);
    if (at < 0) return undefined;
    found.push(waiting[at] as Waiting);
    from = at + 1;
  }
  return found;
}

function differencesOf({ on, pattern }: Expected, frame: Json & object): readonly Difference[] {
  const isOfKind = kindOf(frame) === on;
  return isOfKind
    ? differences(pattern, frame as Json)
    : [{ where: '/on', expected: on, found: String(kindOf(frame)) }];
}

function expectedText({ on, pattern }: Expected): string {
  return Object.keys(pattern as object).length === 0 ? on : `${on} ${short(pattern)}`;
}

function waitingText(client: FrameSource): string {
  const kinds = new Map<string, number>();
  for (const { frame } of client.waiting) {
    const kind = String(kindOf(frame));
    kinds.set(kind, (kinds.get(kind) ?? 0) + 1);
  }
  if (kinds.size === 0) return '';
  return `; arrived and not taken: ${[...kinds].map(([kind, count]) => `${count} ${kind}`).join(', ')}`;
}

/** A value as JSON text, truncated if it is long. */
export function short(value: Json): string {
  const text = withoutSecrets(JSON.stringify(value) ?? 'nothing');
  return text.length > 400 ? `${text.slice(0, 397)}...` : text;
}

function kindOf(frame: object): string | undefined {
  return (frame as { on?: string }).on;
}
