import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Backend } from '@nine-bells/client/backend';
import type { Demo } from '@nine-bells/demo';
import { chromium, type Page } from 'playwright-core';
import { beforeAll, describe, expect, it } from 'vitest';
import { browserArguments, browserIsThere, chromiumFile } from '../support/browser.js';
import { Command, ninebells } from '../support/command.js';
import { Pages } from '../support/pages.js';
import { until } from '../support/until.js';

const pages = new Pages();
const { open } = pages;
let demo: Demo;
let backend: Backend;
let key: string;
beforeAll(() => {
  ({ demo, backend, key } = pages);
});

describe.skipIf(!browserIsThere)('the demo page', () => {
  it('shows boats that move on their course, all of them to who comes late, too', async () => {
    const goHome = demo.sail();
    try {
      const early = await open('/regatta/race.html');
      const rows = (page: Page) => page.locator('.fleet tbody tr');
      const seen = async (page: Page) => (await rows(page).allTextContents()).join();
      await until(async () => (await rows(early).count()) === 8);
      const first = await seen(early);
      await until(async () => (await seen(early)) !== first);
      const late = await open('/regatta/race.html', undefined, false);
      await rows(late).nth(7).waitFor();
      expect(await rows(late).count()).toBe(8);
      await late.reload();
      await rows(late).nth(7).waitFor();
      await early.locator('.signal', { hasText: /signal|minute|Start/ }).waitFor();
      const frames = Number(await early.locator('[data-of="frames"]').textContent());
      await until(async () => Number(await early.locator('[data-of="frames"]').textContent()) > frames + 3);
      // The boats are drawn: the canvas is not of one colour.
      const colours = await early.locator('canvas').evaluate((canvas: HTMLCanvasElement) => {
        const { data } = (canvas.getContext('2d') as CanvasRenderingContext2D).getImageData(
          0,
          0,
          canvas.width,
          canvas.height,
        );
        return new Set(new Uint32Array(data.buffer)).size;
      });
      expect(colours).toBeGreaterThan(10);
      goHome();
      // Their sessions have ended, and the boats with them.
      await until(async () => (await rows(early).count()) === 0);
    } finally {
      goHome();
    }
  });

  it('lets two browser windows talk, and both see what the command publishes', async () => {
    const pia = await open('/regatta/?as=pia');
    const jory = await open('/regatta/?as=jory', undefined, false);
    for (const page of [pia, jory]) await page.getByText(/^open/).waitFor();
    await pia.getByLabel('Message').fill('Petrel is ahead!');
    await pia.getByRole('button', { name: 'Send' }).click();
    await jory.getByText('Petrel is ahead!').waitFor();
    await jory.getByLabel('Message').fill('Not for long');
    await jory.keyboard.press('Enter');
    await pia.getByText('Not for long').waitFor();
    expect(await pia.locator('li.mine', { hasText: 'Petrel is ahead!' }).count()).toBe(1);
    expect(await jory.locator('li.mine', { hasText: 'Petrel is ahead!' }).count()).toBe(0);

    const published = await ninebells(
      ['publish', 'race/3/chat', '--text', 'General recall', '--by', 'mira:Mira Holt'],
      {
        NINEBELLS_URL: demo.service.url,
        NINEBELLS_KEY: key,
      },
    );
    expect(published.code).toBe(0);
    for (const page of [pia, jory])
      await page.locator('li', { hasText: 'Mira Holt' }).getByText('General recall').waitFor();
    const texts = (page: Page) => page.locator('.messages p').allTextContents();
    expect(await texts(pia)).toEqual(await texts(jory));

    await pia.reload();
    await pia.getByText('General recall').waitFor();
    expect(await texts(pia)).toEqual(await texts(jory));
  });

  it('shows two windows side by side: offline messages are sent later or taken back, and missed ones are caught up on', async () => {
    const page = await open('/regatta');
    const [left, right] = [page.locator('.window').nth(0), page.locator('.window').nth(1)];
    for (const each of [left, right]) await each.getByText(/^open/).waitFor();
    await left.getByRole('button', { name: 'Pull the plug' }).click();
    await left.getByText('unplugged').waitFor();
    for (const words of ['Later, when I am back', 'No, rather not']) {
      await left.getByLabel('Message').fill(words);
      await page.keyboard.press('Enter');
      await left.getByText('1 message will be sent').waitFor();
      if (words.startsWith('No')) await left.locator('.outbox').getByRole('button', { name: 'Take back' }).click();
      else await left.getByRole('button', { name: 'Plug in again' }).click();
      await left.locator('.outbox').waitFor({ state: 'hidden' });
      if (words.startsWith('No')) break;
      await right.getByText(words).waitFor();
      await left.getByRole('button', { name: 'Pull the plug' }).click();
    }
    await right.getByLabel('Message').fill('While you were away');
    await right.getByRole('button', { name: 'Send' }).click();
    await right.getByText('While you were away').waitFor();
    expect(await left.getByText('While you were away').count()).toBe(0);
    await left.getByRole('button', { name: 'Plug in again' }).click();
    await left.locator('li.missed', { hasText: 'While you were away' }).waitFor();
    await left.getByText('Caught up on 1 message.').waitFor();
    await left.getByText(/^open/).waitFor();
    expect(await right.getByText('No, rather not').count()).toBe(0);
  });

  it('lets guests read along, and not write', async () => {
    const page = await open('/regatta/?as=guest');
    await page.getByText(/^open, as [A-Z]\w+ [A-Z]\w+$/).waitFor();
    expect(await page.getByLabel('Message').isDisabled()).toBe(true);
    expect(await page.getByLabel('Message').getAttribute('placeholder')).toBe('Guests read along');
  });

  it('shows text as text, whatever it looks like', async () => {
    const page = await open('/regatta/?as=pia');
    await page.getByText(/^open/).waitFor();
    await backend.publish({ channel: 'race/3/chat', data: { text: '<img src=x onerror=alert(1)>' } });
    await page.getByText('<img src=x onerror=alert(1)>').waitFor();
  });

  it('lets the jury’s chair remove a member, who sees who and why and cannot come back, not on a new connection either', async () => {
    const sunniva = await open('/regatta/?as=sunniva');
    await sunniva.locator('.channel').selectOption('protest/7');
    const ines = await open('/regatta/?as=ines', undefined, false);
    await ines.locator('.channel').selectOption('protest/7');
    await ines.getByText('That is not how it was!').waitFor();
    await sunniva
      .locator('.messages li', { hasText: 'That is not how it was!' })
      .getByRole('button', { name: 'Remove' })
      .click();
    await ines.getByText(/Sunniva Dahl has removed you until .*: please wait until you are called/).waitFor();
    await sunniva.getByText(/Removed Ines Okoro until/).waitFor();
    await ines.reload();
    await ines.locator('.channel').selectOption('protest/7');
    await ines.getByText(/banned from protest\/7 by Sunniva Dahl until/).waitFor();
    const { bans } = await backend.bans({ user: 'ines' });
    await backend.unban(bans[0]?.id as string);
  });

  it('keeps spectators out of a crew’s talk and off the results desk, and lets in who belongs there', async () => {
    const page = await open('/regatta/?as=pia');
    await page.locator('.channel').selectOption('crew/petrel');
    await page.getByText('user pia may not enter channels of the rule crew/:boat').waitFor();
    await page.locator('.channel').selectOption('desk/results/3');
    await page.getByText('only the stewards on duty may sit at the desk').waitFor();
    await page.locator('.person').selectOption('oona');
    await page.getByPlaceholder('Say something').fill('Finish times of heat two are in.');
    await page.keyboard.press('Enter');
    await page.getByText('Finish times of heat two are in.').waitFor();
    await page.locator('.person').selectOption('tomas');
    await page.locator('.channel').selectOption('crew/petrel');
    await page.getByPlaceholder('Say something').fill('Tacking on the next header.');
    await page.keyboard.press('Enter');
    await page.getByText('Tacking on the next header.').waitFor();
  });

  it('shows members, typing, and other editors of the same sheet', async () => {
    const pia = await open('/regatta/?as=pia');
    await pia.locator('.here', { hasText: '1 here: Pia Lund' }).waitFor();
    const jory = await open('/regatta/?as=jory', undefined, false);
    for (const page of [pia, jory]) await page.locator('.here', { hasText: '2 here' }).waitFor();
    await jory.locator('input').pressSequentially('Whimbrel');
    await pia.getByText('Jory Teague is typing').waitFor();
    expect(await jory.locator('.typing').textContent()).toBe('');
    await jory.keyboard.press('Enter');
    await pia.locator('.messages').getByText('Whimbrel', { exact: true }).waitFor();
    expect(await pia.locator('.typing').textContent()).toBe('');

    await pia.locator('.person').selectOption('oona');
    await pia.locator('.channel').selectOption('desk/results/3');
    await pia.getByText('No other user is editing.').waitFor();
    await jory.locator('.person').selectOption('felix');
    await jory.locator('.channel').selectOption('desk/results/3');
    await jory.getByText(/^Oona Reyes \(since .*\) is editing this sheet, too\.$/).waitFor();
    await pia.getByText(/^Felix Marsh \(since .*\) is editing this sheet, too\.$/).waitFor();
    await jory.locator('.channel').selectOption('race/3/chat');
    await pia.getByText('No other user is editing.').waitFor();
  });

  it('lets two talk alone: a bell rings for the one who is elsewhere, on whichever page', async () => {
    const pia = await open('/regatta/?as=pia');
    const jory = await open('/regatta/?as=jory', undefined, false);
    await jory.locator('.bell', { hasText: '1' }).waitFor();
    await pia.locator('.here').getByRole('button', { name: 'Jory Teague' }).click();
    await pia.getByPlaceholder('Say something').fill('Meet at the breakwater?');
    await pia.keyboard.press('Enter');
    await pia.locator('.messages').getByText('Meet at the breakwater?').waitFor();
    await jory.locator('.bell', { hasText: '2' }).waitFor();
    await jory.locator('.elsewhere', { hasText: 'new elsewhere' }).waitFor();
    await jory
      .locator('.channel option', { hasText: 'Jory Teague and Pia Lund (1 new)' })
      .waitFor({ state: 'attached' });
    await jory.locator('.bell').click();
    await jory.locator('.inbox li', { hasText: 'Pia Lund wrote to you' }).getByRole('button', { name: 'Open' }).click();
    await jory.locator('.messages').getByText('Meet at the breakwater?').waitFor();
    await pia.locator('.read', { hasText: 'Read by Jory Teague' }).waitFor();
    expect(await jory.locator('.channel option:checked').textContent()).toBe('Jory Teague and Pia Lund');
    await jory.locator('.bell', { hasText: '1' }).waitFor();
    await jory.locator('.bell').click();
    await jory.locator('.inbox').getByRole('button', { name: 'Done' }).click();
    await jory.getByText('Nothing to know just now.').waitFor();
  });

  it('shows a toast for a berth that the harbour office assigns, and lets a skipper declare a turn over its line', async () => {
    const page = await open('/regatta/');
    const pane = page.locator('.window').first();
    await pane.locator('.person').selectOption('tomas');
    await pane.locator('.state[data-state="open"]').waitFor();
    expect((await demo.postBerth('petrel')).status).toBe(202);
    await pane.getByText('Petrel: berth A1 tonight').first().waitFor();
    await pane.locator('.channel').selectOption('race/3/signals');
    await pane.getByRole('button', { name: 'Declare a penalty turn' }).click();
    await pane.getByText(/The committee has noted penalty turn \d+\./).waitFor();
    await pane.locator('.messages', { hasText: /Penalty turn \d+: petrel/ }).waitFor();
    await pane.locator('.person').selectOption('pia');
    await pane.locator('.state[data-state="open"]').waitFor();
    expect(await pane.getByRole('button', { name: 'Declare a penalty turn' }).isVisible()).toBe(false);
  });

  it('shows a browser that is killed as gone once, after the grace and not before', async () => {
    const pia = await open('/regatta/?as=pia');
    const server = await chromium.launchServer({ executablePath: chromiumFile, args: [...browserArguments] });
    const other = await chromium.connect(server.wsEndpoint());
    const page = await other.newPage();
    await page.goto(`${demo.service.url}/regatta/?as=jory`);
    // Her own window has entered: it is not a Jory of before who is still shown.
    await page.locator('.here', { hasText: '2 here' }).waitFor();
    await pia.locator('.here', { hasText: '2 here' }).waitFor();
    // With all its processes: the one for the network would still say goodbye.
    process.kill(-(server.process().pid as number), 'SIGKILL');
    const killedAt = Date.now();
    await pia.locator('.here', { hasText: '1 here: Pia Lund' }).waitFor();
    // The grace of the chat is 10 s.
    expect(Date.now() - killedAt).toBeGreaterThan(9_500);
    const { members } = await backend.members('race/3/chat');
    expect(members.map(({ user }) => user)).toEqual(['pia']);
  });
});

