import type { Engine } from '@nine-bells/core';
import { defined } from '@nine-bells/wire';
import type * as Http from '@nine-bells/wire/http';
import { ArrayMaxSize, ArrayMinSize, IsArray, IsOptional, ValidateBy } from 'class-validator';
import type { ApiKey, ApiKeys } from '../store/apiKeys.js';
import { type Right, rightFault } from '../store/rights.js';
import { observerId } from '../tokens/tokens.js';
import { readBody } from './body.js';
import { IsMs, IsWords } from './publishDto.js';
import { type Route, route, type Serve } from './route.js';

class KeyDto {
  @IsWords(100)
  name!: string;

  @IsArray()
  @ArrayMinSize(1)
  @ArrayMaxSize(100)
  @ValidateBy(
    {
      name: 'isRight',
      validator: {
        validate: (value) => typeof value === 'string' && rightFault(value) === undefined,
        defaultMessage: (args) => {
          const wrong = (args?.value as unknown[] | undefined)?.find?.(
            (each) => typeof each !== 'string' || rightFault(each) !== undefined,
          );
          return typeof wrong === 'string' ? (rightFault(wrong) as string) : 'a right is a string';
        },
      },
    },
    { each: true },
  )
  rights!: string[];

  @IsOptional()
  @IsMs(1000, 10 * 365 * 86_400_000)
  forMs?: number;
}

/** `/v1/keys`: API keys are made, listed and revoked. */
export function apiKeys(keys: ApiKeys, engine: Engine): readonly Route[] {
  const make: Serve<'POST /v1/keys'> = async (request, response, { actor }) => {
    const { name, rights, forMs } = readBody(KeyDto, request.body);
    const made = await keys.make({ name, rights: rights as Right[], forMs: forMs ?? undefined }, actor);
    await engine.cluster.keysChanged();
    response.json({ ...shown(made.key), key: made.text });
  };

  const list: Serve<'GET /v1/keys'> = (_request, response) => {
    response.json({ keys: keys.all.map(shown) });
  };

  const revoke: Serve<'DELETE /v1/keys/:id'> = async (request, response, { actor }) => {
    const key = await keys.revoke(String(request.params.id), actor);
    await engine.cluster.keysChanged();
    for (const { name, registered } of await engine.store.hooks.hookStates())
      if (registered?.key === key.id) await engine.hooks.pause(name, 'its key was revoked');
    // Signs out observers with this key, and users made up in the workbench with it.
    await engine.moderation.signOut(observerId(key.id), actor, 'its key was revoked');
    response.json(shown(key));
  };

  return [
    route('POST /v1/keys', { right: 'administer', statuses: [201], body: KeyDto }, make),
    route('GET /v1/keys', { right: 'administer' }, list),
    route('DELETE /v1/keys/:id', { right: 'administer' }, revoke),
  ];
}

function shown({ id, name, rights, createdAtMs, expiresAtMs, lastUsedAtMs, revokedAtMs }: ApiKey): Http.ApiKeyInfo {
  return {
    id,
    name,
    rights: rights.all,
    createdAt: new Date(createdAtMs).toISOString(),
    ...defined({
      expiresAt: timeText(expiresAtMs),
      lastUsedAt: timeText(lastUsedAtMs),
      revokedAt: timeText(revokedAtMs),
    }),
  };
}

function timeText(ms: number | undefined): string | undefined {
  return ms === undefined ? undefined : new Date(ms).toISOString();
}
