import { createPublicKey, type KeyObject } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { dirname, resolve } from 'node:path';
import {
  type AccessRule,
  accessWords,
  type ChannelRule,
  ChannelRules,
  defaultLogBounds,
  type EngineOptions,
  type Keeping,
  parametersOf,
  parsePattern,
} from '@nine-bells/core';
import { isMap, isScalar, type Node } from 'yaml';
import {
  checkedText,
  duration,
  type Fault,
  flag,
  listOf,
  mapOf,
  oneOf,
  optional,
  type Reader,
  readYaml,
  required,
  size,
  text,
  whole,
} from './yamlReader.js';

/** Everything that an operator sets, with the defaults filled in. */
export interface Configuration {
  /** Shown in the console. */
  readonly name: string;
  readonly host: string;
  /** 0 for any free port. */
  readonly port: number;
  /** The folder of the database, the first API key and the service's own secret. */
  readonly data: string;
  /** Origins whose pages may open a line; all if absent. */
  readonly origins: readonly string[] | undefined;
  readonly engine: Partial<EngineOptions>;
  readonly tokens: TokenConfiguration;
  readonly channels: readonly ChannelRule[];
  readonly sqliteSynchronous: 'full' | 'normal';
}

export interface TokenConfiguration {
  /** The HS256 secret (RFC 7518, section 3.2: at least 32 bytes). Without it no token is taken. */
  readonly secret: string | undefined;
  /** Public keys, each for its own algorithm only. */
  readonly publicKeys: readonly TokenKey[];
  /** A set of public keys at a URL (RFC 7517), and the algorithms that are taken from it. */
  readonly jwks: { readonly url: string; readonly algorithms: readonly TokenAlgorithm[] } | undefined;
  readonly issuer: string | undefined;
  readonly audience: string | undefined;
  /** By how much clocks may differ, in milliseconds. */
  readonly toleranceMs: number;
}

/** Algorithms with a public key (RFC 7518, section 3.1; RFC 8037). */
export const tokenAlgorithms = ['RS256', 'ES256', 'EdDSA'] as const;
export type TokenAlgorithm = (typeof tokenAlgorithms)[number];

export interface TokenKey {
  readonly algorithm: TokenAlgorithm;
  readonly key: KeyObject;
}

export const defaultPort = 9119;

/** A configuration that cannot be used, with every mistake in it. */
export class ConfigurationError extends Error {
  readonly faults: readonly Fault[];

  constructor(faults: readonly Fault[]) {
    super(faults.map(faultLine).join('\n'));
    this.name = 'ConfigurationError';
    this.faults = faults;
  }
}

/** `bells.yaml:12:5: channels[1].logbook: expected ...` */
export function faultLine({ file, line, column, path, detail }: Fault): string {
  return `${file}:${line}:${column}: ${path === '' ? '' : `${path}: `}${detail}`;
}

/** What stands above the file: from the command line, else the environment. */
export interface Overrides {
  readonly host?: string | undefined;
  readonly port?: number | undefined;
  readonly data?: string | undefined;
}

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
  const { value, faults } = readYaml(source, file, document);
  if (value === undefined) throw new ConfigurationError(faults);
  const { service, tokens, channels } = value;
  const folder = dirname(resolve(file));
  const limits = service?.limits;
  const engine = defined({
    instance: service?.instance,
    guests: service?.guests,
    pulseMs: service?.pulse,
    frameBytes: limits?.frame,
    dataBytes: limits?.data,
    channelsPerSession: limits?.channels,
    connections: limits?.connections,
    sendQueueBytes: limits?.sendQueue,
  });
  return {
    name: service?.name ?? 'Nine Bells',
    host: overrides.host ?? service?.host ?? '127.0.0.1',
    port: overrides.port ?? service?.port ?? defaultPort,
    data: overrides.data === undefined ? resolve(folder, service?.data ?? 'data') : resolve(overrides.data),
    origins: service?.origins,
    engine,
    tokens: {
      secret:
        tokens?.secret ??
        (tokens?.secretFile === undefined ? undefined : secretFrom(resolve(folder, tokens?.secretFile), file)),
      publicKeys: (tokens?.publicKeys ?? []).map((each, index) => publicKeyFrom(each, folder, file, index)),
      jwks: tokens?.jwks,
      issuer: tokens?.issuer,
      audience: tokens?.audience,
      toleranceMs: tokens?.tolerance ?? 5_000,
    },
    channels: channels ?? [],
    sqliteSynchronous: service?.synchronous ?? 'full',
  };
}

