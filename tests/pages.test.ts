import { copyFileSync, existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { connect } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { type Demo, finish, type Regatta, startDemo } from '@nine-bells/demo';
import { type Browser, type BrowserContext, chromium, type Page } from 'playwright-core';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { Command, ninebells, root, until } from './startedService.js';

const executablePath = '/usr/bin/chromium';
/** How long a page may take to show what is expected. */
const soon = { timeout: 15_000 };
const browserIsThere = existsSync(executablePath);
const axeSource = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8');

let browser: Browser;
let demo: Demo;
let folder: string;
let key: string;
let backend: Backend;
let context: BrowserContext;
const errors: string[] = [];

beforeAll(async () => {
  if (!browserIsThere) return;
  browser = await chromium.launch({
    executablePath,
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
    ],
  });
  folder = mkdtempSync(join(tmpdir(), 'bells-pages-'));
  // As `npm run demo` does: every page must do on whichever process its requests reach.
  demo = await startDemo({ port: 0, data: folder, quiet: true, workers: 2 });
  key = readFileSync(demo.keyFile, 'utf8').trim();
  backend = new Backend(demo.service.url, { key });
});

afterAll(async () => {
  if (!browserIsThere) return;
  await browser.close();
  await demo.stop();
  await demo.service.stop();
  rmSync(folder, { recursive: true, force: true });
});

afterEach(async () => {
  await context?.close();
  expect(errors.splice(0)).toEqual([]);
});

/** A window of its own; what its page complains of fails the test. */
async function open(path: string, viewport = { width: 1280, height: 800 }, fresh = true): Promise<Page> {
  if (fresh) context = await browser.newContext({ viewport });
  const page = await context.newPage();
  page.on('pageerror', (error) => errors.push(error.message));
  page.on('console', (message) => {
    if (
      message.type() === 'error' &&
      !/40[14]|422|ERR_CONNECTION|ERR_INTERNET_DISCONNECTED|WebSocket connection/.test(message.text())
    )
      errors.push(message.text());
  });
  await page.goto(path.startsWith('http') ? path : demo.service.url + path);
  return page;
}

const signedIn = async (path = '/console/', viewport?: { width: number; height: number }): Promise<Page> => {
  const { url } = await backend.signInLink();
  const page = await open(url, viewport);
  await page.getByText('Connections').first().waitFor();
  if (path !== '/console/') await page.goto(demo.service.url + path);
  return page;
};

