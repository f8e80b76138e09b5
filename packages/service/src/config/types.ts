import type { KeyObject } from 'node:crypto';
import type { AddressRange, ChannelRule, EngineOptions, Hook, Rate } from '@nine-bells/core';
import type { Fault } from '@nine-bells/yaml';
import type { HmacScheme, WrittenCall, WrittenIntake } from './webhookSchema.js';

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
  /** Origins whose pages may call the HTTP interface; none but the service's own if absent. */
  readonly apiOrigins: readonly string[];
  /** Addresses, or ranges of them, of proxies whose word for the client's address is taken. */
  readonly trustedProxies: readonly string[];
  /** Requests of one API key. */
  readonly keyRequests: Rate;
  /** Secrets that sign questions to the application (Standard Webhooks: `whsec_` and 24 to 64 bytes in base64). */
  readonly askSecrets: readonly string[];
  /** Most characters of all recent channels together, in memory. */
  readonly recentChars: number;
  readonly engine: Partial<EngineOptions>;
  readonly tokens: TokenConfiguration;
  readonly channels: readonly ChannelRule[];
  /** Parts of the file that are allowed and likely mistakes. */
  readonly warnings: readonly Fault[];
  readonly sqliteSynchronous: 'full' | 'normal';
  /** The URL of a database that several machines share (`postgres://`); absent: a file in the data folder. */
  readonly database: string | undefined;
  /** How long clients have to go elsewhere when the instance ends, in milliseconds. */
  readonly drainMs: number;
  /** Compresses frames above so many bytes, for clients that can; never if absent. */
  readonly compressAbove: number | undefined;
  /** Whether frames may be written by the native writer, where it was built. */
  readonly nativeWriter: boolean;
  /** Processes on this machine that share the work; 0: this one does it. */
  readonly workers: number;
  /** Where several instances meet; a single one needs none. */
  readonly relay: RelayConfiguration | undefined;
  /** Where the other instances reach this one, such as `http://10.0.0.5:9119`; found out if absent. */
  readonly address: string | undefined;
  /** Public origin of the service, such as `https://bells.regatta.example`. */
  readonly publicUrl: string | undefined;
  /** Secrets of all instances, for deriving keys; the first one signs. Empty: a secret in the data folder. */
  readonly secrets: readonly string[];
  readonly intakes: readonly IntakeConfiguration[];
  readonly hooks: readonly HookConfiguration[];
  readonly calls: readonly CallConfiguration[];
  /** The role whose users get a notice when a hook is paused. */
  readonly operators: string | undefined;
  /** Addresses to which hooks that were registered over HTTP may lead, beside public ones. */
  readonly hookNetworks: readonly AddressRange[];
}

/** How an intake finds out who has sent a request. Each of several secrets is good. */
export type Verification =
  | { readonly type: 'none' }
  | { readonly type: 'standard'; readonly secrets: readonly string[]; readonly toleranceMs: number }
  | ({ readonly type: 'hmac'; readonly secrets: readonly string[] } & HmacScheme)
  | { readonly type: 'bearer'; readonly secrets: readonly string[] }
  | { readonly type: 'basic'; readonly user: string; readonly secrets: readonly string[] };

export interface IntakeConfiguration extends Omit<WrittenIntake, 'verify'> {
  readonly verify: Verification;
}

/** What clients may call; without a URL it needs a function in code. */
export type CallConfiguration = WrittenCall & { readonly name: string };

export interface HookConfiguration extends Hook {
  /** Sign what is sent (Standard Webhooks); the receiver may know any of them. */
  readonly secrets: readonly string[];
}

/** A relay. */
export interface RelayConfiguration {
  /** `redis://` or `rediss://`, of any process of a cluster. */
  readonly url: string;
  /** What all keys begin with. */
  readonly prefix: string;
}

export interface TokenConfiguration {
  /**
   * Secrets for HS256 (RFC 7518, section 3.2: at least 32 bytes each). Tokens signed with any of them are taken; the first one signs.
   * Without a secret and keys no token is taken.
   */
  readonly secrets: readonly string[];
  /** Public keys, each for its own algorithm only. */
  readonly publicKeys: readonly TokenKey[];
  /** A set of public keys at a URL (RFC 7517), and the algorithms that are taken from it. */
  readonly jwks: { readonly url: string; readonly algorithms: readonly TokenAlgorithm[] } | undefined;
  readonly issuer: string | undefined;
  readonly audience: string | undefined;
  /** By how much clocks may differ, in milliseconds. */
  readonly toleranceMs: number;
  /** Under which names a token says what; a list is a path into nested claims. */
  readonly claims: ClaimNames;
}

/** The name of a claim, or the path to it through nested ones. */
export type ClaimName = string | readonly string[];

export interface ClaimNames {
  readonly user: ClaimName;
  readonly name: ClaimName;
  readonly roles: ClaimName;
  /** Access rules that the token brings along. */
  readonly access: ClaimName;
}

export const defaultClaimNames: ClaimNames = { user: 'sub', name: 'name', roles: 'roles', access: 'access' };

/** Algorithms with a public key (RFC 7518, section 3.1; RFC 8037). */
export const tokenAlgorithms = ['RS256', 'ES256', 'EdDSA'] as const;
export type TokenAlgorithm = (typeof tokenAlgorithms)[number];

export interface TokenKey {
  readonly algorithm: TokenAlgorithm;
  readonly key: KeyObject;
}

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
  readonly workers?: number | undefined;
  /** The URL of a shared database; empty for none. */
  readonly database?: string | undefined;
  /** The URL of the relay; empty for none. */
  readonly relay?: string | undefined;
  /** Files of secrets and keys are not read: for what only looks at the configuration. */
  readonly withoutSecrets?: boolean | undefined;
}