// ------------------------------------------------------------------------------------- the file's grammar

/** A value of an access rule: text, or a parameter that the channel rule's pattern has. */
function accessValue(parameters: readonly string[]): Reader<string> {
  return (node, at) => {
    const value = text(200)(node, at);
    if (value === undefined || !value.startsWith(':')) return value;
    return oneOf(parameters.map((name) => `:${name}`))(node, at);
  };
}

/** An access rule: a word, or a map with one condition. */
function accessRule(parameters: readonly string[]): Reader<AccessRule> {
  const value = required(accessValue(parameters));
  const self: Reader<AccessRule> = (node, at) => condition(node, at);
  const list = required(listOf(self, 1));
  const conditions: Readonly<Record<string, Reader<unknown>>> = {
    role: mapOf({ role: value }),
    user: mapOf({ user: value }),
    all: mapOf({ all: list }),
    any: mapOf({ any: list }),
    not: mapOf({ not: required(self) }),
  };
  const claim = { claim: required(text(100)) };
  const condition: Reader<AccessRule> = (node, at) => {
    if (!isMap(node)) return oneOf(accessWords)(node, at);
    if (node.has('claim'))
      return (node.has('is') ? mapOf({ ...claim, is: value }) : mapOf({ ...claim, holds: value }))(
        node,
        at,
      ) as AccessRule;
    const name = Object.keys(conditions).find((each) => node.has(each));
    // Without any of them, the reader of all of them says what there is.
    const reader = name === undefined ? mapOf(anyCondition) : (conditions[name] as Reader<unknown>);
    return reader(node, at) as AccessRule | undefined;
  };
  return condition;
}

const anyCondition = Object.fromEntries(
  ['role', 'user', 'claim', 'all', 'any', 'not'].map((name) => [name, required(text())]),
);

const recentBounds = mapOf({ messages: optional(whole(1, 1_000_000)), for: optional(duration) });
const recentMap = mapOf({ recent: required(recentBounds) });

const logbook: Reader<Keeping> = (node, at) => {
  if (isScalar(node) || node === null) {
    const word = oneOf(['recent', 'kept'] as const)(node, at);
    if (word === undefined) return undefined;
    return word === 'kept' ? { keep: 'kept' } : { keep: 'recent', bounds: defaultLogBounds };
  }
  const bounds = recentMap(node, at)?.recent;
  if (bounds === undefined) return undefined;
  return {
    keep: 'recent',
    bounds: {
      messages: bounds.messages ?? defaultLogBounds.messages,
      forMs: bounds.for ?? defaultLogBounds.forMs,
    },
  };
};

const channel: Reader<ChannelRule> = (node, at) => {
  const access = optional(accessRule(parametersIn(node)));
  const found = mapOf({
    pattern: required(checkedText((value) => void parsePattern(value))),
    about: optional(text(200)),
    logbook: optional(logbook),
    allow: optional(mapOf({ enter: access, read: access, publish: access })),
    data: optional(size),
  })(node, at);
  if (found?.pattern === undefined) return undefined;
  return {
    pattern: found.pattern,
    logbook: found.logbook ?? { keep: 'recent', bounds: defaultLogBounds },
    allow: defined(found.allow ?? {}),
    ...(found.about === undefined ? {} : { about: found.about }),
    ...(found.data === undefined ? {} : { dataBytes: found.data }),
  };
};

/** The parameters of a channel rule's pattern; none if the pattern has a mistake, which is reported where it stands. */
function parametersIn(node: Node | null): readonly string[] {
  try {
    return isMap(node) ? parametersOf(parsePattern(String(node.get('pattern')))) : [];
  } catch {
    return [];
  }
}

/** The list of channel rules; that no two match the same names is said where the second one stands. */
const channels: Reader<ChannelRule[]> = (node, at) => {
  const rules = listOf(channel)(node, at);
  if (rules === undefined) return undefined;
  for (const index of rules.keys()) {
    try {
      new ChannelRules(rules.slice(0, index + 1));
    } catch (error) {
      const place = (node as unknown as { items: Node[] }).items[index] ?? null;
      return at.element(index, place).fault(place, (error as Error).message);
    }
  }
  return rules;
};

const minSecretBytes = 32;

const secret = checkedText((value) => {
  const bytes = Buffer.byteLength(value);
  if (bytes < minSecretBytes)
    throw new RangeError(`expected at least ${minSecretBytes} bytes for HS256, found ${bytes}`);
});

const algorithm = oneOf(tokenAlgorithms);

