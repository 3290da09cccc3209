import { expect, test } from '@jest/globals';
import { Program } from '../support/program.js';
import { ServedPage } from '../support/served-page.js';

/** The panel that tells problems on the page, and what is not for it. */

const files = {
  'index.html': '<!doctype html><button>hold</button><script type="module" src="main.ts"></script>',
  'main.ts': `import { berth } from './berth';\nimport.meta.live?.take();\ndocument.querySelector('button')!.textContent = String(berth);\n`,
  'berth.ts': 'export const berth: number = 3;\n',
};
const broken = { 'berth.ts': 'export const berth: number = ;\n' };

const at = new ServedPage();
const start = (extra: Record<string, string> = {}) => at.start({ ...files, ...extra });

const panel = () => at.page.locator('spark-panel section');

test('a problem is announced, keeps the focus where it is, can be hidden, and goes when it is solved', async () => {
  await start();
  await at.page.focus('button');
  at.workspace.write(broken);
  await panel().waitFor();
  expect(await at.page.evaluate('document.activeElement.tagName')).toBe('BUTTON');
  const session = await at.page.context().newCDPSession(at.page);
  const { nodes } = await session.send('Accessibility.getFullAXTree');
  const named = nodes.map(({ role, name }) => `${role?.value} ${name?.value ?? ''}`.trim());
  expect(named).toEqual(
    expect.arrayContaining(['region One problem', 'alert', 'heading One problem', 'button Hide (Esc)', 'link berth.ts:1:30']),
  );
  await at.page.keyboard.press('Escape');
  await panel().waitFor({ state: 'detached' });
  at.workspace.write({ 'berth.ts': 'export const berth: number = ];\n' });
  await panel().waitFor();
  await panel().getByRole('button').click();
  await panel().waitFor({ state: 'detached' });
  at.workspace.write(broken);
  await panel().waitFor();
  at.workspace.write({ 'berth.ts': 'export const berth: number = 4;\n' });
  await panel().waitFor({ state: 'detached' });
  await at.page.waitForFunction(`document.querySelector('button').textContent === '4'`);
  expect(at.loads()).toBe(1);
});

test('styles of the page do not reach into it, and it works under a strict security policy', async () => {
  const policy = `default-src 'self'; script-src 'self'; style-src 'self'`;
  await start({
    'index.html': `<!doctype html><meta http-equiv="content-security-policy" content="${policy}"><link rel="stylesheet" href="loud.css"><button>hold</button><script type="module" src="main.ts"></script>`,
    'loud.css': 'section, h1, p, spark-panel, body * { color: rgb(255, 0, 0) !important; display: none !important; }',
  });
  at.workspace.write(broken);
  await panel().waitFor();
  const looks = await panel().evaluate((section) => {
    const { position, color, backgroundColor } = getComputedStyle(section);
    return [position, color, backgroundColor];
  });
  expect(looks).toEqual(['fixed', 'rgb(34, 38, 42)', 'rgb(247, 244, 236)']);
});

test('its places open the editor, with the key of this run and for files of the project only', async () => {
  // An "editor" that writes down what it is asked to open.
  await start({ 'editor.sh': '#!/bin/sh\necho "$@" > "$(dirname "$0")/opened.txt"\n' });
  await at.program.stop();
  process.env.EDITOR = `sh ${at.workspace.path('editor.sh')}`;
  at.program = await Program.serve(at.workspace.root);
  delete process.env.EDITOR;
  at.workspace.write(broken);
  await at.page.goto(at.program.url);
  await panel().waitFor();
  const link = panel().getByRole('link', { name: 'berth.ts:1:30' });
  const href = await link.evaluate((element) => (element as HTMLAnchorElement).href);
  const answer = at.page.waitForResponse((response) => response.url().includes('/~spark/open'));
  await link.click();
  expect((await answer).status()).toBe(204);
  expect(at.page.url()).toBe(at.program.url);
  const statusOf = async (change: (query: URLSearchParams) => void) => {
    const url = new URL(href);
    change(url.searchParams);
    return (await fetch(url)).status;
  };
  expect(await statusOf((query) => query.set('key', 'guessed'))).toBe(403);
  expect(await statusOf((query) => query.set('file', '../../etc/passwd'))).toBe(404);
  expect(await statusOf((query) => query.set('file', '.env'))).toBe(404);
});

test('an error that an update leads to is shown; one that comes later by itself is for the terminal only', async () => {
  await start();
  const after = at.program.mark;
  at.workspace.write({ 'main.ts': `${files['main.ts']}setTimeout(() => { throw new RangeError('aground'); });\n` });
  const { problem } = await at.program.next('error', { after });
  expect(problem).toMatchObject({ message: 'RangeError: aground', file: 'main.ts', position: { line: 4 } });
  await panel().waitFor();
  expect(await panel().textContent()).toContain('main.ts:4:26');
  at.workspace.write({
    'main.ts': `${files['main.ts']}document.querySelector('button')!.onclick = () => Promise.reject(new Error('later'));\n`,
  });
  await panel().waitFor({ state: 'detached' });
  await at.page.waitForFunction(`document.querySelector('button').onclick !== null`);
  // Long after the update, as far as the page is concerned.
  await at.page.clock.install();
  await at.page.reload();
  const later = at.program.mark;
  await at.page.click('button');
  const rejected = await at.program.next('error', { after: later });
  expect(rejected.problem).toMatchObject({ message: 'Error: later', file: 'main.ts' });
  expect(await panel().count()).toBe(0);
});

test('errors of pages stay out of the terminal where the settings say so', async () => {
  await start({
    'vine-spark.config.json': '{ "pageErrors": false }',
    'main.ts': `${files['main.ts']}setTimeout(() => { throw new RangeError('silent'); });\n`,
  });
  const after = at.program.mark;
  at.workspace.write({ 'berth.ts': 'export const berth: number = 5;\n' });
  await at.program.next('applied', { after });
  expect(at.program.events.filter(({ event }) => event === 'error')).toEqual([]);
});

test('no unstyled content: neither while the page loads nor while a style is replaced', async () => {
  const css = (green: number) => `p { color: rgb(0, ${green}, 0); }`;
  await start({
    'index.html': '<!doctype html><body><p>berth</p><script type="module" src="main.ts"></script>',
    'main.ts': `import './board.css';\n`,
    'board.css': css(100),
  });
  const watch = `(() => { window.colors = new Set(); const look = () => { const p = document.querySelector('p'); if (p) colors.add(getComputedStyle(p).color); requestAnimationFrame(look); }; requestAnimationFrame(look); })()`;
  await at.page.addInitScript(watch);
  // Slow sheets make a flash visible.
  await at.page.route('**/*.css*', async (route) => {
    const response = await route.fetch();
    await new Promise((resolve) => setTimeout(resolve, 150));
    await route.fulfill({ response });
  });
  await at.page.reload();
  const after = at.program.mark;
  await at.page.waitForFunction(`window.colors.size > 0`);
  at.workspace.write({ 'board.css': css(200) });
  await at.program.next('applied', { after });
  await at.page.waitForFunction(`window.colors.has('rgb(0, 200, 0)')`);
  expect(await at.page.evaluate('[...colors]')).toEqual(['rgb(0, 100, 0)', 'rgb(0, 200, 0)']);
});
