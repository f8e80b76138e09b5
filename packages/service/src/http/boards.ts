import type { Engine, EntryPlaces, EntryWish } from '@nine-bells/core';
import {
  type ChannelName,
  type Cursor,
  defined,
  type Json,
  ProblemError,
  parseCursor,
  protocolLimits,
  refusal,
} from '@nine-bells/wire';
import { IsObject, IsOptional } from 'class-validator';
import { atElement, IsAnything, readBody } from './body.js';
import { IsChannel, IsJson, IsMs } from './publishDto.js';
import { channelOf } from './query.js';
import { type Route, route, type Serve } from './route.js';

/** Most entries in one request, of all boards together. */
const maxAtOnce = 1000;

/** Entries of one board, to be set or removed: an element of, or the whole, body of `POST /v1/boards`. */
class BoardDto {
  @IsChannel()
  channel!: string;

  /** Values by the names of entries; `null` removes. */
  @IsObject()
  @IsJson()
  set!: Record<string, Json>;

  @IsOptional()
  @IsMs(1, protocolLimits.entryLifeMs)
  forMs?: number;

  /** `null` means something here: only where there is no such entry. */
  @IsAnything()
  ifVersion?: string | null;
}

/** `POST /v1/boards` and `GET /v1/boards`. */
export function boards(engine: Engine): readonly Route[] {
  const set: Serve<'POST /v1/boards'> = async (request, response, caller) => {
    const body: unknown = request.body;
    const isList = Array.isArray(body);
    const wished = (isList ? body : [body]).map((each, index) => {
      const dto = readBody(BoardDto, each, isList ? `/${index}` : '');
      try {
        caller.needIn('publish', dto.channel);
        return { channel: dto.channel as ChannelName, wishes: wishesOf(dto) };
      } catch (error) {
        throw isList ? atElement(error, index) : error;
      }
    });
    const count = wished.reduce((sum, { wishes }) => sum + wishes.length, 0);
    if (count > maxAtOnce) throw refusal('too-large', `at most ${maxAtOnce} entries are taken at once`);
    caller.charge(Math.max(0, count - 1));
    const answers = await Promise.all(
      wished.map(async ({ channel, wishes }, index) => {
        const at = isList ? `/${index}` : '';
        const results = await Promise.allSettled(
          wishes.map((wish) => engine.boards.set(channel, wish, placesOf(wish.entry, at))),
        );
        const entries = results.map((result, nth) => {
          const { entry } = wishes[nth] as EntryWish;
          if (result.status === 'fulfilled') return result.value;
          if (result.reason instanceof ProblemError) return { entry, problem: result.reason.problem };
          throw result.reason;
        });
        return { channel, entries };
      }),
    );
    const [only] = answers;
    const single = only?.entries[0];
    // One entry alone is refused as a whole; of several, each has its own answer.
    if (!isList && only?.entries.length === 1 && single !== undefined && 'problem' in single)
      throw new ProblemError(single.problem);
    response.json(isList ? answers : only);
  };

  const read: Serve<'GET /v1/boards'> = async (request, response, caller) => {
    const channel = channelOf(request);
    caller.needIn('read', channel);
    response.json(await engine.boards.read(channel));
  };

  return [
    route('POST /v1/boards', { right: { perChannel: 'publish' }, body: BoardDto }, set),
    route('GET /v1/boards', { right: { perChannel: 'read' }, query: ['channel'] }, read),
  ];
}

function placesOf(entry: string, at: string): EntryPlaces {
  const place = `${at}/set/${entry.replaceAll('~', '~0').replaceAll('/', '~1')}`;
  return { entry: place, value: place, ifVersion: `${at}/ifVersion` };
}

function wishesOf({ set, forMs, ifVersion }: BoardDto): readonly EntryWish[] {
  if (ifVersion != null && (typeof ifVersion !== 'string' || parseCursor(ifVersion) === undefined))
    throw refusal('bad-cursor', '`ifVersion` is a version of the board, or null: only where there is no such entry', {
      where: '/ifVersion',
    });
  const condition = ifVersion === undefined ? {} : { ifVersion: ifVersion as Cursor | null };
  return Object.entries(set).map(([entry, value]) => ({
    entry,
    value,
    ...condition,
    ...(value === null ? {} : defined({ forMs: forMs ?? undefined })),
  }));
}
