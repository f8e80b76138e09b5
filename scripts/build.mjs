// `npm run build`: builds what has changed, after setting up what is missing.
import { setUp } from './setUp.mjs';

await setUp();
