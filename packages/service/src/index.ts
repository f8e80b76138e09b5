export { channelRule } from '@nine-bells/core';
export type { Fault } from '@nine-bells/yaml';
export type { Change, Party } from './changes/change.js';
export { configurationChanges } from './changes/configurationChanges.js';
export { configurationWarnings } from './check/check.js';
export {
  type Configuration,
  ConfigurationError,
  defaultPort,
  faultLine,
  type Overrides,
  parseConfiguration,
  readConfiguration,
  type TokenConfiguration,
} from './config/configuration.js';
export { channelRulesOf } from './http/channelRules.js';
export { descriptionsOf } from './http/described.js';
export { webSocketEncoding } from './line/webSocketEncoding.js';
export { type Logger, type LogOptions, logEvent, logEvents, makeLog } from './log.js';
export type { Outbound, OutboundAnswer, OutboundRequest } from './outbound/outbound.js';
export { RedisExchange, type RedisExchangeOptions } from './relay/redisExchange.js';
export { compareTerms, MemoryTermBook, type ServerFacts } from './relay/terms.js';
export { type RunningService, Service, type ServiceOptions } from './service.js';
export { ServiceClock } from './system/clock.js';
export { signToken, type TokenClaims } from './tokens/tokens.js';
export { serviceVersion } from './version.js';
export type { FileArguments } from './workers/fromFile.js';
export { fromFile, startService } from './workers/startService.js';
export { type WorkerService, Workers } from './workers/workers.js';
