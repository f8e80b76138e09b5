import type { Backend } from '@nine-bells/client/backend';
import type { Page } from 'playwright-core';
import { beforeAll, describe, expect, it } from 'vitest';
import { browserIsThere } from '../support/browser.js';
import { Pages, showsBriefly } from '../support/pages.js';
import { until } from '../support/until.js';

const pages = new Pages();
const { open, signedIn } = pages;
let backend: Backend;
beforeAll(() => {
  ({ backend } = pages);
});

describe.skipIf(!browserIsThere)('the console and the chat, about people', () => {
  it('removes a member, who sees who and why, shows the ban and lifts it', async () => {
    const page = await signedIn('/console/people');
    const ines = await open('/regatta/?as=ines', undefined, false);
    await ines.locator('.channel').selectOption('protest/7');
    await ines.getByText('Case 7: Turnstone').waitFor();
    await page.getByRole('combobox', { name: 'User' }).fill('ines');
    await page.getByLabel('From the channel').fill('protest/7');
    await page.getByLabel('Reason, told to the user').fill('please wait outside');
    await page.getByRole('button', { name: 'Remove' }).click();
    const confirm = page.getByRole('dialog').getByRole('button', { name: 'Remove' });
    await showsBriefly(page, 'Done. It reached 1 session.', () => confirm.click());
    await ines.getByText(/has removed you until .*: please wait outside/).waitFor();
    expect(await ines.getByRole('button', { name: 'Send' }).isDisabled()).toBe(true);
    await page.getByRole('cell', { name: 'please wait outside' }).first().waitFor();
    await page.getByRole('button', { name: 'Unban' }).click();
    await page.locator('.ant-popover').getByRole('button', { name: 'Unban' }).click();
    await page.getByText('No bans are in force').waitFor();
    await page.getByRole('cell', { name: 'unban', exact: true }).first().waitFor();
  });

  it.each(['websocket', 'stream', 'poll'])(
    'shows a visitor as gone soon after the page is left, over %s, and without a flicker while it is loaded again',
    async (transport) => {
      const channel = 'race/77/chat';
      const page = await open('/regatta/?as=bram');
      const enter = async (): Promise<void> => {
        await page.evaluate(`(async () => {
          const { connect } = await import('${pages.demo.service.url}/client.js');
          await connect('/', { transport: '${transport}' }).enter('${channel}').ready;
        })()`);
      };
      const visitors = async (): Promise<number> => (await backend.members(channel)).count;
      await enter();
      await until(async () => (await visitors()) === 1);
      // A visitor who has left is shown for two seconds. A slow machine gets several attempts to be back by then.
      for (let [attempts, isQuick] = [0, false]; attempts < 10 && !isQuick; attempts++) {
        const counts: number[] = [];
        const watch = setInterval(async () => counts.push(await visitors()), 50);
        const startMs = performance.now();
        await page.reload();
        await enter();
        isQuick = performance.now() - startMs < 1_500;
        clearInterval(watch);
        if (isQuick) expect(counts.filter((count) => count < 1)).toEqual([]);
      }
      const leftAtMs = performance.now();
      await page.goto('about:blank');
      await until(async () => (await visitors()) === 0);
      // The grace of the channel is 10 s.
      expect(performance.now() - leftAtMs).toBeLessThan(9_000);
    },
  );

  it('works off what a spectator reports: the author is silenced, and told so on its page', async () => {
    const page = await signedIn('/console/people');
    const [pia, jory] = [await open('/regatta/?as=pia'), await open('/regatta/?as=jory')];
    await jory.getByPlaceholder('Say something').fill('The committee is asleep.');
    await jory.locator('input').press('Enter');
    const said = pia.locator('.messages li', { hasText: 'The committee is asleep.' });
    await said.hover();
    await said.getByRole('button', { name: 'Report' }).click();
    await pia.getByText('Reported to the committee.').waitFor();
    const row = page.getByRole('row', { name: /Jory Teague.*The committee is asleep/ });
    await row.getByRole('link', { name: 'Act' }).click();
    await until(async () => (await page.getByRole('combobox', { name: 'User' }).inputValue()) === 'jory');
    await page.getByText('Silence', { exact: true }).click();
    await page.getByLabel('Reason, told to the user').fill('a word to cool down');
    await page.getByRole('button', { name: 'Silence' }).click();
    await page.getByRole('dialog').getByRole('button', { name: 'Silence' }).click();
    await page.getByText(/^Done\. It reached [1-9]/).waitFor();
    await jory.getByText(/lets you read only until .*: a word to cool down/).waitFor();
    expect(await jory.getByRole('button', { name: 'Send' }).isDisabled()).toBe(true);
    await row.getByRole('button', { name: 'Done' }).click();
    await page.getByLabel('What was done').fill('silenced for a while');
    await page.getByRole('button', { name: 'End the report' }).click();
    await row.waitFor({ state: 'detached' });
    await page.getByText('Ended', { exact: true }).click();
    await page.getByRole('row', { name: /The committee is asleep.*key first.*silenced for a while/ }).waitFor();
    await page.getByRole('region', { name: 'Silences in force' }).getByRole('button', { name: 'End' }).click();
    await jory.getByText(/lets you write again/).waitFor();
    expect(await jory.getByRole('button', { name: 'Send' }).isDisabled()).toBe(false);
  });

  it('approves and rejects pending messages, and shows their author each decision', async () => {
    const page = await signedIn('/console/people');
    const [pia, jory] = [await open('/regatta/?as=pia'), await open('/regatta/?as=jory')];
    const send = async (text: string): Promise<void> => {
      await jory.getByPlaceholder('Say something').fill(text);
      await jory.locator('input').press('Enter');
    };
    await send('Oars, half the price: https://oars.example');
    await send('Flags at https://flags.example');
    const note = jory.locator('.messages li', { hasText: /^Waits .*Flags at/ });
    await note.waitFor();
    await send('Good ones!');
    await jory.locator('.messages li', { hasText: /^Waits \(an earlier message.*Good ones!/ }).waitFor();
    await send('And www.oars.example');
    const row = (text: string) => page.getByRole('row', { name: new RegExp(`Jory Teague.*${text}`) });
    await row('www.oars').getByRole('button', { name: 'Reject' }).click();
    await page.getByLabel('Why not').fill('one is enough');
    await page.getByRole('button', { name: 'Reject it' }).click();
    await jory.getByText('Not published (one is enough): And www.oars.example').waitFor();
    const said = (text: string) => pia.locator('.messages li', { has: pia.getByText(text, { exact: true }) });
    expect(await said('Flags at https://flags.example').count()).toBe(0);
    // The first message blocks the others until its author takes it back.
    await jory
      .locator('.messages li', { hasText: 'half the price' })
      .getByRole('button', { name: 'Take back' })
      .click();
    await row('Oars, half the price').waitFor({ state: 'detached' });
    await row('Flags at').getByRole('button', { name: 'Approve' }).click();
    await said('Flags at https://flags.example').waitFor();
    await said('Good ones!').waitFor();
    await note.waitFor({ state: 'detached' });
    await page.locator('section', { hasText: 'Messages before' }).getByText('Refused', { exact: true }).click();
    await row('www.oars.*one is enough').waitFor();
    await page.getByRole('cell', { name: 'approve', exact: true }).first().waitFor();
  });
});

describe.skipIf(!browserIsThere)('the chat', () => {
  it('answers a message, which says how often, and no longer quotes it when it is taken back', async () => {
    const [pia, ines] = [await open('/regatta/?as=pia'), await open('/regatta/?as=ines', undefined, false)];
    const item = (page: Page, text: string) =>
      page.locator('.messages li', { has: page.getByText(text, { exact: true }) });
    const say = async (page: Page, text: string): Promise<void> => {
      await page.locator('.composer input, form input').first().fill(text);
      await page.locator('.composer input, form input').first().press('Enter');
      await item(pia, text).waitFor();
    };
    await say(ines, 'Curlew is over the line');
    await item(pia, 'Curlew is over the line').hover();
    await item(pia, 'Curlew is over the line').getByRole('button', { name: 'Answer' }).click();
    await say(pia, 'No, it was Whimbrel');
    await item(ines, 'No, it was Whimbrel').getByText('Ines Okoro: Curlew is over the line').waitFor();
    await item(ines, 'Curlew is over the line').getByText('1 answer').waitFor();
    await item(ines, 'Curlew is over the line').hover();
    await item(ines, 'Curlew is over the line').getByRole('button', { name: 'Take back' }).click();
    for (const page of [pia, ines])
      await item(page, 'No, it was Whimbrel').getByText('Ines Okoro: taken back').waitFor();
    expect(await pia.getByText('over the line').count()).toBe(0);
  });

  it('finds where something was said, with the words marked, and only where it is looked for', async () => {
    for (const [channel, text] of [
      ['race/3/chat', 'The jib of Sandpiper is torn'],
      ['race/4/chat', 'Sandpiper sails without a jib'],
    ] as const)
      await backend.publish({ channel, data: { text } });
    await until(async () => {
      const { messages, ready } = await backend.searchProgress();
      return messages > 0 && messages === ready;
    });
    const page = await signedIn('/console/search');
    await page.getByLabel('Words').fill('sandpiper jib*');
    await page.getByText('sails without a').waitFor();
    const rows = page.locator('tbody tr', { has: page.locator('mark') });
    expect(await rows.count()).toBe(2);
    expect(await rows.last().locator('mark').allTextContents()).toEqual(['jib', 'Sandpiper']);
    await page.getByLabel('Only in these channels').fill('race/4/chat');
    await until(async () => (await rows.count()) === 1);
    await page.getByLabel('Words').fill('landlubberly');
    await page.getByText('Nothing was found').waitFor();
  });

  it('calls others by "@": a toast at theirs, here or elsewhere, until it is taken back', async () => {
    const [mira, ines, felix] = [
      await open('/regatta/?as=mira'),
      await open('/regatta/?as=ines', undefined, false),
      await open('/regatta/?as=felix', undefined, false),
    ];
    // Who has a channel in view is not notified: no other window of Felix may be open.
    await felix.locator('.channel').selectOption('regatta/notices');
    // The service stores names a moment after users connect.
    for (const user of ['ines', 'felix']) await until(() => backend.user(user).catch(() => undefined));
    const say = async (text: string): Promise<void> => {
      await mira.getByPlaceholder('Say something').fill(text);
      await mira.locator('form input').press('Enter');
      await ines.locator('.messages li', { hasText: text }).waitFor();
    };
    await say('@ines your number is torn');
    await ines.locator('.toast', { hasText: 'Mira Holt calls you' }).waitFor();
    await ines.locator('.messages li.called', { hasText: 'your number is torn' }).waitFor();
    await say('@skipper @felix lunch is served');
    await felix.locator('.toast', { hasText: 'Mira Holt mentioned you in race/3/chat' }).waitFor();
    const called = mira.locator('.messages li', { hasText: 'lunch is served' });
    expect(await ines.locator('.messages li.called').count()).toBe(2);
    await felix.locator('.bell').click();
    const listed = felix.locator('.inbox li', { hasText: 'mentioned you in race/3/chat' });
    await listed.waitFor();
    await called.hover();
    await called.getByRole('button', { name: 'Take back' }).click();
    await until(async () => (await listed.count()) === 0);
  });

  it('mutes a user for one spectator alone, until they unmute the user', async () => {
    const [pia, ines, jory] = [
      await open('/regatta/?as=pia'),
      await open('/regatta/?as=ines', undefined, false),
      await open('/regatta/?as=jory', undefined, false),
    ];
    const say = async (text: string): Promise<void> => {
      await jory.getByPlaceholder('Say something').fill(text);
      await jory.locator('input').press('Enter');
      await ines.locator('.messages li', { hasText: text }).waitFor();
    };
    const shown = (text: string) => pia.locator('.messages li:visible', { hasText: text });
    await say('A landlubber laid this.');
    await shown('A landlubber laid this.').hover();
    await shown('A landlubber laid this.').getByRole('button', { name: 'Mute' }).click();
    await shown('You do not hear Jory Teague.').waitFor();
    await until(async () => (await shown('A landlubber laid this.').count()) === 0);
    await say('Nobody listens to me.');
    await pia.reload();
    await shown('You do not hear Jory Teague.').waitFor();
    await pia.getByRole('button', { name: 'Hear again' }).click();
    await shown('You hear Jory Teague again.').waitFor();
    await say('At last.');
    await shown('At last.').waitFor();
    expect(await shown('Nobody listens to me.').count()).toBe(0);
  });

  it('lets one correct, take back and react: in the chat with arrow up, and in the console', async () => {
    const page = await signedIn('/console/channels/race/3/chat');
    const [pia, jory] = [await open('/regatta/?as=pia'), await open('/regatta/?as=jory', undefined, false)];
    const input = pia.getByPlaceholder('Say something');
    await input.fill('Dunlin tacks');
    await input.press('Enter');
    const said = (where: Page, text: string) => where.locator('.messages li', { hasText: text });
    await said(jory, 'Dunlin tacks').waitFor();
    await input.press('ArrowUp');
    await until(async () => (await input.inputValue()) === 'Dunlin tacks');
    await input.press('Escape');
    expect(await input.inputValue()).toBe('');
    await input.press('ArrowUp');
    await input.fill('Dunlin gybes');
    await input.press('Enter');
    for (const where of [pia, jory])
      await said(where, 'Dunlin gybes')
        .getByText(/^revised /)
        .waitFor();
    expect(await said(jory, 'Dunlin tacks').count()).toBe(0);
    // In the console it is revised by an application, and withdrawn with a reason.
    await said(page, 'Dunlin gybes').locator('summary').click();
    await page.getByRole('button', { name: 'Revise' }).click();
    await page.getByLabel('What it is to hold, as JSON').fill('{"words":1}');
    await page.getByRole('button', { name: 'Save' }).click();
    await page.getByRole('alert').getByText('bad-data').waitFor();
    await page.getByLabel('What it is to hold, as JSON').fill('{"text":"Dunlin hoists"}');
    await page.getByRole('button', { name: 'Save' }).click();
    await said(jory, 'Dunlin hoists')
      .getByText(/^revised by the committee/)
      .waitFor();
    // A reaction of one is counted for the other, and named in the console.
    await said(jory, 'Dunlin hoists').getByRole('button', { name: 'bravo' }).click();
    await said(pia, 'Dunlin hoists').getByRole('button', { name: 'bravo 1', pressed: false }).waitFor();
    await said(jory, 'Dunlin hoists').getByRole('button', { name: 'bravo 1', pressed: true }).waitFor();
    await page.getByRole('button', { name: 'Who has reacted?' }).click();
    await page.getByText('bravo 1: Jory Teague').waitFor();
    await page.getByRole('button', { name: 'Withdraw' }).click();
    await page.getByLabel('Reason').fill('not so');
    await page.getByRole('tooltip').getByRole('button', { name: 'Withdraw' }).click();
    for (const where of [pia, jory]) await where.getByText('Taken back by the committee: not so').waitFor();
    await page.getByText(/withdrawn by an application at .*: not so/).waitFor();
    // Your own.
    await input.fill('Wigeon is late');
    await input.press('Enter');
    const own = said(pia, 'Wigeon is late');
    await own.hover();
    await own.getByRole('button', { name: 'Take back' }).click();
    await said(jory, 'Taken back').last().waitFor();
    await until(async () => (await said(jory, 'Wigeon is late').count()) === 0);
  });
});
