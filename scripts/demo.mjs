// `npm run demo`: sets up what is missing, then runs the demo until interrupted.
import { setUp } from './setUp.mjs';

try {
  await setUp();
  const { run } = await import('../packages/cli/dist/main.js');
  await run(['demo', ...process.argv.slice(2)]);
} catch (error) {
  console.error(`The demo could not be started: ${error.message}`);
  process.exitCode = 1;
}
