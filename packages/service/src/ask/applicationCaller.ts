import {
  type Call,
  type CallAnswer,
  type CallAsker,
  type CallPublication,
  type CallRule,
  UnusableAnswer,
} from '@nine-bells/core';
import { defined, isDeeperThan, type Json, protocolLimits } from '@nine-bells/wire';
import { IsArray, IsOptional, IsString, Matches } from 'class-validator';
import { Pool } from 'undici';
import { type Dto, IsPart, readBody } from '../http/body.js';
import { IsChannel, IsJson, IsMs, IsUsers, IsWords } from '../http/publishDto.js';
import type { Outbound, OutboundAnswer } from '../outbound/outbound.js';
import { signaturesOf } from '../webhooks/verify.js';
import { checkStatus, usable } from './usableAnswer.js';

/** Maximum size of an answer beside its data (its publications), in bytes. */
const besideBytes = 262_144;
/** Maximum number of publications in one answer. */
const maxPublications = 50;

class RefusalDto {
  @IsString()
  @Matches(/^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$/, { message: 'a code has 1 to 64 letters, digits and . _ -' })
  code!: string;

  @IsWords(protocolLimits.reasonChars)
  text!: string;
}

class AnswerDto {
  @IsOptional()
  @IsJson()
  data?: Json;

  @IsOptional()
  @IsPart(RefusalDto)
  refuse?: RefusalDto;

  @IsOptional()
  @IsArray()
  publish?: unknown[];
}

class MessageDto {
  @IsChannel()
  channel!: string;

  @IsJson()
  data!: Json;

  @IsOptional()
  @IsWords(protocolLimits.typeChars)
  type?: string;

  @IsOptional()
  @IsWords(protocolLimits.userChars)
  by?: string;
}

class HailDto {
  @IsChannel()
  channel!: string;

  @IsWords(protocolLimits.typeChars)
  type!: string;

  @IsOptional()
  @IsJson()
  data?: Json;
}

class EntryDto {
  @IsChannel()
  channel!: string;

  @IsWords(protocolLimits.entryChars)
  entry!: string;

  @IsJson()
  value!: Json;

  @IsOptional()
  @IsMs(1, protocolLimits.entryLifeMs)
  forMs?: number;
}

class NoticeDto {
  @IsOptional()
  @IsUsers(100)
  users?: string[];

  @IsOptional()
  @IsWords(protocolLimits.roleChars)
  role?: string;

  @IsWords(protocolLimits.titleChars)
  title!: string;

  @IsOptional()
  @IsJson()
  data?: Json;

  @IsOptional()
  @IsWords(protocolLimits.keyChars)
  key?: string;

  @IsOptional()
  @IsMs(1, 365 * 86_400_000)
  forMs?: number;
}

const publications: Readonly<Record<string, Dto<object>>> = {
  message: MessageDto,
  hail: HailDto,
  entry: EntryDto,
  notice: NoticeDto,
};

export interface CallRequest {
  readonly body: string;
  readonly headers: Readonly<Record<string, string>>;
}

/** Sends calls to the application over HTTP, signed like access questions. */
export class ApplicationCaller implements CallAsker {
  readonly #secrets: readonly string[];
  /** Connections by the name of the call, since each call has limits of its own. */
  readonly #receivers = new Map<string, { readonly pool: Pool; readonly path: string }>();

  readonly #send: Outbound | undefined;

  /**
   * @param secrets - each signs: `whsec_` and 24 to 64 bytes in base64
   * @param send - default: over the network
   */
  constructor(secrets: readonly string[], send?: Outbound) {
    this.#secrets = secrets;
    this.#send = send;
  }

  async call(rule: CallRule, url: string, call: Call): Promise<CallAnswer> {
    const { name, withinMs: timeoutMs } = rule;
    const request = this.requestFor(call);
    const { status, text } =
      this.#send === undefined
        ? await this.#sendByPool(rule, url, request)
        : await this.#send({ kind: 'call', name, url, timeoutMs, ...request });
    checkStatus(status, url);
    return usable(() => answerOf(text, url));
  }

