import { existsSync } from 'node:fs';
import type { Browser, Page } from 'playwright-core';
import { serveNatively } from './native.js';
import { realRequire } from './real-require.js';
import { isLong } from './sizes.js';

const { chromium } = realRequire('playwright-core') as typeof import('playwright-core');
const places = [process.env.CHROMIUM, '/usr/bin/chromium', '/usr/bin/chromium-browser', '/usr/bin/google-chrome'];
/** What Chromium is started with. */
const browserArgs = [
  '--headless',
  '--no-sandbox',
  '--disable-gpu',
  '--disable-quic',
  '--no-first-run',
  '--disable-background-networking',
];

/** Debian's Chromium without windows and what belongs to them, which takes a third of the time. The long run takes the whole one. */
const shell = '/usr/bin/chromium-headless-shell';

/** Starts Chromium with a profile of its own. `home` is the folder whose certificates it trusts. */
export function launchBrowser(home?: string): Promise<Browser> {
  const isShell = !isLong && !process.env.CHROMIUM && existsSync(shell);
  const env = home === undefined ? {} : { env: { ...process.env, HOME: home } as Record<string, string> };
  return chromium.launch({ executablePath: isShell ? shell : chromiumPath(), args: browserArgs, ...env });
}

/** Where Chromium is. */
function chromiumPath(): string {
  const path = places.find((place) => place && existsSync(place));
  if (!path) throw new Error('There is no Chromium; `npm test` installs one.');
  return path;
}

/** A page with what it printed and threw, open at `url`. */
export interface WatchedPage {
  page: Page;
  console: string[];
  errors: string[];
  /** How often the page was loaded. */
  loads(): number;
}

export async function openPage(browser: Browser, url: string): Promise<WatchedPage> {
  const page = await (await browser.newContext()).newPage();
  const console: string[] = [];
  const errors: string[] = [];
  let loads = 0;
  page.on('console', (message) => {
    console.push(message.text());
    if (message.type() === 'error') errors.push(message.text());
  });
  page.on('pageerror', (error) => errors.push(error.message));
  page.on('load', () => {
    loads++;
  });
  await page.goto(url);
  return { page, console, errors, loads: () => loads };
}

/** Opens a page of a build, served as it is. */
export async function openBuilt(
  browser: Browser,
  folder: string,
  path = 'index.html',
): Promise<WatchedPage & { close(): Promise<void> }> {
  const { url, close } = await serveNatively(folder);
  const watched = await openPage(browser, url + path);
  const end = async () => {
    await watched.page.context().close();
    close();
  };
  return { ...watched, close: end };
}

/**
 * Waits until `expression` is true of the page, asking from outside: the page's own policy may
 * forbid to evaluate strings, which `waitForFunction` does in the page.
 */
export async function untilTrue(page: Page, expression: string): Promise<void> {
  while (!(await page.evaluate(expression))) await new Promise((resolve) => setImmediate(resolve));
}

/** Waits until the page's live channel is connected. */
export async function connected(
  program: { next(name: string, options?: { after?: number }): Promise<unknown> },
  after = 0,
): Promise<void> {
  await program.next('joined', { after });
}
