import { copyFileSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Backend } from '@nine-bells/client/backend';
import type { Demo } from '@nine-bells/demo';
import { beforeAll, describe, expect, it } from 'vitest';
import { browserIsThere } from '../support/browser.js';
import { ninebells, root } from '../support/command.js';
import { Pages } from '../support/pages.js';
import { until } from '../support/until.js';

const pages = new Pages();
const { signedIn } = pages;
let demo: Demo;
let backend: Backend;
let folder: string;
beforeAll(() => {
  ({ demo, backend, folder } = pages);
});

describe.skipIf(!browserIsThere)('the workbench', () => {
  it('tries things out in the workbench with three clients, says why one missed a message, and makes a drill of it that fails when the rules break it', async () => {
    const page = await signedIn('/console/workbench');
    const add = async (act: string, user: string, called: string): Promise<void> => {
      await page.getByRole('button', { name: 'Add a client' }).click();
      const form = page.getByRole('dialog');
      await form.getByRole('combobox', { name: 'May do what' }).click();
      await page.locator('.ant-select-dropdown:visible').getByTitle(act, { exact: true }).click();
      await form.getByLabel('In which channel').fill('protest/31');
      await form.getByLabel('User id').fill(user);
      await form.getByRole('button', { name: 'Work out' }).click();
      await (act === 'moderate'
        ? form.getByText('chair', { exact: true }).waitFor()
        : until(async () => (await form.getByLabel('Other claims').inputValue()).includes('31')));
      await form.getByLabel('Called').fill(called);
      await form.getByRole('button', { name: 'Connect it' }).click();
      await page.locator('th', { hasText: called }).getByRole('img', { name: 'connected', exact: true }).waitFor();
      await form.waitFor({ state: 'hidden' });
    };
    await add('moderate', 'sunniva', 'chair');
    await add('enter', 'tomas', 'party');
    await add('enter', 'mira', 'jury');
    const next = page.getByRole('region', { name: 'What is done next' });
    const act = async (who: string, verb: string, values: Record<string, string>): Promise<void> => {
      await next.getByRole('combobox', { name: 'Client' }).click();
      await page.locator('.ant-select-dropdown:visible').getByTitle(who, { exact: true }).click();
      await next.getByRole('combobox', { name: 'Does' }).click();
      await page.keyboard.type(verb);
      await page.keyboard.press('Enter');
      for (const [name, value] of Object.entries(values)) await next.getByLabel(name, { exact: true }).fill(value);
      await page.keyboard.press('Escape');
      await next.getByRole('button', { name: 'Send' }).click();
    };
    const cell = (text: RegExp) => page.locator('.sheet').getByRole('button', { name: text });
    await act('all of them', 'enter', { channel: 'protest/31' });
    await until(async () => (await cell(/enter protest\/31 done/).count()) === 3);
    await act('chair', 'publish', { data: '{"text":"One at a time, please."}' });
    await until(async () => (await cell(/^← message .*One at a time/).count()) === 3);
    await act('chair', 'remove', { user: 'tomas', reason: 'shouting', banMs: '600000' });
    await cell(/removed protest\/31 shouting/).waitFor();
    await act('party', 'enter', { channel: 'protest/31' });
    await cell(/enter protest\/31 banned/).waitFor();
    await act('chair', 'publish', { data: '{"text":"We go on."}' });
    // One glance, and one click: who did not get it, and why.
    await page.locator('tr', { hasText: 'We go on' }).getByRole('button', { name: 'not here: why?' }).click();
    await page.getByText(/tomas did not get it.*banned/).waitFor();
    await page.keyboard.press('Escape');
    // The reply has the messages missed offline, and the sheet marks them.
    await page.getByRole('button', { name: 'What to do with jury' }).click();
    await page.getByText('Cut the connection').click();
    await page.locator('th', { hasText: 'jury' }).getByRole('img', { name: 'not connected' }).waitFor();
    await next.getByText('The application').click();
    await next.getByLabel('data', { exact: true }).fill('{"text":"From the bureau"}');
    await next.getByRole('button', { name: 'Send' }).click();
    await cell(/message .*From the bureau/)
      .first()
      .waitFor();
    await page.getByRole('button', { name: 'What to do with jury' }).click();
    await page.getByRole('menuitem', { name: 'Connect' }).click();
    await page.locator('td', { hasText: /From the bureau.*caught up/ }).waitFor();
    // The service answers a malformed frame with a problem.
    await next.getByText('By hand').click();
    await next.getByLabel('The frame').fill('{ no JSON');
    await next.getByRole('button', { name: 'Send' }).click();
    await cell(/problem/)
      .first()
      .waitFor();
    const sessions = (await backend.sessions({ limit: 1000 })).sessions.filter(({ workbench }) => workbench);
    expect(sessions.map(({ user }) => user).sort()).toEqual(['mira', 'sunniva', 'tomas']);
    const [last] = (await backend.read('protest/31')).messages.slice(-1);
    const { user } = await backend.trace(last?.id as string, { user: 'mira' });
    expect(user?.fates).toContainEqual(expect.objectContaining({ workbench: true }));
    expect((await backend.audit({ limit: 100 })).entries.filter(({ type }) => type === 'use-workbench')).not.toEqual(
      [],
    );

    await page.getByRole('button', { name: 'Write a drill' }).click();
    const text = await page.getByLabel('The drill', { exact: true }).inputValue();
    await page.goto(`${demo.service.url}/console/`);
    await until(async () => !(await backend.sessions({ limit: 1000 })).sessions.some(({ workbench }) => workbench));
    const drill = join(folder, 'tried.drill.yaml');
    writeFileSync(drill, text);
    const configuration = join(root, 'demo/bells.yaml');
    const passed = await ninebells(['drill', drill, '--config', configuration]);
    expect(passed.code, passed.out).toBe(0);
    const broken = join(folder, 'broken.yaml');
    copyFileSync(join(root, 'demo/contracts.yaml'), join(folder, 'contracts.yaml'));
    writeFileSync(
      broken,
      readFileSync(configuration, 'utf8').replace(
        'moderate: { all: [{ role: jury }',
        'moderate: { all: [{ role: press }',
      ),
    );
    const failed = await ninebells(['drill', drill, '--config', broken]);
    expect(failed.code).toBe(1);
    expect(failed.out).toMatch(/remove: protest\/31.*not-allowed.*role press/s);
  });
});