describe.skipIf(!browserIsThere)('the demo page of a service that is killed', () => {
  it('says so, counts down, and catches up when the service is there again', async () => {
    const data = mkdtempSync(join(tmpdir(), 'bells-killed-'));
    const start = async (port: string) => {
      const command = new Command(['demo', '--quiet', '--port', port, '--data', data]);
      const url = await until(() => /is on, at (\S+)/.exec(command.out)?.[1]);
      return { command, url, killed: new Backend(url, { key: readFileSync(join(data, 'api-key'), 'utf8').trim() }) };
    };
    const before = await start('0');
    const page = await open(`${before.url}/regatta/?as=pia`);
    await page.getByText(/^open/).waitFor();
    await page.getByPlaceholder('Say something').fill('Before the storm');
    await page.keyboard.press('Enter');
    await page.locator('.messages').getByText('Before the storm').waitFor();
    // Offline, the page cannot reconnect too early, and its attempts become rarer.
    await pages.context?.setOffline(true);
    before.command.process.kill('SIGKILL');
    await before.command.ended;
    // Why, depends on which try is looked at.
    const state = () => page.locator('.state').textContent();
    await expect.poll(state).toMatch(/^waiting \d+ s: \S/);
    await page.getByLabel('Message').fill('Is anybody there?');
    await page.keyboard.press('Enter');
    await page.getByText('1 message will be sent').waitFor();
    const { command, killed } = await start(new URL(before.url).port);
    await killed.publishAll(
      Array.from({ length: 14 }, (_, n) => ({
        channel: 'race/3/chat',
        data: { text: `Wave ${n + 1}` },
        by: { user: 'jory' },
      })),
    );
    await pages.context?.setOffline(false);
    await page.getByText('Caught up on 14 messages.').waitFor();
    await page.locator('.messages').getByText('Is anybody there?').waitFor();
    const texts = await page.locator('.messages li p').allTextContents();
    expect(texts.slice(-16)).toEqual([
      'Before the storm',
      ...Array.from({ length: 14 }, (_, n) => `Wave ${n + 1}`),
      'Is anybody there?',
    ]);
    await page.close();
    command.process.kill('SIGTERM');
    await command.ended;
    rmSync(data, { recursive: true, force: true });
  });
});

describe.skipIf(!browserIsThere)('a page without a bundler', () => {
  it('takes the SDK from the service, also from another origin', async () => {
    const page = await open('/healthz');
    // The same service by another name is another origin.
    const url = demo.service.url.replace('127.0.0.1', 'localhost');
    // As text: the test runner would rewrite the import.
    const heard = page.evaluate(`(async () => {
      const { connect } = await import('${url}/client.js');
      for await (const message of connect('${url}').enter('race/8/signals')) return message.data;
    })()`);
    await expect.poll(async () => (await backend.channel('race/8/signals')).entered).toBe(1);
    await backend.publish({ channel: 'race/8/signals', type: 'signal', data: { signal: 'start', text: 'Start' } });
    expect(await heard).toEqual({ signal: 'start', text: 'Start' });
  });
});
