import { readFileSync, renameSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { ProgressMarks } from './restoreWatch.js';

/** Most volumes remembered: as many as there were restored backups. */
const maxVolumes = 20;

/** The progress of the database, marked in the data folder (`progress.json`). */
export class FolderMarks implements ProgressMarks {
  readonly #file: string;

  constructor(folder: string) {
    this.#file = join(folder, 'progress.json');
  }

  async read(volume: string): Promise<number | undefined> {
    return this.#all()[volume];
  }

  async write(volume: string, progress: number): Promise<void> {
    const { [volume]: known = 0, ...others } = this.#all();
    const last = Object.entries(others).slice(1 - maxVolumes);
    const marks = { ...Object.fromEntries(last), [volume]: Math.max(known, progress) };
    // Other processes may share the folder.
    const written = `${this.#file}.${process.pid}`;
    writeFileSync(written, `${JSON.stringify(marks)}\n`, { mode: 0o600 });
    renameSync(written, this.#file);
  }

  #all(): Record<string, number> {
    try {
      return JSON.parse(readFileSync(this.#file, 'utf8')) as Record<string, number>;
    } catch {
      // There is none yet, or it cannot be read: then nothing is known.
      return {};
    }
  }
}
