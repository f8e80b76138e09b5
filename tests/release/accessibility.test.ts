import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { describe, expect, it } from 'vitest';
import { browserIsThere } from '../support/browser.js';
import { Pages } from '../support/pages.js';

const axeSource = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8');

const pages = new Pages();
const { signedIn } = pages;

describe.skipIf(!browserIsThere)('the console', () => {
  it.each([
    '',
    'sessions',
    'search',
    'traffic',
    'rules',
    'webhooks',
    'webhooks?view=out',
    'webhooks?view=hooks',
    'instances',
    'traces',
    'access',
    'people',
    'keys',
    'workbench',
    'channels/race/3/chat',
  ])('/%s can be used by keyboard and screen reader: axe finds no violation, and the tab has a title', async (path) => {
    const page = await signedIn(`/console/${path}`);
    await page.locator('main').waitFor();
    await page.waitForTimeout(500);
    const found = await page.evaluate(`${axeSource}; axe.run()`);
    const { violations } = found as {
      violations: { id: string; nodes: { html: string; failureSummary: string }[] }[];
    };
    const faults = violations.flatMap(({ id, nodes }) =>
      nodes.map((each) => `${id}: ${each.failureSummary} ${each.html}`),
    );
    expect(faults).toEqual([]);
    expect(await page.title()).toMatch(/.+ · Nine Bells$/);
  });
});
