import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { RunningService } from '@nine-bells/service';

const fileName = 'sign-in-link';

/**
 * A link that signs in to the console, as a terminal may show it. Output that goes elsewhere may be kept and read by others:
 * then the link stands in a file of the data folder that only its owner can read, and the file's path is given.
 */
export async function showLink(service: RunningService, folder: string, isLogged = false): Promise<string> {
  const link = await service.signInLink();
  if (process.stdout.isTTY && !isLogged) return link;
  const file = join(folder, fileName);
  writeFileSync(file, `${link}\n`, { mode: 0o600 });
  return `the link is in ${file}`;
}
