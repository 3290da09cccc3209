import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const board = (heading: string, extra = '') => `
import { useState } from 'react';
import { Berth } from './berth';
import './board.css'; import './strict';
${extra}
export function Board() {
  const [held, setHeld] = useState(0);
  return <main><h1>${heading}</h1><button onClick={() => setHeld(held + 1)}>held {held}</button><Berth number={3} /></main>;
}
`;

const files = {
  'index.html': '<!doctype html><title>Quay</title><body><div id="app"></div><script type="module" src="src/main.tsx"></script>',
  'src/main.tsx': `import { createRoot } from 'react-dom/client';\nimport { Board } from './board';\ncreateRoot(document.getElementById('app')!).render(<Board />);\n`,
  'src/board.tsx': board('Departures'),
  'src/board.css': 'h1 { color: rgb(31, 93, 58); }',
  // Values that refuse whatever they don't know: nobody but us would ask them whether they are components.
  'src/strict.tsx': `const refuse = { get: (target: object, key: PropertyKey) => { if (Object.hasOwn(target, key)) return Reflect.get(target, key); throw new Error('no ' + String(key)); } };
export const settings = new Proxy({ quay: 3 }, refuse), Service: any = new Proxy(class {}, refuse), lazy = { get $$typeof() { throw new Error('no kind'); } };
const { proxy, revoke } = Proxy.revocable(() => {}, {});
revoke();
export const Gone = proxy;
`,
  'src/berth.tsx': `import { label } from './label';\nexport const Berth = ({ number }: { number: number }) => <p id="berth">{label(number)}</p>;\n`,
  'src/label.ts': 'export const label = (number: number) => `Berth ${number}`;\n',
};

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

describe('a React page', () => {
  let workspace: Workspace;
  let program: Program;
  beforeAll(async () => {
    workspace = Workspace.with(files, { packages: true });
    program = await Program.serve(workspace.root);
  });
  afterAll(async () => {
    await program.stop();
    workspace.dispose();
  });

  /** Opens the page and clicks the button twice, so that there is state to lose. */
  async function openWithState() {
    const after = program.mark;
    const watched = await openPage(browser, program.url);
    const { number } = await program.next('joined', { after });
    await watched.page.click('button');
    await watched.page.click('button');
    await expect(watched.page.textContent('button')).resolves.toBe('held 2');
    return { ...watched, number: number as number };
  }

  test('keeps its state when a component is edited', async () => {
    const { page, loads, errors } = await openWithState();
    const after = program.mark;
    workspace.write({ 'src/board.tsx': board('All departures') });
    const applied = await program.next('applied', { after });
    expect(applied.boundaries).toEqual(['src/board.tsx']);
    expect(await page.textContent('h1')).toBe('All departures');
    expect(await page.textContent('button')).toBe('held 2');
    expect(loads()).toBe(1);
    expect(errors).toEqual([]);
    await page.context().close();
  });

  test('keeps its state when a style is edited, and shows the new style', async () => {
    const { page, loads } = await openWithState();
    const after = program.mark;
    workspace.write({ 'src/board.css': 'h1 { color: rgb(217, 72, 43); }' });
    await program.next('applied', { after });
    expect(await page.evaluate("getComputedStyle(document.querySelector('h1')).color")).toBe('rgb(217, 72, 43)');
    expect(await page.textContent('button')).toBe('held 2');
    expect(loads()).toBe(1);
    expect(await page.locator('link[rel=stylesheet], style').count()).toBe(1);
    await page.context().close();
  });

  test('passes the update of a module without components on to the components that use it', async () => {
    const { page } = await openWithState();
    const after = program.mark;
    workspace.write({ 'src/label.ts': 'export const label = (number: number) => `Quay ${number}`;\n' });
    const applied = await program.next('applied', { after });
    expect(applied.ran).toEqual(['src/label.ts', 'src/berth.tsx']);
    expect(applied.boundaries).toEqual(['src/berth.tsx']);
    expect(await page.textContent('#berth')).toBe('Quay 3');
    expect(await page.textContent('button')).toBe('held 2');
    await page.context().close();
  });

  test('reloads with the reason when nothing takes the update', async () => {
    const { page } = await openWithState();
    const after = program.mark;
    workspace.write({ 'src/main.tsx': `${files['src/main.tsx']}document.title = 'Reloaded';\n` });
    const reloaded = await program.next('reloaded', { after });
    expect(reloaded.reason).toBe('no module on the way to the page takes the update');
    expect(reloaded.chain).toEqual(['src/main.tsx']);
    await page.waitForFunction("document.title === 'Reloaded'");
    expect(await page.textContent('button')).toBe('held 0');
    await page.context().close();
  });

  test('updates in every browser that shows it', async () => {
    const first = await openWithState();
    const second = await openWithState();
    const after = program.mark;
    workspace.write({ 'src/board.tsx': board('Both boards') });
    for (const { number } of [first, second]) await program.next('applied', { after, where: (event) => event.number === number });
    for (const { page } of [first, second]) {
      expect(await page.textContent('h1')).toBe('Both boards');
      expect(await page.textContent('button')).toBe('held 2');
      await page.context().close();
    }
  });

  test('shows a syntax error in a panel, and goes on with its state once it is solved', async () => {
    const { page, loads } = await openWithState();
    const after = program.mark;
    workspace.write({ 'src/board.tsx': board('Broken', 'const = 1;') });
    const { problems } = await program.next('problems', { after });
    expect(problems[0]).toMatchObject({ code: 'syntax-error', file: 'src/board.tsx', position: { line: 5, column: 6 } });
    const panel = page.locator('spark-panel section');
    await panel.waitFor();
    expect(await panel.textContent()).toContain('src/board.tsx:5:7');
    expect(await page.textContent('button')).toBe('held 2');
    workspace.write({ 'src/board.tsx': board('Mended') });
    await program.next('applied', { after });
    await panel.waitFor({ state: 'detached' });
    expect(await page.textContent('h1')).toBe('Mended');
    expect(await page.textContent('button')).toBe('held 2');
    expect(loads()).toBe(1);
    await page.context().close();
  });

  test('takes a new module and lets a removed import go', async () => {
    const { page } = await openWithState();
    const after = program.mark;
    workspace.write({
      'src/tide.tsx': 'export const Tide = () => <i id="tide">rising</i>;\n',
      'src/berth.tsx': `import { Tide } from './tide';\nexport const Berth = ({ number }: { number: number }) => <p id="berth"><Tide />{number}</p>;\n`,
    });
    const { removed } = await program.next('update', { after });
    await program.next('applied', { after });
    expect(removed).toEqual(['src/label.ts']);
    expect(await page.textContent('#tide')).toBe('rising');
    expect(await page.textContent('button')).toBe('held 2');
    await page.context().close();
  });
});

