// `npm run bench NAME`: sets up what is missing, then runs a benchmark of bench/.
import { setUp } from './setUp.mjs';

await setUp();
const name = process.argv[2] ?? '';
const known = [
  'access',
  'attack',
  'board',
  'compare',
  'contracts',
  'drill',
  'fanout',
  'kept',
  'messages',
  'presence',
  'relay',
  'slow',
  'storm',
  'webhooks',
  'workers',
];
if (known.includes(name)) await import(`../bench/${name}.mjs`);
else {
  console.error(`Benchmarks: ${known.join(', ')}. For example: npm run bench fanout`);
  process.exitCode = 2;
}
