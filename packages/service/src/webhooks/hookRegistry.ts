import { randomBytes } from 'node:crypto';
import type { Hook, HookState, RegisteredHook } from '@nine-bells/core';
import { defined, type Json, problem, refusal } from '@nine-bells/wire';
import { forOthers, readYaml } from '@nine-bells/yaml';
import { BodyError } from '../bodyError.js';
import type { HookConfiguration } from '../config/types.js';
import { feed as feedReader, hook as hookReader, type WrittenHook, webhookName } from '../config/webhookSchema.js';
import type { ApiKey, ApiKeys } from '../store/apiKeys.js';
import type { AddressGuard } from './addressGuard.js';
import { checkHookRights, hookRightsFault } from './hookRights.js';

/** Most hooks that are registered over HTTP. */
const maxRegistered = 200;
/** Most characters of a registration. */
const maxChars = 32_768;

/** The hooks of the configuration, and those that applications have registered. */
export class HookRegistry {
  readonly guard: AddressGuard;
  readonly #configured: ReadonlyMap<string, HookConfiguration>;
  readonly #keys: ApiKeys;
  /** The secrets of registered hooks, as they were read last. */
  readonly #secrets = new Map<string, readonly string[]>();

  constructor(configured: readonly HookConfiguration[], keys: ApiKeys, guard: AddressGuard) {
    this.#configured = new Map(configured.map((hook) => [hook.name, hook]));
    this.#keys = keys;
    this.guard = guard;
  }

  secretsOf(name: string): readonly string[] | undefined {
    return this.#configured.get(name)?.secrets ?? this.#secrets.get(name);
  }

  /** Whether the operator has configured the hook. */
  isTrusted(name: string): boolean {
    return this.#configured.has(name);
  }

  /** Reads a registered hook; `undefined` when the key is over with which it was registered, or may not do so any more. */
  readonly readHook = ({ name, registered }: HookState): Hook | undefined => {
    if (registered === undefined) return undefined;
    const key = this.#keys.byId(registered.key);
    const { value } = read(kindOf(registered.definition), registered.definition);
    if (key === undefined || value === undefined || hookRightsFault(key, value) !== undefined) return undefined;
    this.#secrets.set(name, registered.secrets);
    const { secrets: _, ...hook } = value;
    return { name, ...hook };
  };

  /**
   * Reads what a caller registers, and makes a secret where it names none.
   *
   * @throws {ProblemError} `bad-value` with all faults, `not-allowed`, `too-large`
   */
  registrationOf(
    kind: 'hook' | 'feed',
    body: unknown,
    key: ApiKey,
    registered: readonly HookState[],
  ): { name: string; hook: RegisteredHook } {
    if (typeof body !== 'object' || body === null || Array.isArray(body))
      throw refusal('bad-value', 'a JSON object is expected');
    if (JSON.stringify(body).length > maxChars)
      throw refusal('too-large', `a hook has at most ${maxChars} characters of JSON`);
    const { name, ...rest } = body as Record<string, Json>;
    if (typeof name !== 'string' || !webhookName.test(name))
      throw refusal('bad-value', 'a name has 1 to 40 of a-z, 0-9 and -', { where: '/name' });
    if (this.#configured.has(name))
      throw refusal('not-allowed', `the hook ${name} stands in the configuration, and is changed there`);
    const before = registered.find((each) => each.name === name)?.registered;
    if (before !== undefined && before.key !== key.id && !key.rights.has('administer'))
      throw refusal('not-allowed', `the hook ${name} was registered with another key`);
    if (before === undefined && registered.length >= maxRegistered)
      throw refusal('too-large', `at most ${maxRegistered} hooks are registered`);
    const secrets = kind === 'feed' ? [] : (secretsIn(rest.secrets) ?? before?.secrets ?? [newSecret()]);
    const definition = (kind === 'feed' ? rest : { ...rest, secrets: [...secrets] }) as Json;
    const { value, faults } = read(kind, definition);
    if (value === undefined)
      throw new BodyError(problem('bad-value', faults[0]?.detail, defined({ where: faults[0]?.where })), faults);
    if (value.secrets.some((each) => typeof each !== 'string'))
      throw refusal('bad-value', 'a secret is text here', { where: '/secrets' });
    checkHookRights(key, value);
    try {
      if (kind === 'hook') this.guard.check(value.url);
    } catch (error) {
      throw refusal('not-allowed', (error as Error).message, { where: '/url' });
    }
    const { secrets: _, ...shown } = definition as Record<string, Json>;
    const kept = kind === 'feed' ? shown : { ...shown, secrets: [hiddenSecret] };
    return { name, hook: { definition: kept, key: key.id, secrets } };
  }
}

/** Stands in a definition where its secrets were: those are kept apart. */
const hiddenSecret = `whsec_${Buffer.alloc(24).toString('base64')}`;

function newSecret(): string {
  return `whsec_${randomBytes(32).toString('base64')}`;
}

function secretsIn(given: Json | undefined): readonly string[] | undefined {
  if (given === undefined || given === null) return undefined;
  return [given].flat().map(String);
}

/** A feed has no receiver. */
function kindOf(definition: Json): 'hook' | 'feed' {
  return Object.hasOwn(definition as object, 'url') ? 'hook' : 'feed';
}

/** The grammar is that of the configuration. */
function read(
  kind: 'hook' | 'feed',
  definition: Json,
): {
  readonly value?: Omit<WrittenHook, 'name'>;
  readonly faults: readonly { readonly where: string; readonly detail: string }[];
} {
  const { value, faults } = readYaml(
    JSON.stringify(definition),
    kind,
    kind === 'feed' ? feedReader : hookReader,
    forOthers,
  );
  return {
    ...defined({ value }),
    faults: faults.map(({ path, detail }) => ({
      where: path === '' ? '' : `/${path.replaceAll(/\[(\d+)\]/g, '.$1').replaceAll('.', '/')}`,
      detail,
    })),
  };
}
