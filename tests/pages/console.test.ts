import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { connect } from '@nine-bells/client';
import { Backend } from '@nine-bells/client/backend';
import { type Demo, finish, type Regatta } from '@nine-bells/demo';
import { beforeAll, describe, expect, it } from 'vitest';
import { browserIsThere } from '../support/browser.js';
import { root } from '../support/command.js';
import { Pages, showsBriefly } from '../support/pages.js';
import { until } from '../support/until.js';

const pages = new Pages();
const { open, signedIn, errors } = pages;
let demo: Demo;
let backend: Backend;
let key: string;
beforeAll(() => {
  ({ demo, backend, key } = pages);
});

describe.skipIf(!browserIsThere)('the console', () => {
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

  it('shows refusals, and explains them after the session has ended', async () => {
    const answer = await fetch(`${demo.service.url}/regatta/token?user=pia`);
    const line = connect(demo.service.url, { token: ((await answer.json()) as { token: string }).token });
    await line.enter('crew/petrel').ready.catch(() => {});
    line.close();
    const page = await signedIn();
    const row = page.locator('.refusals tr', { hasText: 'crew/petrel' });
    await row.getByText('user pia may not enter').waitFor();
    await row.getByRole('link', { name: 'Explain' }).click();
    await page.getByRole('button', { name: 'Explain' }).click();
    await page.getByText('pia may not enter crew/petrel').waitFor();
  });

  it('shows connections and channels as they come and go', async () => {
    const page = await signedIn();
    const connections = page.locator('.figures dd').first();
    await expect.poll(() => connections.textContent()).toBe('0');
    const visitor = await open('/regatta/?as=ines', undefined, false);
    await visitor.getByText(/^open/).waitFor();
    await expect.poll(() => connections.textContent()).toBe('1');
    await page.goto(`${demo.service.url}/console/sessions`);
    await page.getByRole('cell', { name: 'Ines Okoro' }).waitFor();
    await page.getByRole('link', { name: 'Overview' }).click();
    await backend.publish({ channel: 'race/9/signals', type: 'signal', data: { signal: 'start', text: 'Start' } });
    await page.getByRole('link', { name: 'race/9/signals' }).waitFor();
    await visitor.close();
    await expect.poll(() => connections.textContent()).toBe('0');
  });

  it('shows the instances, and of a message what became of it, for whom', async () => {
    const page = await signedIn('/console/instances');
    for (const name of ['w1', 'w2']) await page.getByRole('cell', { name }).first().waitFor();
    const { id } = await backend.publish({ channel: 'race/8/chat', data: { text: 'a message to be traced' } });
    await page.goto(`${demo.service.url}/console/channels/race/8/chat`);
    await page.getByText('a message to be traced').waitFor();
    await page.getByText('Details').click();
    await page.getByRole('link', { name: 'What became of it?' }).click();
    await page.getByText(/^Taken in by w\d at /).waitFor();
    expect(page.url()).toContain(`/traces/${id}`);
    await page.getByLabel('User').fill('nobody');
    await page.getByRole('button', { name: 'What became of it?' }).click();
    await page.getByText('no session of this user is known').waitFor();
    await page.getByLabel('Message').fill('nothing');
    await page.getByRole('button', { name: 'What became of it?' }).click();
    await page.getByText(/Unknown message/).waitFor();
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
    const page = await signedIn('/console/rules/race/:race/chat');
    for (const trait of [
      'reactions aye bravo alas',
      'replies',
      'mentions',
      'reviewed by the application within 1 s, else published',
    ])
      await page.getByText(trait, { exact: true }).first().waitFor();
    await page.goto(`${demo.service.url}/console/rules/race/:race/signals`);
    await page.getByRole('heading', { name: 'race/:race/signals' }).waitFor();
    await page.getByText('A boat has crossed the finish line').waitFor();
    await page.getByText('one of "petrel", "turnstone"').first().waitFor();
    await page.getByText('finish', { exact: true }).last().click();
    await page.getByLabel(':race').fill('9');
    await page.getByLabel('at', { exact: true }).fill('soon');
    await page.getByRole('button', { name: 'Publish' }).click();
    // The form shows each fault beside its field, and with its pointer.
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

  it('lists arrivals and deliveries, tries routes, and sends deliveries again', async () => {
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
    const again = page.getByRole('button', { name: 'Send 1 again' });
    await showsBriefly(page, '1 sent again', () => again.click());
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

  it('explains access, for a made-up user and for a live session', async () => {
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

  it('makes a key that is shown once, and revokes it', async () => {
    const page = await signedIn('/console/keys');
    await page.getByLabel('Name').fill('press office');
    await page.getByLabel('Rights').fill('publish:race/:race/signals');
    await page.keyboard.press('Enter');
    await page.keyboard.press('Escape');
    await page.getByRole('button', { name: 'Make' }).click();
    const made = ((await page.locator('.made-key').textContent()) ?? '').trim();
    const press = new Backend(demo.service.url, { key: made });
    await press.publish({ channel: 'race/3/signals', type: 'signal', data: { signal: 'start', text: 'x' } });
    await expect(press.channels()).rejects.toMatchObject({ status: 403 });
    await page.reload();
    await page.getByRole('cell', { name: 'press office' }).waitFor();
    expect(await page.getByText(made).count()).toBe(0);
    await page
      .getByRole('row', { name: /press office/ })
      .getByRole('button', { name: 'Revoke' })
      .click();
    await page.locator('.ant-popover').getByRole('button', { name: 'Revoke' }).click();
    await page.getByText(/revoked .*\d{4}/).waitFor();
    await expect(press.publish({ channel: 'race/3/signals', data: 1 })).rejects.toMatchObject({ status: 401 });
  });

  it('lets who may only look see everything, and act nowhere', async () => {
    const { url } = await backend.signInLink({ looksOnly: true });
    const page = await open(url);
    await page.getByText('looking only').waitFor();
    expect(await page.getByRole('link', { name: 'Keys' }).count()).toBe(0);
    await page.goto(`${demo.service.url}/console/people`);
    await page.getByText('You can look here but not act').waitFor();
    expect(await page.getByRole('button', { name: 'Remove' }).count()).toBe(0);
    await page.goto(`${demo.service.url}/console/channels/protest/7`);
    await page.getByText('Case 7: Turnstone').waitFor();
    expect(await page.getByRole('button', { name: 'Publish' }).count()).toBe(0);
  });

  it('leads back to signing in when its key is revoked, and says so', async () => {
    const { id, key } = await backend.makeKey({ name: 'for a day', rights: ['read'] });
    const page = await open('/console/');
    await page.getByLabel('API key').fill(key);
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page.getByText('Connections').first().waitFor();
    await backend.revokeKey(id);
    await page.getByText('Not signed in: your sign-in has ended').waitFor();
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
    await expect.poll(firstAndLast).toEqual(['race/100/signals', 'race/119/signals', 20]);
    await page.getByRole('button', { name: 'Next page' }).click();
    await expect.poll(firstAndLast).toEqual(['race/120/signals', 'race/139/signals', 20]);
    await page.getByRole('button', { name: 'Next page' }).click();
    await expect.poll(firstAndLast).toEqual(['race/140/signals', 'race/144/signals', 5]);
    expect(await page.getByRole('button', { name: 'Next page' }).isDisabled()).toBe(true);
    await page.getByRole('button', { name: 'Previous page' }).click();
    await page.getByRole('link', { name: 'race/120/signals' }).waitFor();
    await page.getByLabel('Find a channel by its name').fill('nowhere at all');
    await page.getByText('No channel has this in its name').waitFor();
    await page.goto(`${demo.service.url}/console/people`);
    await page.getByLabel('Only about the user with this id').fill('nobody at all');
    await page.getByText('Nothing was done about this user').waitFor();
  });

  it('asks nothing while its tab is hidden', async () => {
    const page = await signedIn('/console/sessions');
    await page.getByRole('table').waitFor();
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
    await expect.poll(background).not.toBe(day);
  });
});
