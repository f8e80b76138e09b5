import {
  type Answer,
  type Asker,
  type MessageFacts,
  type Question,
  type ReviewAnswer,
  type Reviewer,
  type ReviewQuestion,
  UnusableAnswer,
} from '@nine-bells/core';
import { defined, isDeeperThan, type Json, protocolLimits } from '@nine-bells/wire';
import { IsBoolean, IsInt, IsOptional, Max, Min } from 'class-validator';
import { IsAnything, readBody } from '../http/body.js';
import { IsWords } from '../http/publishDto.js';
import type { Outbound, OutboundAnswer, OutboundRequest } from '../outbound/outbound.js';
import { systemIds } from '../system/ids.js';
import { signaturesOf } from '../webhooks/verify.js';
import { checkStatus, usable } from './usableAnswer.js';

/** Maximum size of an answer, and of its field `member`, in bytes. */
const answerBytes = 65_536;
const memberBytes = 4_096;

/** Answer to an access question. */
class AnswerDto {
  @IsBoolean()
  allow!: boolean;

  @IsOptional()
  @IsWords(protocolLimits.reasonChars)
  reason?: string;

  @IsAnything()
  member?: Json;

  @IsOptional()
  @IsInt()
  @Min(0)
  @Max(86_400_000)
  rememberMs?: number;
}

/** Answer to a review question. */
class ReviewAnswerDto {
  /** Absent if a moderator decides. */
  @IsOptional()
  @IsBoolean()
  allow?: boolean | null;

  @IsOptional()
  @IsBoolean()
  hold?: boolean | null;

  @IsOptional()
  @IsWords(protocolLimits.reasonChars)
  reason?: string;

  @IsAnything()
  data?: Json;
}

/** Asks the application over HTTP, with requests signed as Standard Webhooks says. */
export class ApplicationAsker implements Asker, Reviewer {
  readonly #secrets: readonly string[];
  readonly #withinMs: number;
  readonly #send: Outbound;
  readonly #ids = systemIds();

  /**
   * @param secrets - each signs: `whsec_` and 24 to 64 bytes in base64
   * @param send - default: over the network
   */
  constructor(secrets: readonly string[], withinMs: number, send: Outbound = sendByFetch) {
    this.#secrets = secrets;
    this.#withinMs = withinMs;
    this.#send = send;
  }

  async ask(url: string, question: Question): Promise<Answer> {
    const text = await this.#post('ask', url, 'access.ask', dataOf(question), this.#withinMs);
    return usable(() => answerOf(text, url));
  }

  async review(url: string, question: ReviewQuestion, withinMs: number): Promise<ReviewAnswer> {
    const text = await this.#post('review', url, 'message.review', reviewDataOf(question), withinMs);
    return usable(() => reviewAnswerOf(text, url));
  }

  async #post(kind: 'ask' | 'review', url: string, type: string, data: object, timeoutMs: number): Promise<string> {
    const at = new Date();
    const id = `ask_${this.#ids.message(at.getTime())}`;
    const body = JSON.stringify({ type, timestamp: at.toISOString(), data });
    const timestamp = String(Math.floor(at.getTime() / 1000));
    const { status, text } = await this.#send({
      kind,
      url,
      body,
      timeoutMs,
      headers: {
        'content-type': 'application/json',
        accept: 'application/json',
        'webhook-id': id,
        'webhook-timestamp': timestamp,
        'webhook-signature': signaturesOf(this.#secrets, id, timestamp, body),
      },
    });
    checkStatus(status, url);
    return text;
  }
}

async function sendByFetch({ url, body, headers, timeoutMs }: OutboundRequest): Promise<OutboundAnswer> {
  const response = await fetch(url, {
    method: 'POST',
    body,
    headers,
    redirect: 'error',
    signal: AbortSignal.timeout(timeoutMs),
  }).catch((error: Error) => {
    if (error.name === 'TimeoutError') throw new Error(`no answer within ${timeoutMs} ms`);
    throw new Error(`${url} cannot be reached: ${(error.cause as Error | undefined)?.message ?? error.message}`);
  });
  return { status: response.status, text: await textOf(response) };
}

function reviewDataOf(question: ReviewQuestion): object {
  const { channel, parameters, who, type, data, key, replyTo, mentions, revises } = question;
  return {
    channel,
    parameters: { ...parameters },
    user: who.user,
    ...defined({ name: who.name }),
    guest: who.guest,
    roles: who.roles,
    message: { type, ...defined({ key, replyTo, mentions, revises }), data },
  };
}

function reviewAnswerOf(text: string, url: string): ReviewAnswer {
  const { allow, hold, reason, data } = readBody(ReviewAnswerDto, jsonOf(text, url));
  if ((allow == null) === (hold == null) || hold === false)
    throw new Error(`${url} answered with neither \`allow\` nor \`hold: true\`, or with both`);
  if (data !== undefined && isDeeperThan(data, protocolLimits.dataDepth))
    throw new Error(`${url} answered with data that is nested too deep`);
  return {
    allow: allow === true,
    ...(hold ? { hold } : {}),
    ...(reason == null ? {} : { reason }),
    ...defined({ data }),
  };
}

function jsonOf(text: string, url: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    throw new Error(`${url} answered what is not JSON`);
  }
}

function dataOf({ act, channel, whom, parameters, who, message }: Question): object {
  return {
    act,
    ...defined({ channel, whom }),
    parameters: { ...parameters },
    user: who.user,
    ...defined({ name: who.name }),
    guest: who.guest,
    roles: who.roles,
    claims: who.claims,
    ...defined({ message: message && messageOf(message) }),
  };
}

function messageOf({ cursor, id, type, by, atMs }: MessageFacts): object {
  return { cursor, ...defined({ id, type, by }), at: new Date(atMs).toISOString() };
}

/** Reads the body. @throws {UnusableAnswer} above the maximum size */
async function textOf(response: Response): Promise<string> {
  const decoder = new TextDecoder();
  let text = '';
  let bytes = 0;
  for await (const chunk of response.body ?? []) {
    bytes += (chunk as Uint8Array).length;
    if (bytes > answerBytes) throw new UnusableAnswer(`the answer is longer than ${answerBytes} bytes`);
    text += decoder.decode(chunk as Uint8Array, { stream: true });
  }
  return text + decoder.decode();
}

function answerOf(text: string, url: string): Answer {
  const { allow, reason, member, rememberMs } = readBody(AnswerDto, jsonOf(text, url));
  if (
    member !== undefined &&
    (isDeeperThan(member, protocolLimits.dataDepth) || JSON.stringify(member).length > memberBytes)
  )
    throw new Error(`${url} answered with member data of more than ${memberBytes} characters`);
  return {
    allow,
    ...(reason == null ? {} : { reason }),
    ...defined({ member }),
    ...(rememberMs == null ? {} : { rememberMs }),
  };
}
