import { beforeEach } from 'vitest';
import { clearLog, recentLog } from './log.js';

beforeEach(({ onTestFailed }) => {
  clearLog();
  onTestFailed(() => {
    const log = recentLog();
    console.error(log === '' ? 'The service logged nothing.' : `The service's log during this test:\n${log}`);
  });
});
