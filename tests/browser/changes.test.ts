import { cpSync, renameSync, rmSync, utimesSync } from 'node:fs';
import { afterAll, afterEach, beforeAll, describe, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser, openPage, type WatchedPage } from '../support/browser.js';
import { Program, type ProgramEvent } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

/** Everything beside modules that can change under a page, and the ways in which files come and go. */

let browser: Browser;
let workspace: Workspace;
let program: Program;
let at: WatchedPage;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());
afterEach(async () => {
  await at.page.context().close();
  await program.stop();
  workspace.dispose();
});

const svg = (width: number) => `<svg xmlns="http://www.w3.org/2000/svg" width="${width}" height="4"/>`;
const takes = 'import.meta.live?.take();\n';

async function start(files: Record<string, string>, args = ['index.html']): Promise<void> {
  workspace = Workspace.with({ 'index.html': '<!doctype html><script type="module" src="main.js"></script>', ...files });
  program = await Program.serve(workspace.root, args);
  at = await openPage(browser, program.url);
  await program.next('joined');
  await at.page.evaluate('window.stayed = true');
}

/** Changes files and waits for what the page makes of it. */
async function change(work: () => void, event: 'applied' | 'reloaded' = 'applied'): Promise<ProgramEvent> {
  const after = program.mark;
  work();
  const told = await program.next(event, { after });
  if (event === 'reloaded') await program.next('joined', { after });
  return told;
}

const stayed = () => at.page.evaluate('window.stayed === true');

describe('files that are no modules', () => {
  test('an image that the HTML names is replaced in place, wherever it is named', async () => {
    await start({
      'index.html': `<!doctype html><link rel="icon" href="gull.svg"><style>#a { background: url(gull.svg) }</style>
        <p id="a"></p><p id="b" style="background: url('/gull.svg')"></p><img src="gull.svg" srcset="/gull.svg 2x"><svg><image href="gull.svg"/></svg>
        <script type="module" src="main.js"></script>`,
      'main.js': takes,
      'gull.svg': svg(10),
    });
    await at.page.waitForFunction(`document.images[0].naturalWidth === 5 || document.images[0].naturalWidth === 10`);
    const applied = await change(() => workspace.write({ 'gull.svg': svg(40) }));
    expect(applied.files).toEqual(['/gull.svg']);
    await at.page.waitForFunction(`document.images[0].naturalWidth >= 20`);
    const named: string = await at.page.evaluate(
      `[document.querySelector('link').href, document.querySelector('style').textContent, document.querySelector('#b').style.background, document.images[0].srcset, document.querySelector('image').getAttribute('href')].join(' ')`,
    );
    expect(named.match(/gull\.svg\?v=/g)).toHaveLength(5);
    expect(await stayed()).toBe(true);
  });

  test('verbatim files: an image is replaced, one that a script fetched reloads the page and says so, others change nothing', async () => {
    await start({
      'index.html': `<!doctype html><img src="/mark.svg"><script type="module" src="main.js"></script>`,
      'main.js': `${takes}document.title = (await (await fetch('/tides.json')).json()).level;\n`,
      'public/mark.svg': svg(10),
      'public/tides.json': '{ "level": "high" }',
      'public/unused.txt': 'one',
    });
    await at.page.waitForFunction(`document.title === 'high'`);
    const applied = await change(() => workspace.write({ 'public/mark.svg': svg(30), 'public/unused.txt': 'two' }));
    expect(applied.files).toEqual(['/mark.svg']);
    expect(await stayed()).toBe(true);
    const reloaded = await change(() => workspace.write({ 'public/tides.json': '{ "level": "low" }' }), 'reloaded');
    expect(reloaded).toMatchObject({ reason: 'the page loaded this file, which changed', chain: ['/tides.json'] });
    await at.page.waitForFunction(`document.title === 'low'`);
  });

  test('a script that is no module, and the HTML itself, reload the page and say so', async () => {
    await start({
      'index.html': '<!doctype html><body><script src="old.js"></script><script type="module" src="main.js"></script>',
      'old.js': `document.title = 'one';`,
      'main.js': takes,
    });
    const classic = await change(() => workspace.write({ 'old.js': `document.title = 'two';` }), 'reloaded');
    expect(classic.reason).toBe('old.js changed, which is no module');
    await at.page.waitForFunction(`document.title === 'two'`);
    const page = '<!doctype html><body class="night"><script type="module" src="main.js"></script>';
    const html = await change(() => workspace.write({ 'index.html': page }), 'reloaded');
    expect(html.reason).toBe('index.html changed');
    expect(await at.page.evaluate('document.body.className')).toBe('night');
  });
});

