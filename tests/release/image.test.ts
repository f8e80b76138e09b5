import { cpSync, mkdtempSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { describe, expect, it } from 'vitest';
import { Command, root } from '../support/command.js';
import { until } from '../support/until.js';

describe('the image', () => {
  it('has all files that it takes to start, without the sources of the checkout', async () => {
    const lines = readFileSync(join(root, 'Containerfile'), 'utf8').split('\n');
    const copied = lines.flatMap((line) => /^COPY --from=build \/opt\/nine-bells\/(\S+) \.\//.exec(line)?.[1] ?? []);
    expect(copied).toContain('bin');
    const folder = mkdtempSync(join(tmpdir(), 'bells-image-'));
    for (const each of copied)
      if (each === 'node_modules') symlinkSync(join(root, each), join(folder, each));
      else
        cpSync(join(root, each), join(folder, each), {
          recursive: true,
          filter: (path) => !path.endsWith('/node_modules'),
        });
    const config = join(folder, 'bells.yaml');
    writeFileSync(config, 'service: { guests: true }\nchannels: []\n');
    const args = ['serve', '--config', config, '--port', '0', '--data', join(folder, 'data')];
    const command = new Command(args, {}, join(folder, 'bin/ninebells.mjs'));
    const url = await until(() => /listening at (\S+)/.exec(command.out)?.[1]);
    expect((await fetch(`${url}/readyz`)).status).toBe(200);
    command.process.kill('SIGTERM');
    await command.ended;
    rmSync(folder, { recursive: true, force: true });
  });
});
