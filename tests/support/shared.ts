import { type Browser, chromium } from 'playwright-core';
import { PostgresDatabases } from './realPostgres.js';

export type SharedName = 'postgres' | 'browser';

/** Environment variable with the address of what all test files share. */
export const addressName = 'NINE_BELLS_TEST_RUN';
/** Name of the database that has all tables. */
export const migratedName = 'migrated';

/** Returns the PostgreSQL of this test run: for tests that neither stop nor break it. */
export async function sharedPostgres(): Promise<PostgresDatabases> {
  return new PostgresDatabases(Number(await addressOf('postgres')));
}

/** Creates a database with all tables in the PostgreSQL of this test run, and returns its URL. */
export async function makeMigratedDatabase(): Promise<string> {
  return (await sharedPostgres()).makeDatabase(migratedName);
}

/** Connects to the browser of this test run. Closing the connection closes its own contexts only. */
export async function sharedBrowser(): Promise<Browser> {
  return chromium.connectOverCDP(await addressOf('browser'));
}

async function addressOf(name: SharedName): Promise<string> {
  const url = process.env[addressName];
  if (url === undefined) throw new Error('what tests share is started by `npm test`');
  const response = await fetch(`${url}/${name}`);
  const text = await response.text();
  if (!response.ok) throw new Error(text);
  return text;
}
