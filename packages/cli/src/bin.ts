#!/usr/bin/env node
// The command `ninebells` where the package is installed.
import { run } from './main.js';

await run(process.argv.slice(2));