  async #sendByPool(rule: CallRule, url: string, request: CallRequest): Promise<OutboundAnswer> {
    const { pool, path } = this.#receiverOf(rule, url);
    const response = await pool.request({ path, method: 'POST', ...request });
    // The timeout also ends an answer that arrives byte by byte.
    const late = setTimeout(() => response.body.destroy(new Error('the answer does not end in time')), rule.withinMs);
    const reading = response.body.text().finally(() => clearTimeout(late));
    const text = await reading.catch((error: Error & { code?: string }) => {
      throw error.code === 'UND_ERR_RES_EXCEEDED_MAX_SIZE' ? new UnusableAnswer(error.message) : error;
    });
    return { status: response.statusCode, text };
  }

  /** Returns the request for a call, signed at `atMs`. */
  requestFor(call: Call, atMs = Date.now()): CallRequest {
    const { id, key } = call;
    const body = JSON.stringify({ type: 'call', timestamp: new Date(atMs).toISOString(), data: dataOf(call) });
    const timestamp = String(Math.floor(atMs / 1000));
    return {
      body,
      headers: {
        'content-type': 'application/json',
        accept: 'application/json',
        'webhook-id': id,
        'webhook-timestamp': timestamp,
        'webhook-signature': signaturesOf(this.#secrets, id, timestamp, body),
        ...(key === undefined ? {} : { 'idempotency-key': encodeURIComponent(key) }),
      },
    };
  }

  async close(): Promise<void> {
    await Promise.all([...this.#receivers.values()].map(({ pool }) => pool.destroy()));
  }

  #receiverOf({ name, withinMs, answerBytes }: CallRule, url: string): { readonly pool: Pool; readonly path: string } {
    let receiver = this.#receivers.get(name);
    if (receiver === undefined) {
      const { origin, pathname, search } = new URL(url);
      const pool = new Pool(origin, {
        connections: 256,
        keepAliveTimeout: 10_000,
        headersTimeout: withinMs,
        bodyTimeout: withinMs,
        maxResponseSize: answerBytes + besideBytes,
      });
      receiver = { pool, path: pathname + search };
      this.#receivers.set(name, receiver);
    }
    return receiver;
  }
}

function dataOf({ name, channel, parameters, who, session, key, data }: Call): object {
  return {
    call: name,
    ...defined({ channel }),
    parameters: { ...parameters },
    user: who.user,
    ...defined({ name: who.name }),
    guest: who.guest,
    roles: who.roles,
    claims: who.claims,
    session,
    ...defined({ key }),
    data,
  };
}

function answerOf(text: string, url: string): CallAnswer {
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch {
    throw new Error(`${url} answered what is not JSON: ${JSON.stringify(text.slice(0, 60))}`);
  }
  const { data, refuse, publish } = readBody(AnswerDto, value);
  if (data !== undefined && isDeeperThan(data, protocolLimits.dataDepth))
    throw new Error(`the answer is nested more than ${protocolLimits.dataDepth} levels deep`);
  if ((publish?.length ?? 0) > maxPublications)
    throw new Error(`an answer publishes at most ${maxPublications} things`);
  return {
    ...defined({ data }),
    ...(refuse == null ? {} : { refuse: { code: refuse.code, text: refuse.text } }),
    ...(publish == null ? {} : { publish: publish.map(publicationOf) }),
  };
}

/** Reads one publication: a map with a single key, the kind. */
function publicationOf(given: unknown, index: number): CallPublication {
  const where = `/publish/${index}`;
  const [[kind, value] = ['', undefined], ...rest] = Object.entries((given ?? {}) as object);
  const dto = Object.hasOwn(publications, kind) ? publications[kind] : undefined;
  if (dto === undefined || rest.length > 0)
    throw new Error(`${where}: expected one of ${Object.keys(publications).join(', ')}`);
  const read = readBody(dto, value, `${where}/${kind}`);
  // `null` counts as absent, except as the value of an entry, which it removes.
  const present = Object.entries(read).filter(
    ([name, each]) => each !== undefined && (each !== null || name === 'value' || name === 'data'),
  );
  return { [kind]: Object.fromEntries(present) } as unknown as CallPublication;
}
