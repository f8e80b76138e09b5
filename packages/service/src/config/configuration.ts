import { readFileSync } from 'node:fs';
import { dirname, resolve } from 'node:path';
import { type Allow, defaultRecentChars, defaultRecordRetention, readRange } from '@nine-bells/core';
import { defined } from '@nine-bells/wire';
import { readYaml } from '@nine-bells/yaml';
import { ContractCompiler } from '../contracts/compile.js';
import { publicKeyFrom, secretFrom } from './keyFiles.js';
import { databaseOf, document, relayOf, secretFault, waitingOf } from './schema.js';
import { askSecretFault } from './secrets.js';
import {
  type Configuration,
  ConfigurationError,
  defaultClaimNames,
  type HookConfiguration,
  type IntakeConfiguration,
  type Overrides,
} from './types.js';
import type { WrittenHook, WrittenIntake, WrittenSecret } from './webhookSchema.js';

export const defaultPort = 9119;

/**
 * Reads a configuration file.
 *
 * @throws {ConfigurationError} with every mistake found
 */
export function readConfiguration(file: string, overrides: Overrides = {}): Configuration {
  let source: string;
  try {
    source = readFileSync(file, 'utf8');
  } catch (error) {
    throw new ConfigurationError([
      { file, line: 1, column: 1, path: '', detail: `cannot be read: ${(error as Error).message}` },
    ]);
  }
  return parseConfiguration(source, file, overrides);
}

/** As `readConfiguration`, of text; relative paths in it start from the folder of `file`. */
export function parseConfiguration(source: string, file: string, overrides: Overrides = {}): Configuration {
  const { value, faults, warnings } = readYaml(source, file, document);
  if (value === undefined) throw new ConfigurationError(faults);
  const { service, tokens, channels, users, ask, relay } = value;
  const folder = dirname(resolve(file));
  const limits = service?.limits;
  const fromFile = (path: string, place: string, faultOf: (value: string) => string | undefined): string =>
    overrides.withoutSecrets ? '' : secretFrom(resolve(folder, path), file, place, faultOf);
  const secretsOf = (
    written: {
      readonly secret?: readonly string[] | undefined;
      readonly secretFile?: readonly string[] | undefined;
    } = {},
    place: string,
    faultOf: (value: string) => string | undefined,
  ): readonly string[] =>
    written.secret ?? written.secretFile?.map((path) => fromFile(path, `${place}.secretFile`, faultOf)) ?? [];
  const read: SecretReader = (written, place, faultOf = () => undefined) =>
    typeof written === 'string' ? written : fromFile(written.file, place, faultOf);
  const intakes = (value.intakes ?? []).map((each) => intakeOf(each, read));
  const compiler = new ContractCompiler(resolve(file), folder);
  const rules = (channels ?? []).map((rule) => compiler.rule(rule));
  const notices = value.notices && compiler.contract(value.notices);
  if (compiler.faults.length > 0) throw new ConfigurationError(compiler.faults);
  const hooks = [...(value.hooks ?? []), ...(value.feeds ?? [])].map((each) => hookOf(each, read));
  const engine = defined({
    instance: service?.instance,
    guests: service?.guests,
    traces: service?.traces,
    pulseMs: service?.pulse,
    frameBytes: limits?.frame,
    dataBytes: limits?.data,
    channelsPerSession: limits?.channels,
    connections: limits?.connections,
    sendQueueBytes: limits?.sendQueue,
    connectionsPerAddress: limits?.connectionsPerAddress,
    connectionsPerUser: limits?.connectionsPerUser,
    failedHellos: limits?.failedHellos,
    requests: limits?.requests,
    publishes: limits?.publishes,
    hails: limits?.hails,
    sets: limits?.sets,
    statusBytes: limits?.status,
    backlogBytes: limits?.backlog,
    waiting: waitingOf(limits?.waiting, limits?.unreadFor),
    newChannels: limits?.newChannels,
    newChannelsPerAddress: limits?.newChannelsPerAddress,
    newConnectionsPerAddress: limits?.newConnectionsPerAddress,
    received: limits?.received === undefined ? undefined : { count: limits.received / 128, perMs: 1_000 / 128 },
    // What a client has missed comes at once, and for what exceeds that it waits.
    given: limits?.given === undefined ? undefined : { count: limits.given * 4, perMs: 4_000 },
    askWithinMs: ask?.within,
    notices,
    records: value.keep && { ...defaultRecordRetention, ...defined(value.keep) },
    users: users === undefined ? undefined : (defined(users) as Allow),
  });
  return {
    name: service?.name ?? 'Nine Bells',
    host: overrides.host ?? service?.host ?? '127.0.0.1',
    port: overrides.port ?? service?.port ?? defaultPort,
    data: overrides.data === undefined ? resolve(folder, service?.data ?? 'data') : resolve(overrides.data),
    origins: service?.origins,
    apiOrigins: service?.apiOrigins ?? [],
    trustedProxies: service?.trustedProxies ?? ['loopback'],
    keyRequests: limits?.keyRequests ?? { count: 2_000, perMs: 1_000 },
    askSecrets: secretsOf(ask, 'ask', askSecretFault),
    recentChars: limits?.recent ?? defaultRecentChars,
    engine,
    tokens: {
      secrets: secretsOf(tokens, 'tokens', secretFault),
      publicKeys: (overrides.withoutSecrets ? [] : (tokens?.publicKeys ?? [])).map((each, index) =>
        publicKeyFrom(each, folder, file, index),
      ),
      jwks: tokens?.jwks,
      issuer: tokens?.issuer,
      audience: tokens?.audience,
      toleranceMs: tokens?.tolerance ?? 5_000,
      claims: { ...defaultClaimNames, ...defined(tokens?.claims ?? {}) },
    },
    channels: rules,
    warnings,
    sqliteSynchronous: service?.synchronous ?? 'full',
    database: databaseOf(service?.database, overrides.database, file),
    drainMs: service?.drain ?? 0,
    compressAbove: service?.compress,
    nativeWriter: service?.nativeWriter ?? true,
    workers: overrides.workers ?? service?.workers ?? 0,
    relay: relayOf(relay, overrides.relay, file),
    address: service?.address,
    publicUrl: service?.publicUrl,
    secrets: secretsOf(service, 'service', secretFault),
    intakes,
    hooks,
    calls: value.calls ?? [],
    operators: service?.operators,
    hookNetworks: (service?.hookNetworks ?? []).map(readRange),
  };
}

/** Reads a secret from its file, where it does not stand in the configuration itself. */
type SecretReader = (written: WrittenSecret, place: string, faultOf?: (value: string) => string | undefined) => string;

function intakeOf({ verify, ...intake }: WrittenIntake, read: SecretReader): IntakeConfiguration {
  const place = `intakes.${intake.name}.verify`;
  if (verify.type === 'none') return { ...intake, verify };
  const faultOf = verify.type === 'standard' ? askSecretFault : undefined;
  return { ...intake, verify: { ...verify, secrets: verify.secrets.map((each) => read(each, place, faultOf)) } };
}

function hookOf({ secrets, ...hook }: WrittenHook, read: SecretReader): HookConfiguration {
  return { ...hook, secrets: secrets.map((each) => read(each, `hooks.${hook.name}.secrets`, askSecretFault)) };
}

export * from './types.js';
