#!/usr/bin/env node
// The command `ninebells` where the package is installed.
import { main } from './main.js';

process.exitCode = await main(process.argv.slice(2));