const jwksUrl = checkedText((value) => {
  if (!URL.canParse(value) || !/^https?:$/.test(new URL(value).protocol))
    throw new RangeError(`expected an http or https URL, found ${JSON.stringify(value)}`);
});

const jwksMembers = mapOf({ url: required(jwksUrl), algorithms: required(listOf(algorithm, 1)) });
const publicKeyMembers = mapOf({ file: required(text()), algorithm: required(algorithm) });

const jwks: Reader<{ url: string; algorithms: TokenAlgorithm[] }> = (node, at) => {
  const found = jwksMembers(node, at);
  return found?.url === undefined || found.algorithms === undefined
    ? undefined
    : { url: found.url, algorithms: found.algorithms };
};

interface PublicKeyFile {
  readonly file: string;
  readonly algorithm: TokenAlgorithm;
}

const publicKey: Reader<PublicKeyFile> = (node, at) => {
  const found = publicKeyMembers(node, at);
  return found?.file === undefined || found.algorithm === undefined
    ? undefined
    : { file: found.file, algorithm: found.algorithm };
};

const tokenMembers = mapOf({
  secret: optional(secret),
  secretFile: optional(text()),
  publicKeys: optional(listOf(publicKey)),
  jwks: optional(jwks),
  issuer: optional(text()),
  audience: optional(text()),
  tolerance: optional(duration),
});

const tokens: typeof tokenMembers = (node, at) => {
  if (isMap(node) && node.has('secret') && node.has('secretFile'))
    return at.fault(node, 'expected `secret` or `secretFile`, found both');
  return tokenMembers(node, at);
};

const origin = checkedText((value) => {
  if (!URL.canParse(value) || new URL(value).origin !== value)
    throw new RangeError(`expected an origin such as https://regatta.example, found ${JSON.stringify(value)}`);
});

const document = mapOf({
  service: optional(
    mapOf({
      name: optional(text(100)),
      host: optional(text(255)),
      port: optional(whole(0, 65_535)),
      data: optional(text()),
      instance: optional(text(64)),
      origins: optional(listOf(origin)),
      guests: optional(flag),
      pulse: optional(duration),
      synchronous: optional(oneOf(['full', 'normal'] as const)),
      limits: optional(
        mapOf({
          frame: optional(size),
          data: optional(size),
          channels: optional(whole(1, 10_000)),
          connections: optional(whole(1, 1_000_000)),
          sendQueue: optional(size),
        }),
      ),
    }),
  ),
  tokens: optional(tokens),
  channels: required(channels),
});

/** What kind of key an algorithm needs. */
const keyKinds: Readonly<Record<TokenAlgorithm, string>> = { RS256: 'rsa', ES256: 'ec P-256', EdDSA: 'ed25519' };

function publicKeyFrom(
  { file: name, algorithm }: PublicKeyFile,
  folder: string,
  file: string,
  index: number,
): TokenKey {
  const fault = (detail: string): ConfigurationError =>
    new ConfigurationError([{ file, line: 1, column: 1, path: `tokens.publicKeys[${index}]`, detail }]);
  let key: KeyObject;
  try {
    key = createPublicKey(readFileSync(resolve(folder, name), 'utf8'));
  } catch (error) {
    throw fault(`${name} does not hold a public key in PEM: ${(error as Error).message}`);
  }
  const { asymmetricKeyType: type, asymmetricKeyDetails: details } = key;
  const kind = type === 'ec' ? `ec ${details?.namedCurve === 'prime256v1' ? 'P-256' : details?.namedCurve}` : type;
  if (kind !== keyKinds[algorithm])
    throw fault(`${algorithm} needs a key of kind ${keyKinds[algorithm]}, ${name} holds one of kind ${kind}`);
  return { algorithm, key };
}

function secretFrom(path: string, file: string): string {
  const fault = (detail: string): ConfigurationError =>
    new ConfigurationError([{ file, line: 1, column: 1, path: 'tokens.secretFile', detail }]);
  let value: string;
  try {
    value = readFileSync(path, 'utf8').trim();
  } catch (error) {
    throw fault(`cannot be read: ${(error as Error).message}`);
  }
  if (Buffer.byteLength(value) < minSecretBytes)
    throw fault(`expected at least ${minSecretBytes} bytes for HS256 in ${path}, found ${Buffer.byteLength(value)}`);
  return value;
}

/** Without the members that are `undefined`. */
function defined<T extends object>(value: T): { [K in keyof T]?: NonNullable<T[K]> } {
  return Object.fromEntries(Object.entries(value).filter(([, each]) => each !== undefined)) as never;
}
