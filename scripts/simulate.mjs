// `npm run simulate -- --runs 1000`, or `-- --seed 42` to repeat one run exactly.
import { setUp } from './setUp.mjs';

await setUp();
await import('../packages/core/dist-simulator/main.js');
