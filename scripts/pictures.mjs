// `npm run pictures`: makes the pictures in docs/screenshots anew, from the demo, in a headless browser. The picture of the
// terminal is not among them.
import { spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { browserFile, root, setUp } from './setUp.mjs';

await setUp({ browser: true });
const { startDemo, finish } = await import('@nine-bells/demo');
const { connect } = await import('@nine-bells/client');
const { Backend } = await import('@nine-bells/client/backend');
const { chromium } = await import('playwright-core');

const folder = mkdtempSync(join(tmpdir(), 'bells-pictures-'));
const demo = await startDemo({ port: 0, data: folder, workers: 2 });
const { url } = demo.service;
const backend = new Backend(url, { key: readFileSync(demo.keyFile, 'utf8').trim() });
const browser = await chromium.launch({
  executablePath: browserFile(),
  args: ['--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking'],
});
/** `npm run pictures workbench`: only those with this word in their name. */
const only = process.argv[2];
const pause = (ms) => new Promise((resolve) => setTimeout(resolve, ms));

await backend.notify({ users: ['pia', 'jory'], title: 'Race 4 is postponed until 15:30' });
await regatta('regatta', async (left, right) => {
  await right.locator('input').fill('Which mark is next?');
  await right.locator('input').press('Enter');
  const asked = left.locator('.messages li', { hasText: 'Which mark is next?' });
  await asked.hover();
  await asked.getByRole('button', { name: 'Answer' }).click();
  await left.locator('input').fill('@jory The second, off the west point');
  await left.locator('input').press('Enter');
});
await picture('regatta-race', `${url}/regatta/race.html`, {}, () => pause(75_000));
await inConsole('console-rules', 'rules/race/:race/signals', {}, async (page) => {
  await page.getByText('A boat has crossed the finish line').waitFor();
});
await regatta('regatta-inbox', async (left, right) => {
  await left.locator('.bell').click();
  await right.locator('input').pressSequentially('Whimbrel is', { delay: 20 });
});
await backend.remove({
  channel: 'protest/7',
  user: 'ines',
  banMs: 600_000,
  reason: 'please wait until you are called',
});
await backend.ban({ address: '192.0.2.0/24', forMs: 43_200_000, reason: 'scraping the results' });
await backend.signOut('felix', 'lost phone');
await backend.makeKey({
  name: 'results bureau',
  rights: ['publish:race/:race/signals', 'read'],
  forMs: 90 * 86_400_000,
});
await backend.makeKey({ name: 'press office', rights: ['read'] });
await inConsole('console-people', 'people');
await inConsole('console-access', 'access', {}, async (page) => {
  await page.getByLabel('User').fill('ines');
  await page.getByLabel('Other claims').fill('{"cases": ["7"]}');
  await page.getByLabel('Channel').fill('protest/7');
  await page.getByRole('button', { name: 'Explain' }).click();
});
await inConsole('console-channel', 'channels/race/3/chat');
await inConsole('console-search', 'search', {}, async (page) => {
  await page.getByLabel('Words', { exact: false }).fill('th* -dunlin');
  await page.locator('mark').first().waitFor();
});
const { id } = await backend.publish({
  channel: 'race/3/chat',
  data: { text: 'Petrel has rounded the mark' },
  by: { user: 'mira', name: 'Mira Holt' },
});
await pause(300);
await inConsole('console-trace', `traces/${id}?user=jory`);
// What was refused: a forged token, a channel that is not hers, a key that is none.
connect(url, { token: `${await demoToken('jory')}x` });
const pia = connect(url, { token: await demoToken('pia') });
await pia.opened();
pia.enter('crew/petrel');
pia.publish('regatta/notices', { text: 'Free ice cream at the quay' }).catch(() => {});
await new Backend(url, { key: 'bells_not_a_key' }).channels().catch(() => {});
await pause(500);
pia.close();
await inConsole('console-overview', '', {}, () => pause(45_000));

if (only === undefined || 'console-traffic'.includes(only)) {
  // Positions as messages, by an application that does not know of boards yet.
  const spectators = Array.from({ length: 6 }, () => connect(url));
  for (const each of spectators) each.enter('race/4/chat');
  let x = 0;
  const report = (boat) =>
    backend
      .publish({ channel: 'race/4/chat', type: 'position', by: { user: boat }, data: { boat, x } })
      .catch(() => {});
  const reports = setInterval(() => {
    x += 1;
    for (const boat of ['petrel', 'knot', 'dunlin']) void report(boat);
  }, 100);
  const page = await browser.newPage();
  await page.goto(`${url}/regatta/race.html`);
  await pause(45_000);
  await inConsole('console-traffic', 'traffic', { viewport: { width: 1280, height: 1000 } });
  clearInterval(reports);
  for (const each of spectators) each.close();
  await page.close();
}
await inConsole('console-workbench', 'workbench', {}, tryOut);
await inConsole('console-webhooks', 'webhooks?view=out', {}, async (page) => {
  // Finishes, some of which the results bureau takes only later.
  for (const boat of ['petrel', 'turnstone', 'dunlin', 'knot', 'curlew', 'whimbrel', 'wigeon', 'sandpiper']) {
    await finish(backend, boat);
    await pause(2_000);
  }
  const late = page.getByRole('row').filter({ has: page.getByRole('cell', { name: /^[2-9]$/, exact: true }) });
  await late.first().getByRole('button').click();
  await page.getByRole('heading', { name: 'Attempts' }).waitFor();
});
if (only === undefined || 'load-report'.includes(only)) await loadReport();
await browser.close();
await demo.stop();
await demo.service.stop();
rmSync(folder, { recursive: true, force: true });

/** A token as the regatta's own application signs it. */
async function demoToken(user) {
  return (await (await fetch(`${url}/regatta/token?user=${user}`)).json()).token;
}

/** The report of the demo's load. */
async function loadReport() {
  const page = join(folder, 'load.html');
  const drill = join(root, 'demo/load/chat.drill.yaml');
  const args = [join(root, 'bin/ninebells.mjs'), 'drill', drill, '--report', 'html', '--out', page];
  await new Promise((resolve) => spawn(process.execPath, args, { stdio: 'ignore' }).on('close', resolve));
  const view = { viewport: { width: 1280, height: 1100 } };
  // The line that names the machine is left out.
  await picture('load-report', `file://${page}`, view, (shown) =>
    shown
      .locator('p')
      .first()
      .evaluate((line) => line.remove()),
  );
}

/** Three clients in the workbench, one of which is removed and cannot come back. */
async function tryOut(page) {
  const add = async (act, user, name, called) => {
    await page.getByRole('button', { name: 'Add a client' }).click();
    const form = page.getByRole('dialog');
    await form.getByRole('combobox', { name: 'May do what' }).click();
    await page.locator('.ant-select-dropdown:visible').getByTitle(act, { exact: true }).click();
    await form.getByLabel('In which channel').fill('protest/12');
    await form.getByLabel('User id').fill(user);
    await form.getByRole('button', { name: 'Work out' }).click();
    await pause(500);
    await form.getByLabel('Name', { exact: true }).fill(name);
    await form.getByLabel('Called').fill(called);
    await form.getByRole('button', { name: 'Connect it' }).click();
    await form.waitFor({ state: 'hidden' });
  };
  await add('moderate', 'sunniva', 'Sunniva Dahl', 'chair');
  await add('enter', 'tomas', 'Tomas Verne', 'party');
  await add('enter', 'mira', 'Mira Holt', 'jury');
  const next = page.getByRole('region', { name: 'What is done next' });
  const act = async (who, verb, values) => {
    await next.getByRole('combobox', { name: 'Client' }).click();
    await page.locator('.ant-select-dropdown:visible').getByTitle(who, { exact: true }).click();
    await next.getByRole('combobox', { name: 'Does' }).click();
    await page.keyboard.type(verb);
    await page.keyboard.press('Enter');
    for (const [name, value] of Object.entries(values)) await next.getByLabel(name, { exact: true }).fill(value);
    await page.keyboard.press('Escape');
    await next.getByRole('button', { name: 'Send' }).click();
    await pause(600);
  };
  await act('all of them', 'enter', { channel: 'protest/12' });
  await act('chair', 'publish', { data: '{"text":"One at a time, please."}' });
  await act('chair', 'remove', { user: 'tomas', reason: 'shouting', banMs: '600000' });
  await act('party', 'enter', { channel: 'protest/12' });
  await act('chair', 'publish', { data: '{"text":"We go on."}' });
}

/** Both windows of the demo's page, after something was done in them. */
async function regatta(name, act) {
  await picture(name, `${url}/regatta/`, {}, async (page) => {
    const windows = page.locator('.window');
    await act(windows.nth(0), windows.nth(1));
  });
}

async function inConsole(name, path, options, act) {
  const link = (await backend.signInLink()).url;
  await picture(name, link.replace('/console/', `/console/${path}`), options, act);
}

async function picture(name, address, options = {}, act = async () => {}) {
  if (only !== undefined && !name.includes(only)) return;
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 }, ...options });
  await page.goto(address);
  await pause(1_500);
  await act(page);
  await pause(1_000);
  await page.screenshot({ path: join(root, 'docs/screenshots', `${name}.png`) });
  await page.close();
  console.log(`docs/screenshots/${name}.png`);
}
