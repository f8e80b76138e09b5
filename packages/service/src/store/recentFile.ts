import { closeSync, existsSync, openSync, readSync, renameSync, rmSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import { StringDecoder } from 'node:string_decoder';
import type { SavedPiece } from '@nine-bells/core';
import { type Logger, logEvent } from '../log.js';

const fileName = 'recent.jsonl';
/** What is written, and read, at once, in bytes. */
const portion = 262_144;

/** Saves the records of recent channels in the data folder, a JSON object a line, whole or not at all. */
export function saveChannels(folder: string, pieces: Iterable<SavedPiece>, log: Logger): void {
  const file = join(folder, fileName);
  try {
    const descriptor = openSync(`${file}.new`, 'w', 0o600);
    try {
      let lines = '';
      for (const piece of pieces) {
        lines += `${JSON.stringify(piece)}\n`;
        if (lines.length < portion) continue;
        writeSync(descriptor, lines);
        lines = '';
      }
      writeSync(descriptor, lines);
    } finally {
      closeSync(descriptor);
    }
    renameSync(`${file}.new`, file);
  } catch (error) {
    logEvent(log, 'error', 'recent-unsaved', {}, error);
  }
}

/** Removes what was saved: the channels begin new volumes. */
export function discardSavedChannels(folder: string): void {
  rmSync(join(folder, fileName), { force: true });
}

/**
 * Reads what was saved, piece by piece, and takes the file away: after an end that is not clean the record is older than what
 * clients have seen, and must not be taken for it. Ends at the first line that cannot be read.
 */
export function* readSavedChannels(folder: string, log: Logger): Iterable<SavedPiece> {
  const file = join(folder, fileName);
  if (!existsSync(file)) return;
  try {
    for (const line of linesOf(file)) {
      const piece = JSON.parse(line) as SavedPiece;
      if ('channel' in piece && typeof piece.head !== 'number')
        throw new Error('it was written by a version of the service that this one cannot read');
      yield piece;
    }
  } catch (error) {
    logEvent(log, 'error', 'recent-unread', {}, error);
  } finally {
    rmSync(file, { force: true });
  }
}

function* linesOf(file: string): Iterable<string> {
  const descriptor = openSync(file, 'r');
  try {
    const buffer = Buffer.allocUnsafe(portion);
    const decoder = new StringDecoder('utf8');
    let rest = '';
    for (let read = readSync(descriptor, buffer); read > 0; read = readSync(descriptor, buffer)) {
      const lines = (rest + decoder.write(buffer.subarray(0, read))).split('\n');
      rest = lines.pop() ?? '';
      yield* lines;
    }
    if (rest !== '') yield rest;
  } finally {
    closeSync(descriptor);
  }
}