describe('packages', () => {
  const main = `${takes}import { tide } from 'tides'; document.title = tide;\n`;
  const manifest = (version: string) => `{ "name": "tides", "version": "${version}", "type": "module", "main": "index.js" }`;

  test('one that is edited, upgraded and linked reaches the page', async () => {
    await start({
      'main.js': main,
      'node_modules/tides/package.json': manifest('1.0.0'),
      'node_modules/tides/index.js': `export const tide = 'one';`,
    });
    await at.page.waitForFunction(`document.title === 'one'`);
    await expect(
      waitFor(
        () => workspace.write({ 'node_modules/tides/index.js': `export const tide = 'edited';` }),
        `document.title === 'edited'`,
      ),
    ).resolves.toBe(true);
    expect(await stayed()).toBe(true);
    // As package managers do it: another folder takes the place of the old one, and the lock file comes last.
    workspace.write({ 'node_modules/.tides-new/package.json': manifest('2.0.0') });
    workspace.write({ 'node_modules/.tides-new/lib/entry.js': `export const tide = 'upgraded';` });
    workspace.write({ 'node_modules/.tides-new/package.json': manifest('2.0.0').replace('index.js', 'lib/entry.js') });
    rmSync(workspace.path('node_modules/tides'), { recursive: true });
    renameSync(workspace.path('node_modules/.tides-new'), workspace.path('node_modules/tides'));
    workspace.write({ 'node_modules/.package-lock.json': '{}' });
    await at.page.waitForFunction(`document.title === 'upgraded'`);
  });

  test('one that was missing is found once it is installed, in a project that had none', async () => {
    await start({ 'main.js': main });
    await at.page.locator('vine-panel section').waitFor();
    workspace.write({
      'node_modules/tides/package.json': manifest('1.0.0'),
      'node_modules/tides/index.js': `export const tide = 'installed';`,
    });
    await at.page.waitForFunction(`document.title === 'installed'`);
    expect(await at.page.locator('vine-panel').count()).toBe(0);
  });
});

async function waitFor(work: () => void, condition: string): Promise<boolean> {
  work();
  await at.page.waitForFunction(condition);
  return true;
}

