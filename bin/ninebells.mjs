#!/usr/bin/env node
// The command `ninebells` of this checkout. On a machine that is not set up yet, it sets up first.
import { existsSync } from 'node:fs';

const built = new URL('../packages/cli/dist/main.js', import.meta.url);
if (!existsSync(built)) {
  // Where the command is installed without the sources, there is nothing to set up.
  const { setUp } = await import('../scripts/setUp.mjs');
  await setUp({ browser: false, log: (line) => process.stderr.write(`${line}\n`) });
}
const { run } = await import(built.href);
await run(process.argv.slice(2));
