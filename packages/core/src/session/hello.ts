import {
  type ChannelName,
  type HelloRequest,
  type LineLimits,
  type Problem,
  refusal,
  unknownHelloMembers,
} from '@nine-bells/wire';
import type { OpenConnection } from './connected.js';
import type { SessionHost } from './host.js';
import { Identification } from './identification.js';
import { LiveSession, type SessionLine } from './liveSession.js';
import type { SessionConnection } from './sessions.js';

/** Channels that one hello enters in a turn of the event loop. */
const channelsPerTurn = 16;

/** What hello needs of the connection that it comes on. */
export interface HelloLine extends SessionLine, SessionConnection, OpenConnection {
  /** It has a session from now on. */
  begin(session: LiveSession): void;
  /** What is told to the client of an error, which is noted among the refusals. */
  refused(error: unknown, act: string, channel: ChannelName): Problem;
}

/**
 * Takes token, session, secret and cursors: finds out who the client is, continues its session or begins one, enters the
 * channels that it names, and welcomes it. What is pushed meanwhile comes after the welcome.
 *
 * @throws {ProblemError} where the whole connection is refused
 */
export async function hello(host: SessionHost, line: HelloLine, request: HelloRequest): Promise<void> {
  const { sessions, moderation, relay, connected } = host;
  await moderation.ready();
  if (!relay.control.isFresh)
    throw refusal('busy', 'this instance is cut off from the others, and lets no client in', { retryAfterMs: 1000 });
  const { whoIs, tokenDigest } = await new Identification(host, line.address).identify(request);
  if (line.ended) return;
  // A ban may have come between the identification and here.
  line.checkAdmission(whoIs(request.session ?? ''));
  const { session, who, secret, continued, ended } = sessions.admit(whoIs, request.session, request.secret);
  const client = new LiveSession(host, line, session, who);
  line.begin(client);
  session.who = who;
  session.tokenDigest = tokenDigest;
  session.connection = line;
  connected.welcomed(line, who);
  line.watchTokenEnd(who);

  line.queue.hold();
  client.tellSilences();
  const blocks = await client.blocksAtHello();
  if (line.ended) return;
  const entered = await enterAll(host, line, client, request);
  if (line.ended) return;
  // Channels that hello does not name are left; with `partial` they may be entered in a moment.
  if (request.partial !== true) client.resumed();
  const inbox = await client.inboxAtHello(request);
  if (line.ended) return;
  const ignored = unknownHelloMembers(request);
  const welcome = JSON.stringify({
    ignored: ignored.length === 0 ? undefined : ignored.slice(0, 10).map((name) => name.slice(0, 100)),
    session: session.id,
    secret,
    user: who.user,
    name: who.name,
    guest: who.guest || undefined,
    continued,
    ended,
    ...termsOf(host),
    inbox,
    blocks,
  });
  line.replyText(request.id, `${welcome.slice(1, -1)},"entered":[${entered.join()}]`);
  line.queue.release();
}

/** Enters the channels that hello names. Gives the elements of `entered`, as JSON text. */
async function enterAll(
  { options, clock }: SessionHost,
  line: HelloLine,
  client: LiveSession,
  request: HelloRequest,
): Promise<readonly string[]> {
  const entered: string[] = [];
  let spare = options.backlogBytes;
  for (const [index, wish] of (request.enter ?? []).entries()) {
    try {
      // Those that are not caught up with are not entered yet, and count nevertheless.
      if (index >= options.channelsPerSession)
        throw refusal('too-many-channels', `a session may enter at most ${options.channelsPerSession} channels`);
      const text = await client.enter(wish, spare, await client.allowedToEnter(wish.channel));
      spare -= text.length;
      entered.push(`{${text}}`);
    } catch (error) {
      if (line.ended) break;
      const { channel } = wish;
      entered.push(JSON.stringify({ channel, problem: line.refused(error, 'enter', channel) }));
    }
    // A hello that names very many does not hold up the others.
    if (index % channelsPerTurn === channelsPerTurn - 1) await new Promise<void>((resolve) => clock.endOfTurn(resolve));
    if (line.ended) break;
  }
  return entered;
}

/** What the reply to hello says of the service. */
function termsOf({ options, direct }: SessionHost): object {
  const limits: LineLimits = {
    frameBytes: options.frameBytes,
    dataBytes: options.dataBytes,
    channels: options.channelsPerSession,
  };
  return { instance: options.instance, pulseMs: options.pulseMs, limits, direct: direct.prefix };
}
