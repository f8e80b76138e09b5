import { browserFile } from '../../scripts/setUp.mjs';

export const chromiumFile = browserFile() ?? '';
export const browserIsThere = chromiumFile !== '';

export const browserArguments = [
  '--no-sandbox',
  '--disable-gpu',
  '--disable-quic',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
] as const;
