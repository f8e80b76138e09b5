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
import { type Logger, reportTo } from '../log.js';
import { readSavedChannels, saveChannels } from '../store/recentFile.js';
import type { ProgressMarks } from '../store/restoreWatch.js';
import type { ServiceClock } from '../system/clock.js';
import { randomText, systemIds } from '../system/ids.js';
import type { Warnings } from '../system/warnings.js';
import { RedisExchange } from './redisExchange.js';
import type { TermBook } from './terms.js';

/** A relay, and how it ends. */
export interface OpenRelay {
  readonly relay: Relay;
  /** Absent where the relay outlives no instance. */
  readonly marks?: ProgressMarks;
  stop(): Promise<void>;
}

export interface RelayHost {
  readonly instance: string;
  readonly log: Logger;
  readonly clock: ServiceClock;
  readonly warnings: Warnings;
  readonly terms: TermBook;
  /** The exchange of the first of several processes. */
  readonly exchange?: Exchange | undefined;
}

/** The relay that a configuration asks for: alone, through Redis, or through the exchange of the first of several processes. */
export function openRelay(
  configuration: Configuration,
  { instance, log, clock, warnings, terms, exchange }: RelayHost,
): OpenRelay {
  const report = reportTo(log);
  if (exchange !== undefined) return shared(configuration, exchange, clock, instance, report, () => {});
  if (configuration.relay !== undefined) {
    const redis = new RedisExchange({
      ...configuration.relay,
      report,
      terms,
      settled: clock.settled,
      measured: (serverMs, fromMs, toMs) => clock.measured(serverMs, fromMs, toMs),
      evicts: (policy) =>
        warnings.set(
          'relay-evicts',
          policy &&
            `Redis evicts keys (maxmemory-policy ${policy}): messages, keys and bans may be lost; set noeviction`,
        ),
    });
    return { ...shared(configuration, redis, clock, instance, report, () => redis.close()), marks: redis.marks };
  }
  const relay = new SoloRelay(
    clock,
    systemIds(),
    readSavedChannels(configuration.data, log),
    configuration.recentChars,
  );
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
  clock: ServiceClock,
  instance: string,
  report: Report,
  close: () => void,
): OpenRelay {
  const rules = new ChannelRules(configuration.channels as ChannelRule[]);
  const relay = new SharedRelay(exchange, clock, {
    instance,
    incarnation: () => randomText(8),
    boundsOf: (channel) => {
      const logbook = rules.match(channel)?.rule.logbook;
      return logbook?.type === 'recent' ? logbook.bounds : defaultLogBounds;
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
