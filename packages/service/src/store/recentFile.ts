import { closeSync, existsSync, openSync, readFileSync, renameSync, rmSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import type { SavedChannel } from '@nine-bells/core';
import type { Logger } from '../log.js';

const fileName = 'recent.jsonl';

/** Saves the records of recent channels in the data folder, one JSON object a line, whole or not at all. */
export function saveChannels(folder: string, channels: Iterable<SavedChannel>, log: Logger): void {
  const file = join(folder, fileName);
  try {
    const descriptor = openSync(`${file}.new`, 'w', 0o600);
    try {
      for (const channel of channels) writeSync(descriptor, `${JSON.stringify(channel)}\n`);
    } finally {
      closeSync(descriptor);
    }
    renameSync(`${file}.new`, file);
  } catch (error) {
    log.error({ err: error }, 'the records of recent channels could not be saved; they begin anew');
  }
}

/**
 * Reads what was saved, and takes it away: after an end that is not clean the record is older than what clients have seen,
 * and must not be taken for it.
 */
export function readSavedChannels(folder: string, log: Logger): readonly SavedChannel[] {
  const file = join(folder, fileName);
  if (!existsSync(file)) return [];
  try {
    return readFileSync(file, 'utf8')
      .split('\n')
      .filter((line) => line !== '')
      .map((line) => JSON.parse(line) as SavedChannel);
  } catch (error) {
    log.error({ err: error }, 'the saved records of recent channels could not be read; they begin anew');
    return [];
  } finally {
    rmSync(file, { force: true });
  }
}
