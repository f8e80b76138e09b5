import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Backend } from '@nine-bells/client/backend';
import { type Demo, startDemo } from '@nine-bells/demo';
import type { Browser, BrowserContext, Page } from 'playwright-core';
import { afterAll, afterEach, beforeAll, expect } from 'vitest';
import { browserIsThere } from './browser.js';
import { sharedBrowser } from './shared.js';

/** Complaints of a page that its test brings about: answers to refused requests, and connections that it cuts. */
const expectedComplaints = /40[14]|422|ERR_CONNECTION|ERR_INTERNET_DISCONNECTED|WebSocket connection/;
/** Bound on waiting for a page, in milliseconds. */
const neverMs = 60_000;
interface Size {
  readonly width: number;
  readonly height: number;
}

const defaultSize: Size = { width: 1280, height: 800 };

/** The demo, as `npm run demo` starts it, and browser windows onto it, for the tests of one file. */
export class Pages {
  demo!: Demo;
  /** Folder of the demo's data. */
  folder!: string;
  /** The first API key. */
  key!: string;
  backend!: Backend;
  /** The browser context of the current test. */
  context: BrowserContext | undefined;
  /** Complaints of the pages; any that is left fails the test. */
  readonly errors: string[] = [];
  #browser!: Browser;

  constructor() {
    if (!browserIsThere) return;
    beforeAll(() => this.#start());
    afterAll(() => this.#stop());
    afterEach(async () => {
      await this.context?.close();
      this.context = undefined;
      expect(this.errors.splice(0)).toEqual([]);
    });
  }

  /**
   * Opens a page in a new window.
   *
   * @param path - a path of the demo's service, or a URL
   * @param isFresh - `false`: in the context of the page before, with its cookies
   */
  readonly open = async (path: string, viewport = defaultSize, isFresh = true): Promise<Page> => {
    const context = isFresh ? await this.#newContext(viewport) : this.context;
    const page = await (context as BrowserContext).newPage();
    page.on('pageerror', (error) => this.errors.push(error.message));
    page.on('console', (message) => {
      if (message.type() === 'error' && !expectedComplaints.test(message.text())) this.errors.push(message.text());
    });
    await page.goto(path.startsWith('http') ? path : this.demo.service.url + path);
    return page;
  };

  /** Opens a page of the console, signed in. */
  readonly signedIn = async (path = '/console/', viewport = defaultSize): Promise<Page> => {
    const { url } = this.demo.service;
    const headers = { 'content-type': 'application/json', origin: url };
    const body = JSON.stringify({ key: this.key });
    const response = await fetch(`${url}/console/session`, { method: 'POST', headers, body });
    const [name = '', value = ''] = response.headers.get('set-cookie')?.split(';')[0]?.split('=') ?? [];
    await (await this.#newContext(viewport)).addCookies([{ name, value, url }]);
    return this.open(path, viewport, false);
  };

  async #newContext(viewport: Size): Promise<BrowserContext> {
    this.context = await this.#browser.newContext({ viewport, reducedMotion: 'reduce' });
    this.context.setDefaultTimeout(neverMs);
    return this.context;
  }

  async #start(): Promise<void> {
    this.#browser = await sharedBrowser();
    this.folder = mkdtempSync(join(tmpdir(), 'bells-pages-'));
    // Every page must do on whichever process its requests reach.
    this.demo = await startDemo({ port: 0, data: this.folder, quiet: true, workers: 2 });
    this.key = readFileSync(this.demo.keyFile, 'utf8').trim();
    this.backend = new Backend(this.demo.service.url, { key: this.key });
  }

  async #stop(): Promise<void> {
    await this.#browser.close();
    await this.demo.stop();
    await this.demo.service.stop();
    rmSync(this.folder, { recursive: true, force: true });
  }
}

/**
 * Acts, and waits for a message that is shown for three seconds. On a busy machine it may be gone before the act resolves, so the
 * wait begins first.
 */
export async function showsBriefly(page: Page, text: string, act: () => Promise<void>): Promise<void> {
  await Promise.all([page.getByText(text).waitFor(), act()]);
}