describe.skipIf(!browserIsThere)(`the demo page (in ${executablePath})`, () => {
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

  it('shows two windows side by side; what is said with the plug pulled is sent later, or taken back, and what was missed comes back', async () => {
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
    await ines.getByText('That is not how it was!').waitFor(soon);
    await sunniva
      .locator('.messages li', { hasText: 'That is not how it was!' })
      .getByRole('button', { name: 'Remove' })
      .click();
    await ines.getByText(/Sunniva Dahl has removed you until .*: please wait until you are called/).waitFor(soon);
    await sunniva.getByText(/Removed Ines Okoro until/).waitFor(soon);
    await ines.reload();
    await ines.locator('.channel').selectOption('protest/7');
    await ines.getByText(/banned from protest\/7 by Sunniva Dahl until/).waitFor(soon);
    const { bans } = await backend.bans({ user: 'ines' });
    await backend.unban(bans[0]?.id as string);
  });

  it('keeps spectators out of a crew’s talk and off the results desk, and lets in who belongs there', async () => {
    const page = await open('/regatta/?as=pia');
    await page.locator('.channel').selectOption('crew/petrel');
    await page.getByText('user pia may not enter channels of the rule crew/:boat').waitFor(soon);
    await page.locator('.channel').selectOption('desk/results/3');
    await page.getByText('only the stewards on duty may sit at the desk').waitFor(soon);
    await page.locator('.person').selectOption('oona');
    await page.getByPlaceholder('Say something').fill('Finish times of heat two are in.');
    await page.keyboard.press('Enter');
    await page.getByText('Finish times of heat two are in.').waitFor(soon);
    await page.locator('.person').selectOption('tomas');
    await page.locator('.channel').selectOption('crew/petrel');
    await page.getByPlaceholder('Say something').fill('Tacking on the next header.');
    await page.keyboard.press('Enter');
    await page.getByText('Tacking on the next header.').waitFor(soon);
  });

  it('shows who is here, who is typing, and that somebody else edits the same sheet', async () => {
    const pia = await open('/regatta/?as=pia');
    await pia.locator('.here', { hasText: '1 here: Pia Lund' }).waitFor(soon);
    const jory = await open('/regatta/?as=jory', undefined, false);
    for (const page of [pia, jory]) await page.locator('.here', { hasText: '2 here' }).waitFor(soon);
    await jory.locator('input').pressSequentially('Whimbrel');
    await pia.getByText('Jory Teague is typing').waitFor(soon);
    expect(await jory.locator('.typing').textContent()).toBe('');
    await jory.keyboard.press('Enter');
    await pia.locator('.messages').getByText('Whimbrel', { exact: true }).waitFor(soon);
    expect(await pia.locator('.typing').textContent()).toBe('');

    await pia.locator('.person').selectOption('oona');
    await pia.locator('.channel').selectOption('desk/results/3');
    await pia.getByText('No other user is editing.').waitFor(soon);
    await jory.locator('.person').selectOption('felix');
    await jory.locator('.channel').selectOption('desk/results/3');
    await jory.getByText(/^Oona Reyes \(since .*\) is editing this sheet, too\.$/).waitFor(soon);
    await pia.getByText(/^Felix Marsh \(since .*\) is editing this sheet, too\.$/).waitFor(soon);
    await jory.locator('.channel').selectOption('race/3/chat');
    await pia.getByText('No other user is editing.').waitFor(soon);
  });

  it('lets two talk alone: a bell rings for the one who is elsewhere, on whichever page', async () => {
    const pia = await open('/regatta/?as=pia');
    const jory = await open('/regatta/?as=jory', undefined, false);
    await jory.locator('.bell', { hasText: '1' }).waitFor(soon);
    await pia.locator('.here').getByRole('button', { name: 'Jory Teague' }).click();
    await pia.getByPlaceholder('Say something').fill('Meet at the breakwater?');
    await pia.keyboard.press('Enter');
    await pia.locator('.messages').getByText('Meet at the breakwater?').waitFor(soon);
    await jory.locator('.bell', { hasText: '2' }).waitFor(soon);
    await jory.locator('.elsewhere', { hasText: 'new elsewhere' }).waitFor(soon);
    await jory
      .locator('.channel option', { hasText: 'Jory Teague and Pia Lund (1 new)' })
      .waitFor({ ...soon, state: 'attached' });
    await jory.locator('.bell').click();
    await jory.locator('.inbox li', { hasText: 'Pia Lund wrote to you' }).getByRole('button', { name: 'Open' }).click();
    await jory.locator('.messages').getByText('Meet at the breakwater?').waitFor(soon);
    await pia.locator('.read', { hasText: 'Read by Jory Teague' }).waitFor(soon);
    expect(await jory.locator('.channel option:checked').textContent()).toBe('Jory Teague and Pia Lund');
    await jory.locator('.bell', { hasText: '1' }).waitFor(soon);
    await jory.locator('.bell').click();
    await jory.locator('.inbox').getByRole('button', { name: 'Done' }).click();
    await jory.getByText('Nothing to know just now.').waitFor(soon);
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
    const server = await chromium.launchServer({ executablePath, args: ['--no-sandbox', '--disable-gpu'] });
    const other = await chromium.connect(server.wsEndpoint());
    const page = await other.newPage();
    await page.goto(`${demo.service.url}/regatta/?as=jory`);
    // Her own window has entered: it is not a Jory of before who is still shown.
    await page.locator('.here', { hasText: '2 here' }).waitFor(soon);
    await pia.locator('.here', { hasText: '2 here' }).waitFor(soon);
    server.process().kill('SIGKILL');
    const killedAt = Date.now();
    await pia.locator('.here', { hasText: '1 here: Pia Lund' }).waitFor({ timeout: 25_000 });
    // The grace of the chat is 10 s.
    expect(Date.now() - killedAt).toBeGreaterThan(9_500);
    const { members } = await backend.members('race/3/chat');
    expect(members.map(({ user }) => user)).toEqual(['pia']);
  }, 60_000);
});

describe.skipIf(!browserIsThere)(`the demo page of a service that is killed (in ${executablePath})`, () => {
  it('says so, counts down, and catches up when the service is there again', async () => {
    const data = mkdtempSync(join(tmpdir(), 'bells-killed-'));
    const start = async (port: string) => {
      const command = new Command(['demo', '--quiet', '--port', port, '--data', data]);
      const url = await until(() => /is on, at (\S+)/.exec(command.out)?.[1], 20_000);
      return { command, url, killed: new Backend(url, { key: readFileSync(join(data, 'api-key'), 'utf8').trim() }) };
    };
    const before = await start('0');
    const page = await open(`${before.url}/regatta/?as=pia`);
    await page.getByText(/^open/).waitFor(soon);
    await page.getByPlaceholder('Say something').fill('Before the storm');
    await page.keyboard.press('Enter');
    await page.locator('.messages').getByText('Before the storm').waitFor(soon);
    // Without a network it cannot come back too early, and the tries become rarer.
    await context.setOffline(true);
    before.command.process.kill('SIGKILL');
    await before.command.ended;
    // Why, depends on which try is looked at.
    const state = () => page.locator('.state').textContent();
    await expect.poll(state, { timeout: 30_000 }).toMatch(/^waiting \d+ s: \S/);
    await page.getByLabel('Message').fill('Is anybody there?');
    await page.keyboard.press('Enter');
    await page.getByText('1 message will be sent').waitFor(soon);
    const { command, killed } = await start(new URL(before.url).port);
    await killed.publishAll(
      Array.from({ length: 14 }, (_, n) => ({
        channel: 'race/3/chat',
        data: { text: `Wave ${n + 1}` },
        by: { user: 'jory' },
      })),
    );
    await context.setOffline(false);
    await page.getByText('Caught up on 14 messages.').waitFor({ timeout: 40_000 });
    await page.locator('.messages').getByText('Is anybody there?').waitFor(soon);
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
  }, 90_000);
});

