import { accessSync, constants, existsSync, statSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { type AccessRule, defaultEngineOptions, overlap, parsePattern } from '@nine-bells/core';
import { QueryTypes, Sequelize } from 'sequelize';
import sqlite3 from 'sqlite3';
import { type Configuration, faultLine } from '../config/configuration.js';
import { filesWarning } from '../line/socketLimiter.js';
import { migrations } from '../store/migrations.js';

/**
 * What of a configuration is allowed and cannot work, or hardly as it was meant: one sentence each. Contacts neither a
 * database server nor a relay, and changes nothing.
 */
export async function configurationWarnings(configuration: Configuration): Promise<readonly string[]> {
  return [
    ...configuration.warnings.map(faultLine),
    ...originWarnings(configuration),
    ...ruleWarnings(configuration),
    ...limitWarnings(configuration),
    ...folderWarnings(configuration),
    ...(await databaseWarnings(configuration)),
    ...sharingWarnings(configuration),
  ];
}

function sharingWarnings({ relay, database, channels }: Configuration): string[] {
  const isKept = channels.some(({ logbook }) => logbook.type === 'kept');
  if (relay === undefined || database !== undefined || !isKept) return [];
  return [
    'instances that a relay links share the SQLite file: one that is stopped in the middle of a commit stops kept publishes of all; use PostgreSQL (`service.database`)',
  ];
}

function originWarnings({ origins, apiOrigins }: Configuration): string[] {
  return [...(origins ?? []), ...apiOrigins]
    .filter((origin) => origin.includes('*'))
    .map((origin) => `${origin} matches no page: an origin has no wildcards, each is listed by itself`);
}

/** The words and conditions that a rule is made of. */
function* parts(rule: AccessRule): Iterable<AccessRule> {
  yield rule;
  if (typeof rule !== 'object') return;
  if ('all' in rule) for (const each of rule.all) yield* parts(each);
  if ('any' in rule) for (const each of rule.any) yield* parts(each);
  if ('not' in rule) yield* parts(rule.not);
}

function ruleWarnings({ channels, engine, tokens }: Configuration): string[] {
  const guests = engine.guests ?? defaultEngineOptions.guests;
  const { secrets, publicKeys, jwks } = tokens;
  const takesTokens = secrets.length > 0 || publicKeys.length > 0 || jwks !== undefined;
  const warnings: string[] = [];
  if (!takesTokens && !guests)
    warnings.push(
      'no client can come in: there is no key for tokens (`tokens`), and guests are not let in (`service.guests`)',
    );
  for (const { pattern, allow } of channels)
    for (const [act, rule] of Object.entries(allow)) {
      const all = [...parts(rule as AccessRule)];
      const where = `${pattern}: allow.${act}`;
      if (!guests && all.includes('anyone'))
        warnings.push(
          `${where} says \`anyone\`, and guests are not let in: set \`service.guests\`, or say \`signed-in\``,
        );
      const needs = all.find(
        (each) => typeof each === 'object' && ('role' in each || 'claim' in each || 'user' in each),
      );
      if (!takesTokens && (needs !== undefined || all.includes('signed-in') || all.includes('token-allows')))
        warnings.push(`${where} asks who a client is, and there is no key for tokens (\`tokens\`)`);
    }
  return warnings;
}

function limitWarnings({ engine, drainMs, relay, workers, database }: Configuration): string[] {
  const options = { ...defaultEngineOptions, ...engine };
  const warnings: string[] = [];
  const files = filesWarning(engine.connections);
  if (files !== undefined) warnings.push(files);
  for (const name of ['connectionsPerAddress', 'connectionsPerUser'] as const)
    if (options[name] > options.connections)
      warnings.push(
        `limits.${name} (${options[name]}) is above limits.connections (${options.connections}), which holds first`,
      );
  if (drainMs > 0 && relay === undefined && workers === 0)
    warnings.push('service.drain waits for clients to go elsewhere, and with one instance there is no elsewhere');
  if (database !== undefined && relay === undefined)
    warnings.push('service.database is shared, and without `relay` only one instance may use it');
  return warnings;
}

function folderWarnings({ data }: Configuration): string[] {
  let folder = data;
  while (!existsSync(folder) && dirname(folder) !== folder) folder = dirname(folder);
  if (!statSync(folder).isDirectory()) return [`${folder} is no folder, and the data folder would be in it`];
  try {
    accessSync(folder, constants.W_OK);
    return [];
  } catch {
    return [`this user may not write into ${folder}, where the data folder is or would be`];
  }
}

/** Looks into a file that is there already, without changing it. */
async function databaseWarnings({ data, database, channels }: Configuration): Promise<string[]> {
  const file = join(data, 'bells.sqlite');
  if (database !== undefined || !existsSync(file)) return [];
  const connection = new Sequelize({
    dialect: 'sqlite',
    storage: file,
    logging: false,
    dialectOptions: { mode: sqlite3.OPEN_READONLY },
  });
  const select = <Row extends object>(sql: string): Promise<Row[]> =>
    connection.query<Row>(sql, { type: QueryTypes.SELECT });
  try {
    const known = new Set(migrations.map(({ name }) => name));
    const newer = (await select<{ name: string }>('SELECT name FROM migrations')).filter(
      ({ name }) => !known.has(name),
    );
    if (newer.length > 0)
      return [
        `${file} was changed by a newer version (${newer.map(({ name }) => name).join(', ')}): this one will not start`,
      ];
    const patterns = channels.map(({ pattern }) => parsePattern(pattern));
    const keys = await select<{ name: string; rights_json: string }>(
      'SELECT name, rights_json FROM api_keys WHERE revoked_at_ms IS NULL',
    );
    return keys.flatMap(({ name, rights_json }) =>
      (JSON.parse(rights_json) as string[])
        .filter((right) => right.includes(':'))
        .map((right) => right.slice(right.indexOf(':') + 1))
        .filter((pattern) => !patterns.some((each) => overlap(each, parsePattern(pattern))))
        .map((pattern) => `the API key ${JSON.stringify(name)} is for ${pattern}, which no channel rule matches`),
    );
  } catch (error) {
    return [`${file} cannot be read: ${(error as Error).message}`];
  } finally {
    await connection.close();
  }
}
