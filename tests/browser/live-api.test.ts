import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { Backend } from '../support/backend.js';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program } from '../support/program.js';
import { repository, Workspace } from '../support/workspace.js';

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

/** A page whose main module is `main.js`, and the program that serves it. */
async function start(files: Record<string, string>) {
  const workspace = Workspace.with({
    'index.html': '<!doctype html><title>Quay</title><body><p id="tide-clock"></p><script type="module" src="main.js"></script>',
    ...files,
  });
  const program = await Program.serve(workspace.root);
  const watched = await openPage(browser, program.url);
  await program.next('joined');
  return {
    ...watched,
    program,
    /** Saves files and waits for what the page says of it. */
    async save(changed: Record<string, string>, outcome: 'applied' | 'reloaded' = 'applied') {
      const after = program.mark;
      workspace.write(changed);
      return program.next(outcome, { after });
    },
    async close() {
      await program.stop();
      workspace.dispose();
    },
  };
}

const examples = [...readFileSync(join(repository, 'docs/updates.md'), 'utf8').matchAll(/```js\n([\s\S]*?)```/g)].map(
  (match) => match[1]!,
);

test('the examples of docs/updates.md run: state is handed on, and a dependency is taken without running again', async () => {
  const [clock, page] = examples as [string, string];
  const fast = clock.replace('60_000', '5');
  const at = await start({ 'main.js': fast });
  await at.page.waitForFunction(`parseInt(document.querySelector('#tide-clock').textContent) > 3`);
  await at.save({ 'main.js': fast.replace('since high water', 'after high water') });
  await at.page.waitForFunction(`/after high/.test(document.querySelector('#tide-clock').textContent)`);
  expect(Number.parseInt((await at.page.textContent('#tide-clock'))!, 10)).toBeGreaterThan(3);
  expect(at.loads()).toBe(1);
  await at.close();

  const other = await start({
    'main.js': `window.runs = (window.runs ?? 0) + 1;\n${page}`,
    'draw-tide.js': `export const drawTide = () => { document.title = 'high'; };`,
  });
  const applied = await other.save({ 'draw-tide.js': `export const drawTide = () => { document.title = 'low'; };` });
  expect(applied).toMatchObject({ ran: ['draw-tide.js'], boundaries: ['main.js'] });
  expect(await other.page.title()).toBe('low');
  expect(await other.page.evaluate('runs')).toBe(1);
  await other.close();
});

test('CommonJS, which goes on with what it was given, runs again with a module that takes its own updates', async () => {
  const at = await start({
    'main.js': `import { tell } from './tell.cjs'; import { tide } from './tide.js'; window.tell = () => tell() + tide; import.meta.live.take('./tell.cjs', () => {});`,
    'tell.cjs': `const { tide } = require('./tide.js');\nexports.tell = () => tide;`,
    'tide.js': `export const tide = 'high';\nimport.meta.live.take();`,
  });
  const applied = await at.save({ 'tide.js': `export const tide = 'low';\nimport.meta.live.take();` });
  expect(applied).toMatchObject({ ran: ['tide.js', 'tell.cjs'] });
  expect([await at.page.evaluate('tell()'), at.loads()]).toEqual(['lowlow', 1]);
  await at.close();
});

test('cleanups run dependents first, each module runs again once, and variables follow live bindings', async () => {
  const at = await start({
    'main.js': `import './left.js'; import './right.js'; window.said ??= []; import.meta.live.take(); import.meta.live.cleanup(() => said.push('clean main')); said.push('main');`,
    'left.js': `import { deep } from './deep.js'; window.said ??= []; import.meta.live.cleanup(() => said.push('clean left')); said.push('left ' + deep);`,
    'right.js': `import { deep } from './deep.js'; window.said ??= []; import.meta.live.cleanup(() => said.push('clean right')); said.push('right ' + deep);`,
    'deep.js': `export let deep = 1; window.setDeep = (n) => { deep = n; }; import.meta.live.cleanup(() => said.push('clean deep'));`,
  });
  await at.page.evaluate('said.length = 0');
  const applied = await at.save({ 'deep.js': `export let deep = 2;` });
  expect(applied.ran.toSorted()).toEqual(['deep.js', 'left.js', 'main.js', 'right.js']);
  expect(await at.page.evaluate('said')).toEqual([
    'clean main',
    'clean right',
    'clean left',
    'clean deep',
    'left 2',
    'right 2',
    'main',
  ]);
  await at.close();
});

