import type { Engine } from '@nine-bells/core';
import { IsOptional } from 'class-validator';
import { readBody } from './body.js';
import { IsMs } from './publishDto.js';
import { type Route, route, type Serve } from './route.js';

class DrainDto {
  @IsOptional()
  @IsMs(0, 3_600_000)
  withinMs?: number;
}

/** `POST /v1/drain`: ends the instance, after its clients had time to go elsewhere. */
export function draining(engine: Engine, drain: (withinMs: number | undefined) => void): readonly Route[] {
  const serve: Serve<'POST /v1/drain'> = (request, response) => {
    const { withinMs } = readBody(DrainDto, request.body ?? {});
    response.json({ ...(withinMs == null ? {} : { withinMs }), connections: engine.stats.connections });
    // The answer is sent before the connection ends.
    setImmediate(() => drain(withinMs ?? undefined));
  };
  return [route('POST /v1/drain', { right: 'administer', statuses: [202], body: DrainDto }, serve)];
}
