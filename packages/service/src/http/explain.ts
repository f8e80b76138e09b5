import { type Act, acts, type Engine, type Explanation, guestIdentity, type Identity } from '@nine-bells/core';
import { type ChannelName, GUEST_PREFIX, type Json, ProblemError, protocolLimits, refusal } from '@nine-bells/wire';
import { IsArray, IsBoolean, IsIn, IsObject, IsOptional, IsString, MaxLength } from 'class-validator';
import { Router } from 'express';
import type { Tokens } from '../tokens/tokens.js';
import { readBody } from './body.js';
import { IsChannel, IsWords } from './publishDto.js';

/** The question: who, given in one of four ways, may do what, where? */
class ExplainDto {
  static readonly members = {
    act: true,
    channel: true,
    user: true,
    roles: true,
    claims: true,
    guest: true,
    token: true,
    session: true,
  } as const;

  @IsIn(acts as Act[])
  act!: Act;

  @IsChannel()
  channel!: string;

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

/** `POST /v1/explain`: which rule decides, on which facts. */
export function explaining(engine: Engine, tokens: Tokens): Router {
  const router = Router();
  router.post('/explain', async (request, response) => {
    const question = readBody(ExplainDto, request.body);
    const { act } = question;
    const channel = question.channel as ChannelName;
    try {
      response.json(engine.explain(act, channel, await whoIs(question, engine, tokens)));
    } catch (error) {
      if (question.token === undefined || !(error instanceof ProblemError)) throw error;
      // A token that is not taken is an answer too: that is what its holder would be told.
      const refused: Explanation = { act, channel, user: '', allowed: false, problem: error.problem, others: [] };
      response.json(refused);
    }
  });
  return router;
}

async function whoIs(
  { user, roles, claims, guest, token, session }: ExplainDto,
  engine: Engine,
  tokens: Tokens,
): Promise<Identity> {
  const ways = [user, guest || undefined, token, session].filter((each) => each !== undefined);
  if (ways.length !== 1)
    throw refusal('bad-value', 'say who by one of `user` (with `roles` and `claims`), `guest`, `token` or `session`');
  if (token !== undefined) return tokens.read(token);
  if (guest) return guestIdentity(`${GUEST_PREFIX}somebody`);
  if (session !== undefined) {
    const who = engine.identityOf(session);
    if (who === undefined) throw refusal('bad-value', 'no session of this id is connected', { where: '/session' });
    return who;
  }
  return { user: user as string, guest: false, roles: roles ?? [], claims: claims ?? {} };
}
