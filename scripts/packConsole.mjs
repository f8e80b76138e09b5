// Copies the built console into the service's package, which is packed with it (`prepack` of packages/service).
import { cpSync, existsSync, rmSync } from 'node:fs';
import { fileURLToPath } from 'node:url';

const from = fileURLToPath(new URL('../packages/console/dist', import.meta.url));
const to = fileURLToPath(new URL('../packages/service/dist-console', import.meta.url));
if (!existsSync(from)) throw new Error('build the project first: npm run build');
rmSync(to, { recursive: true, force: true });
cpSync(from, to, { recursive: true });