describe('files that come and go', () => {
  const table = {
    'main.js': `${takes}import { tide } from './lib/tide.js'; document.title = tide;\n`,
    'lib/tide.js': `export const tide = 'one';`,
  };

  test('a file and a folder that are renamed with what imports them are one update each', async () => {
    await start(table);
    await change(() => {
      renameSync(workspace.path('lib/tide.js'), workspace.path('lib/water.js'));
      workspace.write({ 'main.js': table['main.js'].replace('tide.js', 'water.js').replace('= tide', `= tide + ' moved'`) });
    });
    await at.page.waitForFunction(`document.title === 'one moved'`);
    await change(() => {
      renameSync(workspace.path('lib'), workspace.path('water'));
      workspace.write({ 'main.js': table['main.js'].replace('lib/tide.js', 'water/water.js') });
    });
    await at.page.waitForFunction(`document.title === 'one'`);
    expect(await stayed()).toBe(true);
    const applied = await change(() => workspace.write({ 'water/water.js': `export const tide = 'two';` }));
    expect(applied.ran).toContain('water/water.js');
  });

  test('a file that goes away is told, and comes back in place', async () => {
    await start(table);
    const after = program.mark;
    workspace.delete('lib/tide.js');
    const { problems } = await program.next('problems', { after });
    expect(problems[0]).toMatchObject({ code: 'import-unresolved', file: 'main.js' });
    await at.page.locator('vine-panel section').waitFor();
    workspace.write({ 'lib/tide.js': `export const tide = 'back';` });
    await at.page.waitForFunction(`document.title === 'back'`);
    expect(await stayed()).toBe(true);
  });

  test('500 files at once, as when a branch is switched, are one update', async () => {
    const names = Array.from({ length: 500 }, (_, n) => `berth${n}.js`);
    const write = (word: string) =>
      Object.fromEntries(names.map((name, n) => [`lib/${name}`, `export const b = '${word} ${n}';`]));
    const main = `${takes}${names.map((name, n) => `import { b as b${n} } from './lib/${name}';`).join('\n')}\ndocument.title = b0 + ' ' + b499;\n`;
    await start({ 'main.js': main, ...write('one') });
    const after = program.mark;
    const applied = await change(() => {
      // Git keeps this file for as long as it switches.
      workspace.write({ '.git/index.lock': '' });
      workspace.write(write('two'));
      workspace.delete('.git/index.lock');
    });
    expect(applied.ran).toHaveLength(501);
    expect(await at.page.title()).toBe('two 0 two 499');
    expect(program.events.slice(after).filter(({ event }) => event === 'update')).toHaveLength(1);
    expect(await stayed()).toBe(true);
  });

  test('a file that is older than before, because the clock or a branch went back, is a change like others', async () => {
    await start(table);
    const copy = workspace.path('older.js');
    await change(() => {
      workspace.write({ 'older.js': `export const tide = 'old';` });
      utimesSync(copy, new Date('2001-02-03'), new Date('2001-02-03'));
      cpSync(copy, workspace.path('lib/tide.js'), { preserveTimestamps: true });
    });
    await at.page.waitForFunction(`document.title === 'old'`);
  });

  test('changes are found by asking again and again, for network file systems', async () => {
    await start(table, ['index.html', '--poll']);
    const applied = await change(() => workspace.write({ 'lib/tide.js': `export const tide = 'polled';` }));
    expect(applied.ran).toEqual(['lib/tide.js', 'main.js']);
    expect(await at.page.title()).toBe('polled');
  });
});

test('a problem of one page holds back that page only, and what it missed comes as one update', async () => {
  const board = (name: string, word: string) =>
    `${takes}import { word } from './shared.js'; document.title = '${name} ${word} ' + word;\n`;
  await start(
    {
      'index.html': '<!doctype html><script type="module" src="index.js"></script>',
      'berths.html': '<!doctype html><script type="module" src="berths.js"></script>',
      'index.js': board('index', 'a'),
      'berths.js': board('berths', 'a'),
      'shared.js': `export const word = 'one';`,
      'nobody.js': '',
    },
    ['.'],
  );
  const berths = await openPage(browser, `${program.url}berths`);
  await program.next('joined', { where: ({ page }) => page === 'berths.html' });
  const after = program.mark;
  workspace.write({ 'berths.js': 'export function (' });
  await program.next('problems', { after });
  await berths.page.locator('vine-panel section').waitFor();
  expect(await at.page.locator('vine-panel').count()).toBe(0);
  for (const word of ['two', 'three']) {
    const mark = program.mark;
    workspace.write({ 'shared.js': `export const word = '${word}';` });
    const { number } = await program.next('applied', { after: mark });
    expect(number).toBe(1);
    expect(await at.page.title()).toBe(`index a ${word}`);
    expect(await berths.page.title()).toBe('berths a one');
  }
  const mark = program.mark;
  workspace.write({ 'berths.js': board('berths', 'b') });
  const mended = await program.next('applied', { after: mark, where: ({ page }) => page === 'berths.html' });
  expect(mended.ran).toEqual(['shared.js', 'berths.js']);
  expect(await berths.page.title()).toBe('berths b three');
  await berths.page.locator('vine-panel section').waitFor({ state: 'detached' });
  expect([at.loads(), berths.loads()]).toEqual([1, 1]);
  await berths.page.context().close();
});
