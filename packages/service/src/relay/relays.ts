import {
  type ChannelRule,
  ChannelRules,
  defaultLogBounds,
  type Exchange,
  type Relay,
  type Report,
  SharedRelay,
  SoloRelay,
} from '@nine-bells/core';
import type { Configuration } from '../config/configuration.js';
import type { Logger } from '../log.js';
import { readSavedChannels, saveChannels } from '../store/recentFile.js';
import { systemClock } from '../system/clock.js';
import { randomText, systemIds } from '../system/ids.js';
import { RedisExchange } from './redisExchange.js';

/** A relay, and how it ends. */
export interface OpenRelay {
  readonly relay: Relay;
  stop(): Promise<void>;
}

/** The relay that a configuration asks for: alone, through Redis, or through the exchange of the first of several processes. */
export function openRelay(
  configuration: Configuration,
  { instance, log, exchange }: { instance: string; log: Logger; exchange?: Exchange | undefined },
): OpenRelay {
  const report: Report = (error, about) => log.warn({ err: error, ...about }, 'the relay');
  if (exchange !== undefined) return shared(configuration, exchange, instance, report, () => {});
  if (configuration.relay !== undefined) {
    const redis = new RedisExchange({ ...configuration.relay, report });
    return shared(configuration, redis, instance, report, () => redis.close());
  }
  const relay = new SoloRelay(systemClock, systemIds(), readSavedChannels(configuration.data, log));
  return {
    relay,
    async stop() {
      relay.stop();
      saveChannels(configuration.data, relay.saved(), log);
    },
  };
}

function shared(
  configuration: Configuration,
  exchange: Exchange,
  instance: string,
  report: Report,
  close: () => void,
): OpenRelay {
  const rules = new ChannelRules(configuration.channels as ChannelRule[]);
  const relay = new SharedRelay(exchange, systemClock, {
    instance,
    incarnation: () => randomText(8),
    boundsOf: (channel) => {
      const logbook = rules.match(channel)?.rule.logbook;
      return logbook?.keep === 'recent' ? logbook.bounds : defaultLogBounds;
    },
    report,
  });
  return {
    relay,
    async stop() {
      await relay.stop();
      close();
    },
  };
}
