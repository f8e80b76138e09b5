import {
  type Act,
  channelActs,
  type Engine,
  type Explanation,
  guestIdentity,
  isMessageAct,
  isUserAct,
  messageActs,
  userActs,
  type Visitor,
} from '@nine-bells/core';
import {
  type ChannelName,
  defined,
  GUEST_PREFIX,
  type Json,
  ProblemError,
  protocolLimits,
  refusal,
} from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import { IsArray, IsBoolean, IsIn, IsObject, IsOptional, IsString, MaxLength } from 'class-validator';
import type { Tokens } from '../tokens/tokens.js';
import { readBody } from './body.js';
import { banShown, silenceShown } from './moderation.js';
import { IsChannel, IsWords } from './publishDto.js';
import { cursorOf } from './query.js';
import { type Route, route, type Serve } from './route.js';

/** The question: who, given in one of four ways, may do what, where? */
class ExplainDto {
  @IsIn([...channelActs, ...userActs, 'call'])
  act!: Act;

  @IsOptional()
  @IsChannel()
  channel?: string;

  /** For `set`: the entry of the board. */
  @IsOptional()
  @IsWords(protocolLimits.entryChars)
  entry?: string;

  /** For acts about a message: which one; absent: one that the user publishes now. */
  @IsOptional()
  @IsWords(64)
  cursor?: string;

  /** Name of the call, for `call`. */
  @IsOptional()
  @IsWords(protocolLimits.callChars)
  call?: string;

  @IsOptional()
  @IsWords(protocolLimits.userChars)
  whom?: string;

  @IsOptional()
  @IsWords(protocolLimits.userChars)
  user?: string;

  @IsOptional()
  @IsArray()
  @IsString({ each: true })
  roles?: string[];

  @IsOptional()
  @IsObject()
  claims?: Record<string, Json>;

  @IsOptional()
  @IsBoolean()
  guest?: boolean;

  @IsOptional()
  @IsString()
  @MaxLength(16_384)
  token?: string;

  @IsOptional()
  @IsString()
  @MaxLength(64)
  session?: string;
}

/** `POST /v1/explain`: the rule that decides, and the facts. */
export function explaining(engine: Engine, tokens: Tokens): readonly Route[] {
  const explain: Serve<'POST /v1/explain'> = async (request, response, caller) => {
    const question = readBody(ExplainDto, request.body);
    const { act, entry } = question;
    if ((act === 'set') !== (entry != null))
      throw refusal('bad-value', '`entry` goes with `set`: whose it is may depend on its name', { where: '/entry' });
    if (question.cursor != null && !isMessageAct(act))
      throw refusal('bad-value', `\`cursor\` goes with acts about a message: ${messageActs.join(', ')}`, {
        where: '/cursor',
      });
    if ((act === 'call') !== (question.call != null))
      throw refusal('bad-value', '`call` names what is called, where the act is call', { where: '/call' });
    if (act === 'call') {
      const channel = question.channel as ChannelName | undefined;
      caller.needIn('read', channel);
      const { visitor, session } = await askedOf(question, engine, tokens);
      const explanation = await engine.calls.explain(question.call as string, channel, visitor);
      response.json({ ...shown(explanation), ...defined({ session }) });
      return;
    }
    const where = whereOf(question);
    caller.needIn('read', isUserAct(act) ? undefined : where);
    try {
      const { visitor, session } = await askedOf(question, engine, tokens);
      const cursor = question.cursor == null ? undefined : cursorOf(question.cursor);
      const of = defined({ entry: entry ?? undefined, cursor });
      response.json({ ...shown(await engine.access.explain(act, where, visitor, of)), ...defined({ session }) });
    } catch (error) {
      if (question.token === undefined || !(error instanceof ProblemError)) throw error;
      // A token that is not taken is an answer too: that is what its holder would be told.
      const place = isUserAct(act) ? { whom: where } : { channel: where };
      response.json({ act, ...place, user: '', allowed: false, problem: error.problem, others: [] });
    }
  };
  return [route('POST /v1/explain', { right: { perChannel: 'read' }, body: ExplainDto }, explain)];
}

/** The channel, or for an act that concerns a user, that user. */
function whereOf({ act, channel, whom }: ExplainDto): string {
  const [wanted, other] = isUserAct(act) ? (['whom', 'channel'] as const) : (['channel', 'whom'] as const);
  const given = { channel, whom };
  if (given[other] != null)
    throw refusal('bad-value', `\`${act}\` goes with \`${wanted}\`, not \`${other}\``, { where: `/${other}` });
  const where = given[wanted];
  if (where == null)
    throw refusal(wanted === 'channel' ? 'bad-name' : 'bad-value', `\`${wanted}\` is missing`, { where: `/${wanted}` });
  return where;
}

/** The user of a question; one that is only named has the roles and claims of a connected session, if there is one. */
async function askedOf(
  question: ExplainDto,
  engine: Engine,
  tokens: Tokens,
): Promise<{ visitor: Visitor; session?: string }> {
  const { user, roles, claims } = question;
  if (user != null && roles == null && claims == null) {
    const session = await engine.access.latestSessionOf(user);
    const visitor = session === undefined ? undefined : await engine.access.visitorOf(session);
    if (session !== undefined && visitor !== undefined) return { visitor, session };
  }
  return { visitor: await visitorOf(question, engine, tokens) };
}

async function visitorOf(
  { user, roles, claims, guest, token, session }: ExplainDto,
  engine: Engine,
  tokens: Tokens,
): Promise<Visitor> {
  const ways = [user, guest || undefined, token, session].filter((each) => each !== undefined);
  if (ways.length !== 1)
    throw refusal('bad-value', 'say who by one of `user` (with `roles` and `claims`), `guest`, `token` or `session`');
  if (token !== undefined) return { who: await tokens.read(token) };
  if (guest) return { who: guestIdentity(`${GUEST_PREFIX}example`) };
  if (session !== undefined) {
    const visitor = await engine.access.visitorOf(session);
    if (visitor === undefined) throw refusal('no-such-id', 'no session of this id is connected', { where: '/session' });
    return visitor;
  }
  return { who: { user: user as string, guest: false, roles: roles ?? [], claims: claims ?? {} } };
}

function shown({ ban, silence, ...explanation }: Explanation): Http.Explanation {
  return {
    ...explanation,
    ...(ban === undefined ? {} : { ban: banShown(ban) }),
    ...(silence === undefined ? {} : { silence: silenceShown(silence) }),
  };
}
