import type { Engine } from '@nine-bells/core';
import { type BlockKind, protocolLimits, refusal } from '@nine-bells/wire';
import { IsAnything, readBody } from './body.js';
import { IsWords } from './publishDto.js';
import { queryText } from './query.js';
import { type Route, route, type Serve } from './route.js';

class BlockDto {
  @IsWords(protocolLimits.userChars)
  user!: string;

  @IsWords(protocolLimits.userChars)
  blocks!: string;

  /** `null`: no longer. */
  @IsAnything()
  as?: BlockKind | null;
}

/** Routes of blocks and mutes. */
export function blocks({ blocks: kept }: Engine): readonly Route[] {
  const list: Serve<'GET /v1/blocks'> = async (request, response) => {
    const user = queryText(request, 'user');
    if (user === undefined || user === '') throw refusal('bad-value', '`user` is missing', { where: '?user' });
    response.json({ user, blocks: (await kept.of(user)).blocks });
  };

  const set: Serve<'POST /v1/blocks'> = async (request, response) => {
    const { user, blocks: other, as = 'blocked' } = readBody(BlockDto, request.body);
    if (user.startsWith('guest:')) throw refusal('bad-value', 'guests block no users', { where: '/user' });
    if (as !== null && as !== 'blocked' && as !== 'muted')
      throw refusal('bad-value', '`as` is blocked, muted or null', { where: '/as' });
    response.json({ user, blocks: (await kept.set({ user, other, as })).blocks });
  };

  return [
    route('GET /v1/blocks', { right: 'read', query: ['user'] }, list),
    route('POST /v1/blocks', { right: 'notify', body: BlockDto }, set),
  ];
}