test('a module that refuses, that throws while it runs again, or whose path is not taken reloads the page with the reason', async () => {
  const at = await start({
    'main.js': `import './refuses.js'; import './throws.js'; import './untaken.js'; import.meta.live.take(['./throws.js', './refuses.js'], () => {});`,
    'refuses.js': `import.meta.live.refuse('the tide table is read once');`,
    'throws.js': 'export const fine = 1;',
    'untaken.js': 'export const one = 1;',
  });
  const after = at.program.mark;
  expect((await at.save({ 'refuses.js': `import.meta.live.refuse('still');` }, 'reloaded')).reason).toBe(
    'the tide table is read once',
  );
  await at.program.next('joined', { after });
  expect((await at.save({ 'throws.js': `throw new RangeError('aground');` }, 'reloaded')).reason).toBe(
    'throws.js failed while it ran again: RangeError: aground',
  );
  await at.close();
});

test('an importer that is not re-run sees what a dependency no longer exports as a problem', async () => {
  const at = await start({
    'main.js': `import { tide } from './tide.js'; document.title = tide; import.meta.live.take('./tide.js', () => {});`,
    'tide.js': `export const tide = 'high';`,
  });
  const after = at.program.mark;
  await at.save({ 'tide.js': `export const tide = 'low';` });
  const workspaceEdit = at.save({ 'tide.js': `export const water = 'low';` });
  const { problems } = await at.program.next('problems', { after });
  expect(problems[0]).toMatchObject({ code: 'export-missing', file: 'main.js' });
  void workspaceEdit.catch(() => undefined);
  await at.close();
});

test('a page that a security policy forbids to evaluate strings updates all the same', async () => {
  const workspace = Workspace.with({
    'index.html': `<!doctype html><meta http-equiv="Content-Security-Policy" content="default-src 'self'; connect-src 'self' ws:"><title>Quay</title><script type="module" src="main.js"></script>`,
    'main.js': `import { tide } from './tide.js'; document.title = tide; import.meta.live.take();`,
    'tide.js': `export const tide = 'high';`,
  });
  const program = await Program.serve(workspace.root);
  const { page, loads } = await openPage(browser, program.url);
  await program.next('joined');
  workspace.write({ 'tide.js': `export const tide = 'low';` });
  await program.next('applied');
  expect(await page.title()).toBe('low');
  expect(loads()).toBe(1);
  workspace.write({ 'tide.js': 'export const tide = ;' });
  await page.locator('spark-panel section').waitFor();
  expect(
    await page.evaluate(`getComputedStyle(document.querySelector('spark-panel').shadowRoot.querySelector('section')).position`),
  ).toBe('fixed');
  await program.stop();
  workspace.dispose();
});

test('removed modules are cleaned up and forgotten, over many updates', async () => {
  const at = await start({
    'main.js': `import { tide } from './tide0.js'; document.title = tide; import.meta.live.take();`,
    'tide0.js': `export const tide = 'tide 0'; window.cleaned = 0; import.meta.live.cleanup(() => { cleaned++; });`,
  });
  for (let n = 1; n <= 20; n++) {
    await at.save({
      [`tide${n}.js`]: `export const tide = 'tide ${n}'; import.meta.live.cleanup(() => { cleaned++; });`,
      'main.js': `import { tide } from './tide${n}.js'; document.title = tide; import.meta.live.take();`,
    });
    expect(await at.page.title()).toBe(`tide ${n}`);
  }
  expect(await at.page.evaluate('cleaned')).toBe(20);
  expect(at.loads()).toBe(1);
  await at.close();
});

test('bodies go through both ways without being held back, and an abort reaches the backend', async () => {
  let aborted!: () => void;
  const wasAborted = new Promise<void>((resolve) => {
    aborted = resolve;
  });
  const backend = await Backend.start((request, response) => {
    if (request.url === '/api/echo') return void request.pipe(response);
    response.writeHead(200, { 'x-tide': ['high', 'low'], trailer: 'x-sum' });
    response.write('first');
    response.on('close', aborted);
  });
  const workspace = Workspace.with({ 'index.html': '<h1>Quay</h1>' });
  const program = await Program.serve(workspace.root, ['index.html', '--forward', `/api=${backend.origin}`]);
  const body = Buffer.alloc(3_000_000, 'tide ');
  const echoed = await fetch(`${program.url}api/echo`, { method: 'POST', body });
  expect(Buffer.from(await echoed.arrayBuffer()).equals(body)).toBe(true);
  const controller = new AbortController();
  const reply = await fetch(`${program.url}api/endless`, { signal: controller.signal });
  expect(reply.headers.get('x-tide')).toBe('high, low');
  const { value } = await reply.body!.getReader().read();
  expect(Buffer.from(value!).toString()).toBe('first');
  controller.abort();
  await wasAborted;
  await program.stop();
  await backend.close();
  workspace.dispose();
});