describe.skipIf(!browserIsThere)(`a page without a bundler (in ${executablePath})`, () => {
  it('takes the SDK from the service, also from another origin', async () => {
    const page = await open('/healthz');
    // The same service by another name is another origin.
    const url = demo.service.url.replace('127.0.0.1', 'localhost');
    // As text: the test runner would rewrite the import.
    const heard = page.evaluate(`(async () => {
      const { connect } = await import('${url}/client.js');
      for await (const message of connect('${url}').enter('race/8/signals')) return message.data;
    })()`);
    await expect.poll(async () => (await backend.channel('race/8/signals')).entered, soon).toBe(1);
    await backend.publish({ channel: 'race/8/signals', type: 'signal', data: { signal: 'start', text: 'Start' } });
    expect(await heard).toEqual({ signal: 'start', text: 'Start' });
  });
});

describe.skipIf(!browserIsThere)(`the console (in ${executablePath})`, () => {
  it('asks for a key, says when it is wrong, and lets in with the right one until one signs out', async () => {
    const page = await open('/console/');
    await page.getByLabel('API key').fill('wrong');
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page.getByText(/the key is not one of this service/).waitFor();
    await page.getByLabel('API key').fill(key);
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page.getByText('Channels entered').waitFor();
    await page.reload();
    await page.getByText('Channels entered').waitFor();
    await page.getByRole('button', { name: 'Sign out' }).click();
    await page.getByLabel('API key').waitFor();
    await page.reload();
    await page.getByLabel('API key').waitFor();
  });

  it('signs in by link once, and keeps the code out of the address', async () => {
    const { url } = await backend.signInLink();
    const page = await open(url);
    await page.getByText('Channels entered').waitFor();
    expect(page.url()).not.toContain('sign-in');
    const other = await open(url);
    await other.getByText(/used before/).waitFor();
  });

  it('shows what was refused, and explains it though the session has ended', async () => {
    const answer = await fetch(`${demo.service.url}/regatta/token?user=pia`);
    const line = connect(demo.service.url, { token: ((await answer.json()) as { token: string }).token });
    await line.enter('crew/petrel').ready.catch(() => {});
    line.close();
    const page = await signedIn();
    const row = page.locator('.refusals tr', { hasText: 'crew/petrel' });
    await row.getByText('user pia may not enter').waitFor(soon);
    await row.getByRole('link', { name: 'Explain' }).click();
    await page.getByRole('button', { name: 'Explain' }).click();
    await page.getByText('pia may not enter crew/petrel').waitFor(soon);
  });

  it('shows connections and channels as they come and go', async () => {
    const page = await signedIn();
    const connections = page.locator('.figures dd').first();
    await expect.poll(() => connections.textContent(), soon).toBe('0');
    const visitor = await open('/regatta/?as=ines', undefined, false);
    await visitor.getByText(/^open/).waitFor();
    await expect.poll(() => connections.textContent(), soon).toBe('1');
    await page.goto(`${demo.service.url}/console/sessions`);
    await page.getByRole('cell', { name: 'Ines Okoro' }).waitFor();
    await page.getByRole('link', { name: 'Overview' }).click();
    await backend.publish({ channel: 'race/9/signals', type: 'signal', data: { signal: 'start', text: 'Start' } });
    await page.getByRole('link', { name: 'race/9/signals' }).waitFor();
    await visitor.close();
    await expect.poll(() => connections.textContent(), soon).toBe('0');
  });

  it('shows the instances, and of a message what became of it, for whom', async () => {
    const page = await signedIn('/console/instances');
    for (const name of ['w1', 'w2']) await page.getByRole('cell', { name }).first().waitFor();
    const { id } = await backend.publish({ channel: 'race/8/chat', data: { text: 'a message to be traced' } });
    await page.goto(`${demo.service.url}/console/channels/race/8/chat`);
    await page.getByText('a message to be traced').waitFor();
    await page.getByText('all of it').click();
    await page.getByRole('link', { name: 'What became of it?' }).click();
    await page.getByText(/^Taken in by w\d at /).waitFor();
    expect(page.url()).toContain(`/traces/${id}`);
    await page.getByLabel('User').fill('nobody');
    await page.getByRole('button', { name: 'What became of it?' }).click();
    await page.getByText('no session of this user is known').waitFor();
    await page.getByLabel('Message').fill('nothing');
    await page.getByRole('button', { name: 'What became of it?' }).click();
    await page.getByText(/Nothing is known of this message/).waitFor();
  });

  it('shows a channel’s messages as they pass, earlier ones as one scrolls, and publishes', async () => {
    await backend.publishAll(
      Array.from({ length: 120 }, (_, n) => ({
        channel: 'race/7/chat',
        data: { text: `message number ${n + 1} of the record` },
      })),
    );
    const page = await signedIn('/console/channels/race/7/chat');
    await page.getByText('message number 120 of').waitFor();
    expect(await page.getByText('message number 1 of').count()).toBe(0);
    for (let i = 0; i < 20 && (await page.getByText('This is where the record begins').count()) === 0; i++) {
      await page.locator('ol.messages').evaluate((list) => list.scrollTo(0, 0));
      await page.waitForTimeout(100);
    }
    await page.getByText('message number 1 of').waitFor();
    expect(await page.locator('ol.messages li time').count()).toBe(120);
    await page.getByRole('button', { name: 'To the latest' }).click();

    await page.getByLabel('Message', { exact: true }).fill('A test message');
    await page.getByLabel('By user').fill('mira');
    await page.getByRole('button', { name: 'Publish' }).click();
    await page.getByText(/^Published as \w+:121$/).waitFor();
    await page.locator('ol.messages').getByText('A test message').first().waitFor();
    expect((await backend.read('race/7/chat', { limit: 1 })).messages[0]).toMatchObject({ by: { user: 'mira' } });

    await page.getByText('JSON', { exact: true }).click();
    await page.getByLabel('Message', { exact: true }).fill('{"boat": ');
    await page.getByRole('button', { name: 'Publish' }).click();
    await page.getByText('This is not JSON').waitFor();
    await page.getByLabel('Message', { exact: true }).fill('{"text": "Hoorah", "for": "petrel"}');
    await page.getByLabel('Type').fill('cheer');
    await page.getByRole('button', { name: 'Publish' }).click();
    // What does not fit the contract is said where it is written.
    await page.getByText(/there is no type cheer in channels of race\/:race\/chat/).waitFor();
    await page.getByLabel('Type').fill('message');
    await page.getByRole('button', { name: 'Publish' }).click();
    await page.locator('ol.messages').getByText('{"text":"Hoorah","for":"petrel"}').first().waitFor();
  });

  it('is a reference of the channel rules, with a form made of each schema that publishes a test message', async () => {
    const page = await signedIn('/console/rules/race/:race/signals');
    await page.getByRole('heading', { name: 'race/:race/signals' }).waitFor();
    await page.getByText('A boat has crossed the finish line').waitFor();
    await page.getByText('one of "petrel", "turnstone"').first().waitFor();
    await page.getByText('finish', { exact: true }).last().click();
    await page.getByLabel(':race').fill('9');
    await page.getByLabel('at', { exact: true }).fill('soon');
    await page.getByRole('button', { name: 'Publish' }).click();
    // What does not fit is said beside its field, and with its pointer.
    await page.getByText('expected a date-time', { exact: true }).waitFor();
    await page.getByText('/data/at: expected a date-time').waitFor();
    await page.getByLabel('at', { exact: true }).fill('2031-06-14T14:02:11Z');
    await page.getByText(/^npx ninebells publish race\/9\/signals .*2031-06-14T14:02:11Z.* --type finish$/).waitFor();
    await page.getByRole('button', { name: 'Publish' }).click();
    await page.getByText(/^Published as \w+:\d+/).waitFor();
    expect((await backend.read('race/9/signals', { limit: 1 })).messages[0]).toMatchObject({
      type: 'finish',
      data: { boat: 'petrel', at: '2031-06-14T14:02:11Z' },
    });
    await page.getByRole('link', { name: /crew\/:boat/ }).click();
    await page.getByText('whose claim boats holds :boat or the role coach').first().waitFor();
  });

  it('shows what other systems said and were told, tries routes, and sends again', async () => {
    expect((await demo.postReading()).status).toBe(202);
    await finish(backend as unknown as Backend<Regatta>, 'knot');
    const page = await signedIn('/console/webhooks');
    const arrived = page.getByRole('row', { name: /buoy.*done.*weather\/north-mark/ });
    await arrived.getByRole('button').click();
    const drawer = page.getByRole('dialog');
    await drawer.getByText('"knots"').waitFor();
    await drawer.getByText('"south-west"').first().waitFor();
    expect(await drawer.textContent()).not.toContain('0144');
    await drawer.getByLabel('Routes').fill('- message: { channel: "weather/:station", data: /none }');
    await drawer.getByRole('button', { name: 'Try' }).click();
    await drawer.getByText('/none finds nothing').waitFor();
    await drawer.getByLabel('Routes').fill('- mesage: {}');
    await drawer.getByRole('button', { name: 'Try' }).click();
    await drawer.getByText(/did you mean "message"/).waitFor();
    // The browser complains of the refusal, too.
    expect(errors.splice(0)).toEqual([expect.stringContaining('400')]);
    await page.keyboard.press('Escape');

    await page.getByText('What goes out').click();
    const sent = page.getByRole('row', { name: /bureau.*race\/3\/signals.*delivered/ });
    await sent.first().getByRole('checkbox').check();
    const before = demo.bureau.received();
    await page.getByRole('button', { name: 'Send 1 again' }).click();
    await page.getByText('1 sent again').waitFor();
    await until(() => demo.bureau.received() > before);
    await sent.first().getByRole('button').click();
    await page
      .getByRole('dialog')
      .getByText(/noted, number/)
      .first()
      .waitFor();
    await page.keyboard.press('Escape');

    await page.getByText('Hooks and feeds', { exact: true }).click();
    const hook = page.getByRole('row', { name: /bureau/ });
    await hook.getByRole('button', { name: 'Pause' }).click();
    await page.getByText(/bureau is paused since/).waitFor();
    await hook.getByRole('button', { name: 'Resume' }).click();
    await hook.getByText('active').waitFor();
    await page.getByRole('region', { name: 'Feeds' }).getByText('finishes', { exact: true }).waitFor();
  });

  it('says why a channel cannot be shown', async () => {
    const page = await signedIn('/console/channels/no/such/channel/here');
    await page.getByText('No channel rule matches this name').waitFor();
  });

  it('explains who may do what, for somebody made up and for a live session', async () => {
    const page = await signedIn('/console/access');
    await page.getByLabel('User').fill('ines');
    await page.getByLabel('Other claims').fill('{"boats": ["turnstone"]}');
    await page.getByLabel('Channel', { exact: true }).fill('crew/petrel');
    await page.getByRole('button', { name: 'Explain' }).click();
    await page.getByText('ines may not enter crew/petrel').waitFor();
    await page.getByText('found ["turnstone"]').waitFor();
    await page.getByLabel('Channel', { exact: true }).fill('crew/turnstone');
    await page.getByRole('button', { name: 'Explain' }).click();
    await page.getByText('ines may enter crew/turnstone').waitFor();

    const visitor = await open('/regatta/?as=tomas', undefined, false);
    await visitor.getByText(/^open/).waitFor();
    await page.goto(`${demo.service.url}/console/sessions`);
    const row = page.getByRole('row', { name: /Tomas Verne/ });
    await row.getByTitle('What may it do?').click();
    await page.getByLabel('Channel', { exact: true }).fill('crew/petrel');
    await page.getByRole('button', { name: 'Explain' }).click();
    await page.getByText('tomas may enter crew/petrel').waitFor();
  });

  it('removes a member, who sees who and why, shows the ban and lifts it', async () => {
    const page = await signedIn('/console/people');
    const ines = await open('/regatta/?as=ines', undefined, false);
    await ines.locator('.channel').selectOption('protest/7');
    await ines.getByText('Case 7: Turnstone').waitFor(soon);
    await page.getByRole('combobox', { name: 'User' }).fill('ines');
    await page.getByLabel('From the channel').fill('protest/7');
    await page.getByLabel('Reason, told to the user').fill('please wait outside');
    await page.getByRole('button', { name: 'Remove' }).click();
    await page.getByRole('dialog').getByRole('button', { name: 'Remove' }).click();
    await page.getByText('Done. It reached 1 session.').waitFor(soon);
    await ines.getByText(/has removed you until .*: please wait outside/).waitFor(soon);
    expect(await ines.getByRole('button', { name: 'Send' }).isDisabled()).toBe(true);
    await page.getByRole('cell', { name: 'please wait outside' }).first().waitFor(soon);
    await page.getByRole('button', { name: 'Unban' }).click();
    await page.locator('.ant-popover').getByRole('button', { name: 'Unban' }).click();
    await page.getByText('No bans are in force').waitFor(soon);
    await page.getByRole('cell', { name: 'unban', exact: true }).first().waitFor(soon);
  });

  it('works off what a spectator reports: the author is silenced, and told so on its page', async () => {
    const page = await signedIn('/console/people');
    const [pia, jory] = [await open('/regatta/?as=pia'), await open('/regatta/?as=jory')];
    await jory.getByPlaceholder('Say something').fill('The committee is asleep.');
    await jory.locator('input').press('Enter');
    const said = pia.locator('.messages li', { hasText: 'The committee is asleep.' });
    await said.hover();
    await said.getByRole('button', { name: 'Report' }).click();
    await pia.getByText('Reported to the committee.').waitFor(soon);
    const row = page.getByRole('row', { name: /Jory Teague.*The committee is asleep/ });
    await row.getByRole('link', { name: 'Act' }).click();
    await until(async () => (await page.getByRole('combobox', { name: 'User' }).inputValue()) === 'jory');
    await page.getByText('Silence', { exact: true }).click();
    await page.getByLabel('Reason, told to the user').fill('a word to cool down');
    await page.getByRole('button', { name: 'Silence' }).click();
    await page.getByRole('dialog').getByRole('button', { name: 'Silence' }).click();
    await page.getByText(/^Done\. It reached [1-9]/).waitFor(soon);
    await jory.getByText(/lets you read only until .*: a word to cool down/).waitFor(soon);
    expect(await jory.getByRole('button', { name: 'Send' }).isDisabled()).toBe(true);
    await row.getByRole('button', { name: 'Done' }).click();
    await page.getByLabel('What was done').fill('silenced for a while');
    await page.getByRole('button', { name: 'End the report' }).click();
    await row.waitFor({ state: 'detached' });
    await page.getByText('Ended', { exact: true }).click();
    await page.getByRole('row', { name: /The committee is asleep.*key first.*silenced for a while/ }).waitFor(soon);
    await page.getByRole('region', { name: 'Silences in force' }).getByRole('button', { name: 'End' }).click();
    await jory.getByText(/lets you write again/).waitFor(soon);
    expect(await jory.getByRole('button', { name: 'Send' }).isDisabled()).toBe(false);
  });

  it('decides about what waits before it is published, which its author sees on its page', async () => {
    const page = await signedIn('/console/people');
    const [pia, jory] = [await open('/regatta/?as=pia'), await open('/regatta/?as=jory')];
    const send = async (text: string): Promise<void> => {
      await jory.getByPlaceholder('Say something').fill(text);
      await jory.locator('input').press('Enter');
    };
    await send('Oars, half the price: https://oars.example');
    await send('Flags at https://flags.example');
    const note = jory.locator('.messages li', { hasText: /^Waits .*Flags at/ });
    await note.waitFor(soon);
    await send('Good ones!');
    await jory.locator('.messages li', { hasText: /^Waits \(an earlier message.*Good ones!/ }).waitFor(soon);
    await send('And www.oars.example');
    const row = (text: string) => page.getByRole('row', { name: new RegExp(`Jory Teague.*${text}`) });
    await row('www.oars').getByRole('button', { name: 'Reject' }).click();
    await page.getByLabel('Why not').fill('one is enough');
    await page.getByRole('button', { name: 'Reject it' }).click();
    await jory.getByText('Not published (one is enough): And www.oars.example').waitFor(soon);
    const said = (text: string) => pia.locator('.messages li', { has: pia.getByText(text, { exact: true }) });
    expect(await said('Flags at https://flags.example').count()).toBe(0);
    // What came first holds them up: its author takes it back.
    await jory
      .locator('.messages li', { hasText: 'half the price' })
      .getByRole('button', { name: 'Take back' })
      .click();
    await row('Oars, half the price').waitFor({ state: 'detached' });
    await row('Flags at').getByRole('button', { name: 'Approve' }).click();
    await said('Flags at https://flags.example').waitFor(soon);
    await said('Good ones!').waitFor(soon);
    await note.waitFor({ state: 'detached' });
    await page.locator('section', { hasText: 'Messages before' }).getByText('Refused', { exact: true }).click();
    await row('www.oars.*one is enough').waitFor(soon);
    await page.getByRole('cell', { name: 'approve', exact: true }).first().waitFor(soon);
  });

  it('answers a message, which says how often, and no longer quotes it when it is taken back', async () => {
    const [pia, ines] = [await open('/regatta/?as=pia'), await open('/regatta/?as=ines', undefined, false)];
    const item = (page: Page, text: string) =>
      page.locator('.messages li', { has: page.getByText(text, { exact: true }) });
    const say = async (page: Page, text: string): Promise<void> => {
      await page.locator('.composer input, form input').first().fill(text);
      await page.locator('.composer input, form input').first().press('Enter');
      await item(pia, text).waitFor(soon);
    };
    await say(ines, 'Curlew is over the line');
    await item(pia, 'Curlew is over the line').hover();
    await item(pia, 'Curlew is over the line').getByRole('button', { name: 'Answer' }).click();
    await say(pia, 'No, it was Whimbrel');
    await item(ines, 'No, it was Whimbrel').getByText('Ines Okoro: Curlew is over the line').waitFor(soon);
    await item(ines, 'Curlew is over the line').getByText('1 answer').waitFor(soon);
    await item(ines, 'Curlew is over the line').hover();
    await item(ines, 'Curlew is over the line').getByRole('button', { name: 'Take back' }).click();
    for (const page of [pia, ines])
      await item(page, 'No, it was Whimbrel').getByText('Ines Okoro: taken back').waitFor(soon);
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
    await page.getByText('sails without a').waitFor(soon);
    const rows = page.locator('tbody tr', { has: page.locator('mark') });
    expect(await rows.count()).toBe(2);
    expect(await rows.last().locator('mark').allTextContents()).toEqual(['jib', 'Sandpiper']);
    await page.getByLabel('Only in these channels').fill('race/4/chat');
    await until(async () => (await rows.count()) === 1);
    await page.getByLabel('Words').fill('landlubberly');
    await page.getByText('Nothing was found').waitFor(soon);
  });

  it('calls others by "@": a toast at theirs, here or elsewhere, until it is taken back', async () => {
    const [mira, ines, felix] = [
      await open('/regatta/?as=mira'),
      await open('/regatta/?as=ines', undefined, false),
      await open('/regatta/?as=felix', undefined, false),
    ];
    // Who has a channel in view is not notified: no other window of Felix may be open.
    await felix.locator('.channel').selectOption('regatta/notices');
    // Who they are is written down a moment after they came.
    for (const user of ['ines', 'felix']) await until(() => backend.user(user).catch(() => undefined));
    const say = async (text: string): Promise<void> => {
      await mira.getByPlaceholder('Say something').fill(text);
      await mira.locator('form input').press('Enter');
      await ines.locator('.messages li', { hasText: text }).waitFor(soon);
    };
    await say('@ines your number is torn');
    await ines.locator('.toast', { hasText: 'Mira Holt calls you' }).waitFor(soon);
    await ines.locator('.messages li.called', { hasText: 'your number is torn' }).waitFor(soon);
    await say('@skipper @felix lunch is served');
    await felix.locator('.toast', { hasText: 'Mira Holt mentioned you in race/3/chat' }).waitFor(soon);
    const called = mira.locator('.messages li', { hasText: 'lunch is served' });
    expect(await ines.locator('.messages li.called').count()).toBe(2);
    await felix.locator('.bell').click();
    const listed = felix.locator('.inbox li', { hasText: 'mentioned you in race/3/chat' });
    await listed.waitFor(soon);
    await called.hover();
    await called.getByRole('button', { name: 'Take back' }).click();
    await until(async () => (await listed.count()) === 0);
  });

  it('mutes a user for one spectator alone, until it wants to hear the user again', async () => {
    const [pia, ines, jory] = [
      await open('/regatta/?as=pia'),
      await open('/regatta/?as=ines', undefined, false),
      await open('/regatta/?as=jory', undefined, false),
    ];
    const say = async (text: string): Promise<void> => {
      await jory.getByPlaceholder('Say something').fill(text);
      await jory.locator('input').press('Enter');
      await ines.locator('.messages li', { hasText: text }).waitFor(soon);
    };
    const shown = (text: string) => pia.locator('.messages li:visible', { hasText: text });
    await say('A landlubber laid this.');
    await shown('A landlubber laid this.').hover();
    await shown('A landlubber laid this.').getByRole('button', { name: 'Mute' }).click();
    await shown('You do not hear Jory Teague.').waitFor(soon);
    await until(async () => (await shown('A landlubber laid this.').count()) === 0);
    await say('Nobody listens to me.');
    await pia.reload();
    await shown('You do not hear Jory Teague.').waitFor(soon);
    await pia.getByRole('button', { name: 'Hear again' }).click();
    await shown('You hear Jory Teague again.').waitFor(soon);
    await say('At last.');
    await shown('At last.').waitFor(soon);
    expect(await shown('Nobody listens to me.').count()).toBe(0);
  });

  it('lets one correct, take back and react: in the chat with arrow up, and in the console', async () => {
    const page = await signedIn('/console/channels/race/3/chat');
    const [pia, jory] = [await open('/regatta/?as=pia'), await open('/regatta/?as=jory', undefined, false)];
    const input = pia.getByPlaceholder('Say something');
    await input.fill('Dunlin tacks');
    await input.press('Enter');
    const said = (where: Page, text: string) => where.locator('.messages li', { hasText: text });
    await said(jory, 'Dunlin tacks').waitFor(soon);
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
        .waitFor(soon);
    expect(await said(jory, 'Dunlin tacks').count()).toBe(0);
    // In the console it is revised by an application, and withdrawn with a reason.
    await said(page, 'Dunlin gybes').locator('summary').click();
    await page.getByRole('button', { name: 'Revise' }).click();
    await page.getByLabel('What it is to hold, as JSON').fill('{"words":1}');
    await page.getByRole('button', { name: 'Save' }).click();
    await page.getByRole('alert').getByText('bad-data').waitFor(soon);
    await page.getByLabel('What it is to hold, as JSON').fill('{"text":"Dunlin hoists"}');
    await page.getByRole('button', { name: 'Save' }).click();
    await said(jory, 'Dunlin hoists')
      .getByText(/^revised by the committee/)
      .waitFor(soon);
    // A reaction of one is counted for the other, and named in the console.
    await said(jory, 'Dunlin hoists').getByRole('button', { name: 'bravo' }).click();
    await said(pia, 'Dunlin hoists').getByRole('button', { name: 'bravo 1', pressed: false }).waitFor(soon);
    await said(jory, 'Dunlin hoists').getByRole('button', { name: 'bravo 1', pressed: true }).waitFor(soon);
    await page.getByRole('button', { name: 'Who has reacted?' }).click();
    await page.getByText('bravo 1: Jory Teague').waitFor(soon);
    await page.getByRole('button', { name: 'Withdraw' }).click();
    await page.getByLabel('Reason').fill('not so');
    await page.getByRole('tooltip').getByRole('button', { name: 'Withdraw' }).click();
    for (const where of [pia, jory]) await where.getByText('Taken back by the committee: not so').waitFor(soon);
    await page.getByText(/withdrawn by an application at .*: not so/).waitFor(soon);
    // Your own.
    await input.fill('Wigeon is late');
    await input.press('Enter');
    const own = said(pia, 'Wigeon is late');
    await own.hover();
    await own.getByRole('button', { name: 'Take back' }).click();
    await said(jory, 'Taken back').last().waitFor(soon);
    await until(async () => (await said(jory, 'Wigeon is late').count()) === 0);
  });

  it('makes a key that is shown once, and revokes it', async () => {
    const page = await signedIn('/console/keys');
    await page.getByLabel('Name').fill('press office');
    await page.getByLabel('Rights').fill('publish:race/:race/signals');
    await page.keyboard.press('Enter');
    await page.keyboard.press('Escape');
    await page.getByRole('button', { name: 'Make' }).click();
    const made = ((await page.locator('.made-key').textContent(soon)) ?? '').trim();
    const press = new Backend(demo.service.url, { key: made });
    await press.publish({ channel: 'race/3/signals', type: 'signal', data: { signal: 'start', text: 'x' } });
    await expect(press.channels()).rejects.toMatchObject({ status: 403 });
    await page.reload();
    await page.getByRole('cell', { name: 'press office' }).waitFor(soon);
    expect(await page.getByText(made).count()).toBe(0);
    await page
      .getByRole('row', { name: /press office/ })
      .getByRole('button', { name: 'Revoke' })
      .click();
    await page.locator('.ant-popover').getByRole('button', { name: 'Revoke' }).click();
    await page.getByText(/revoked .*\d{4}/).waitFor(soon);
    await expect(press.publish({ channel: 'race/3/signals', data: 1 })).rejects.toMatchObject({ status: 401 });
  });

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
    // What was missed on a bad network is found in the reply, and marked.
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
    // A frame that is none is told as such.
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
  }, 120_000);

  it('lets who may only look see everything, and act nowhere', async () => {
    const { url } = await backend.signInLink({ looksOnly: true });
    const page = await open(url);
    await page.getByText('looking only').waitFor(soon);
    expect(await page.getByRole('link', { name: 'Keys' }).count()).toBe(0);
    await page.goto(`${demo.service.url}/console/people`);
    await page.getByText('You can look here but not act').waitFor(soon);
    expect(await page.getByRole('button', { name: 'Remove' }).count()).toBe(0);
    await page.goto(`${demo.service.url}/console/channels/protest/7`);
    await page.getByText('Case 7: Turnstone').waitFor(soon);
    expect(await page.getByRole('button', { name: 'Publish' }).count()).toBe(0);
  });

  it('leads back to signing in when its key is revoked, and says so', async () => {
    const { id, key } = await backend.makeKey({ name: 'for a day', rights: ['read'] });
    const page = await open('/console/');
    await page.getByLabel('API key').fill(key);
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page.getByText('Connections').first().waitFor(soon);
    await backend.revokeKey(id);
    await page.getByText('Not signed in: your sign-in has ended').waitFor(soon);
  });

  it('gives long lists page by page, and lets the service search them', async () => {
    const numbers = Array.from({ length: 45 }, (_, n) => 100 + n);
    await backend.publishAll(
      numbers.map((n) => ({ channel: `race/${n}/signals`, type: 'signal', data: { signal: 'start', text: `${n}` } })),
    );
    const page = await signedIn();
    const list = page.getByRole('region', { name: 'Channels' });
    const shown = () => list.getByRole('link').allTextContents();
    const firstAndLast = async () => [(await shown())[0], (await shown()).at(-1), (await shown()).length];
    await page.getByLabel('Find a channel by its name').fill('E/1');
    await expect.poll(firstAndLast, soon).toEqual(['race/100/signals', 'race/119/signals', 20]);
    await page.getByRole('button', { name: 'Next page' }).click();
    await expect.poll(firstAndLast, soon).toEqual(['race/120/signals', 'race/139/signals', 20]);
    await page.getByRole('button', { name: 'Next page' }).click();
    await expect.poll(firstAndLast, soon).toEqual(['race/140/signals', 'race/144/signals', 5]);
    expect(await page.getByRole('button', { name: 'Next page' }).isDisabled()).toBe(true);
    await page.getByRole('button', { name: 'Previous page' }).click();
    await page.getByRole('link', { name: 'race/120/signals' }).waitFor();
    await page.getByLabel('Find a channel by its name').fill('nowhere at all');
    await page.getByText('No channel has this in its name').waitFor(soon);
    await page.goto(`${demo.service.url}/console/people`);
    await page.getByLabel('Only about the user with this id').fill('nobody at all');
    await page.getByText('Nothing was done about this user').waitFor(soon);
  });

  it('asks nothing while its tab is hidden', async () => {
    const page = await signedIn('/console/sessions');
    await page.getByRole('table').waitFor(soon);
    let asked = 0;
    page.on('request', (request) => {
      if (request.url().includes('/v1/')) asked += 1;
    });
    await page.evaluate(() => {
      Object.defineProperty(document, 'visibilityState', { value: 'hidden' });
      document.dispatchEvent(new Event('visibilitychange'));
    });
    await page.waitForTimeout(1_000);
    asked = 0;
    await page.waitForTimeout(4_000);
    expect(asked).toBe(0);
  });

  it("shows a channel's board as it changes, and what goes through it", async () => {
    const page = await signedIn('/console/channels/race/7/positions');
    await page.getByText('Nothing is on the board.').waitFor();
    const put = (set: Readonly<Record<string, { x: number; y: number } | null>>) =>
      backend.setEntries({ channel: 'race/7/positions', set });
    await put({ petrel: { x: 1, y: 4 }, knot: { x: 2, y: 4 } });
    const board = page.getByRole('region', { name: 'Board' }).first();
    await board.getByText('{"x":1,"y":4}').waitFor();
    await put({ petrel: { x: 7, y: 4 }, knot: null });
    await board.getByText('{"x":7,"y":4}').waitFor();
    expect(await board.getByText('knot').count()).toBe(0);
    await page.goto(`${demo.service.url}/console/traffic`);
    await page.getByRole('region', { name: 'Channels' }).getByText('race/7/positions').waitFor();
    await page.getByRole('region', { name: 'Channel rules' }).getByText('race/:race/positions').waitFor();
  });

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
    await page.locator('main').waitFor(soon);
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

  it('sends less than 300 KB, compressed, for its first page', () => {
    const html = readFileSync(join(root, 'packages/console/dist/index.html'), 'utf8');
    const files = [...html.matchAll(/(?:src|href)="\/console\/(assets\/[^"]+)"/g)].map(([, file]) => file as string);
    expect(files.length).toBeGreaterThan(2);
    const bytes = files.map((file) => gzipSync(readFileSync(join(root, 'packages/console/dist', file))).length);
    expect(bytes.reduce((sum, each) => sum + each, 0)).toBeLessThan(300_000);
  });

  it('fits a phone, by day and by night', async () => {
    const page = await signedIn('/console/', { width: 390, height: 800 });
    for (const path of ['/console/', '/console/access', '/console/channels/race/3/chat']) {
      await page.goto(demo.service.url + path);
      await page
        .getByText(/Connections|Messages appear here|Who may do what/)
        .first()
        .waitFor();
      expect(await page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(390);
    }
    const background = () => page.evaluate(() => getComputedStyle(document.body).backgroundColor);
    const day = await background();
    await page.getByRole('button', { name: 'Dark' }).click();
    await expect.poll(background, soon).not.toBe(day);
  });
});