describe('a page whose first build fails', () => {
  test('shows the problem and starts by itself when it is solved', async () => {
    const workspace = Workspace.with(
      { ...files, 'src/label.ts': `import { missing } from './nowhere';\nexport const label = missing;\n` },
      { packages: true },
    );
    const program = await Program.serve(workspace.root);
    const { page } = await openPage(browser, program.url);
    const panel = page.locator('spark-panel section');
    await panel.waitFor();
    expect(await panel.textContent()).toContain("There is no file for './nowhere'.");
    expect(await panel.textContent()).toContain('src/label.ts:1:26');
    workspace.write({ 'src/nowhere.ts': 'export const missing = (number: number) => `Pier ${number}`;\n' });
    await page.locator('#berth').waitFor();
    expect(await page.textContent('#berth')).toBe('Pier 3');
    await program.stop();
    workspace.dispose();
  });
});

describe('a save while a page loads', () => {
  const late = (text: string) => `globalThis.hasRun = true;\nexport const Late = () => <p id="late">${text}</p>;\n`;
  const lazily = {
    'index.html': files['index.html'],
    'src/main.tsx': `import { createRoot } from 'react-dom/client';\nimport { Harbour } from './harbour';\ncreateRoot(document.getElementById('app')!).render(<Harbour />);\n`,
    'src/harbour.tsx': `import { lazy, Suspense } from 'react';\nconst Late = lazy(() => import('./late').then((m) => ({ default: m.Late })));\nexport const Harbour = () => <Suspense fallback={<p>mist</p>}><Late /></Suspense>;\n`,
    'src/late.tsx': late('first'),
  };

  test('shows, though what it changes waits to be drawn, or is on its way in its old version', async () => {
    const workspace = Workspace.with(lazily, { packages: true });
    const program = await Program.serve(workspace.root);
    const page = await (await browser.newContext()).newPage();
    const shows = (text: string) => page.waitForFunction(`document.getElementById('late')?.textContent === '${text}'`);
    // React keeps a fallback for a while, and has drawn by then what it shows next.
    for (const text of ['second', 'third', 'fourth']) {
      await page.goto(program.url);
      await page.waitForFunction('globalThis.hasRun');
      const after = program.mark;
      workspace.write({ 'src/late.tsx': late(text) });
      await program.next('applied', { after });
      await shows(text);
    }
    await page.route('**/~spark/piece/**late**', async (route) => {
      const response = await route.fetch();
      const after = program.mark;
      workspace.write({ 'src/late.tsx': late('fifth') });
      await program.next('applied', { after });
      await route.fulfill({ response });
    });
    await page.goto(program.url);
    await shows('fifth');
    await page.context().close();
    await program.stop();
    workspace.dispose();
  });
});

describe('when the server ends', () => {
  test('the page connects to the next one, and reloads only if files changed meanwhile', async () => {
    const workspace = Workspace.with(files, { packages: true });
    const first = await Program.serve(workspace.root);
    const port = new URL(first.url).port;
    const { page, loads } = await openPage(browser, first.url);
    await first.next('joined');
    await page.click('button');
    await first.stop('SIGKILL');
    const second = await Program.serve(workspace.root, ['index.html', '--port', port]);
    await second.next('joined');
    workspace.write({ 'src/board.tsx': board('After the restart') });
    await second.next('applied');
    expect(await page.textContent('h1')).toBe('After the restart');
    expect(await page.textContent('button')).toBe('held 1');
    expect(loads()).toBe(1);
    await second.stop('SIGKILL');
    workspace.write({ 'src/board.tsx': board('Changed while nobody served') });
    const third = await Program.serve(workspace.root, ['index.html', '--port', port]);
    await page.waitForFunction("document.querySelector('h1')?.textContent === 'Changed while nobody served'");
    expect(loads()).toBe(2);
    await third.stop();
    workspace.dispose();
  });
});
