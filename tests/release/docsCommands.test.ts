import { execFile, execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { root, serve } from '../support/command.js';
import { shown } from '../support/docsBlocks.js';
import { freePort } from '../support/ports.js';
import { type StartedService, startService } from '../support/service.js';

const read = (page: string): string => readFileSync(join(root, page), 'utf8');

describe('the first steps of docs/webhooks.md', () => {
  it('lead from a signed event to a delivery that is tried again', async () => {
    const [, text = ''] = /^```yaml\n(# bells.yaml[\s\S]*?)^```/m.exec(read('docs/webhooks.md')) ?? [];
    const [steps = ''] = read('docs/webhooks.md').split('## In: intakes');
    const script = [...steps.matchAll(/^```sh\n([\s\S]*?)^```/gm)].map(([, code]) => code).join('\n');
    const folder = mkdtempSync(join(tmpdir(), 'bells-docs-'));
    const port = String(await freePort());
    const { command, url, key } = await serve(folder, 0, { text: text.replace('9121', port) });
    try {
      const commands = script
        .replaceAll('npx ninebells', `'${process.execPath}' '${join(root, 'bin/ninebells.mjs')}'`)
        .replaceAll('9121', port)
        .replace(/^export .*$/m, '');
      const env = { ...process.env, NO_COLOR: '1', NINEBELLS_URL: url, NINEBELLS_KEY: key };
      const out = execFileSync('bash', ['-ec', `trap 'kill $(jobs -p)' EXIT\n${commands}`], {
        cwd: folder,
        env,
      }).toString();
      expect(out).toMatch(/^[0-9A-Z]{26}\n[0-9A-Z]{26} \(came before\)\n/);
      expect(out).toMatch(/buoy +[0-9A-Z]{26} +done +weather\/north-mark/);
      expect(out).toMatch(/reading \{"knots":14.2,"from":"variable"\}/);
      expect(out).not.toContain('0144');
      expect(out).toMatch(/waiting +[0-9]+ +connect ECONNREFUSED.*again/);
      expect(out).toMatch(/delivered +[0-9]+ +200/);
    } finally {
      command.process.kill();
      await command.ended;
      rmSync(folder, { recursive: true, force: true });
    }
  });
});

describe('on the service of the demo, the commands', () => {
  const pagesToRun = [
    'README.md',
    'docs/contracts.md',
    'docs/http.md',
    'docs/notices.md',
    'docs/presence.md',
    'docs/unread.md',
  ];
  const run = shown.filter(
    ({ page, text }) => pagesToRun.includes(page) && !/ninebells (serve|check|token) |npx --no-install/.test(text),
  );
  let service: StartedService;

  beforeAll(async () => {
    const file = join(root, 'demo/bells.yaml');
    service = await startService({ text: readFileSync(file, 'utf8').replace('port: 9119', 'port: 0'), file });
  });

  afterAll(() => service.remove());

  it('are some', () => expect(run.length).toBeGreaterThan(8));

  it.each(run)('$page: $text', async ({ text }) => {
    const command = text
      .replaceAll('npx ninebells', `'${process.execPath}' '${join(root, 'bin/ninebells.mjs')}'`)
      .replace(/^curl /, 'curl --silent --show-error --fail-with-body ');
    const ended = await new Promise<{ code: number | string; out: string }>((resolve) => {
      const child = execFile(
        'bash',
        ['-c', `exec ${command}`],
        { cwd: root, env: { ...process.env, NO_COLOR: '1', NINEBELLS_URL: service.url, NINEBELLS_KEY: service.key } },
        (error, out, err) => resolve({ code: error?.code ?? 0, out: `${out}${err}` }),
      );
      // `listen` goes on until it is interrupted; it says that it is connected.
      if (text.startsWith('npx ninebells listen')) child.stderr?.once('data', () => child.kill('SIGINT'));
    });
    // `explain` tells by its code that the act would be refused.
    const code = ended.out.includes(': refused, not-allowed\n') ? 3 : 0;
    expect(ended).toEqual({ code, out: expect.any(String) });
  });
});
