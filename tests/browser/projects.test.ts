import { symlinkSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program } from '../support/program.js';
import { isLong } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

test("a linked package's source is translated, and updated in place", async () => {
  const workspace = Workspace.with(
    {
      'app/package.json': '{ "name": "app", "dependencies": { "react": "*", "ui": "*" } }',
      'app/index.html': '<!doctype html><div id="app"></div><script type="module" src="main.tsx"></script>',
      'app/main.tsx': `import { createRoot } from 'react-dom/client';\nimport { Sign } from 'ui';\ncreateRoot(document.getElementById('app')!).render(<Sign text="Quay" />);\n`,
      'packages/ui/package.json': '{ "name": "ui", "exports": { ".": "./src/sign.tsx" } }',
      'packages/ui/src/sign.tsx': `import { useState } from 'react';\nimport flag from './flag.svg';\nexport function Sign({ text }: { text: string }) { const [n, setN] = useState(0); return <button onClick={() => setN(n + 1)}><img src={flag} />{text} {n}</button>; }\n`,
      'packages/ui/src/flag.svg': '<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"/>',
    },
    { packages: true },
  );
  workspace.write({ 'app/node_modules/.keep': '' });
  symlinkSync(join(workspace.root, 'packages/ui'), join(workspace.root, 'app/node_modules/ui'));
  const program = await Program.serve(join(workspace.root, 'app'));
  const { page, loads, errors } = await openPage(browser, program.url);
  await program.next('joined');
  await page.click('button');
  expect(await page.textContent('button')).toBe('Quay 1');
  // It comes when it comes.
  await page.waitForFunction('document.querySelector("img").naturalWidth === 9');
  workspace.write({
    'packages/ui/src/sign.tsx': `import { useState } from 'react';\nexport function Sign({ text }: { text: string }) { const [n, setN] = useState(0); return <button onClick={() => setN(n + 1)}>{text}: {n}</button>; }\n`,
  });
  await program.next('applied');
  expect(await page.textContent('button')).toBe('Quay: 1');
  // A file, and a folder, that weren't there before.
  workspace.write({
    'packages/ui/src/lamps/lamp.ts': `export { light } from './light';\n`,
    'packages/ui/src/lamps/light.ts': `export const light = 'lit';\n`,
    'packages/ui/src/sign.tsx': `import { useState } from 'react';\nimport { light } from './lamps/lamp';\nexport function Sign({ text }: { text: string }) { const [n, setN] = useState(0); return <button onClick={() => setN(n + 1)}>{text} {light} {n}</button>; }\n`,
  });
  await page.locator('button', { hasText: 'Quay lit 1' }).waitFor();
  expect(loads()).toBe(1);
  expect(errors).toEqual([]);
  await program.stop();
  workspace.dispose();
});

test('an application of a repository with one package.json for all: what lies beside it is served, and followed when it changes or comes', async () => {
  const main = (lib: string) =>
    `import './board.scss';\nimport { quay } from '@harbour/${lib}';\nimport { name } from '@name';\ndocument.title = name + quay;\n`;
  const workspace = Workspace.with({
    '.git/HEAD': '',
    'package.json': '{ "name": "harbour" }',
    'tsconfig.base.json':
      '{ "compilerOptions": { "paths": { "@harbour/*": ["./libs/*/src/index.ts"], "@name": ["./name.ts"] } } }',
    'apps/board/tsconfig.json': '{ "extends": "../../tsconfig.base.json" }',
    'apps/board/index.html': '<!doctype html><script type="module" src="main.ts"></script>',
    'apps/board/main.ts': main('ui'),
    'apps/board/board.scss': `@use '../../libs/theme/colours' as *;\nbody { color: $ember; }\n`,
    'libs/theme/_colours.scss': '$ember: rgb(1, 1, 1);',
    'libs/ui/src/index.ts': `export const quay: string = ' one';\n`,
    'name.ts': `export const name: string = 'Quay';\n`,
  });
  const program = await Program.serve(workspace.path('apps/board'));
  const { page } = await openPage(browser, program.url);
  const shows = (title: string) => page.waitForFunction(`document.title === '${title}'`);
  await shows('Quay one');
  await program.next('joined');
  workspace.write({ 'libs/theme/_colours.scss': '$ember: rgb(2, 2, 2);' });
  await page.waitForFunction(`getComputedStyle(document.body).color === 'rgb(2, 2, 2)'`);
  workspace.write({
    'libs/ui/src/index.ts': `export { quay } from './deep/two';\n`,
    'libs/ui/src/deep/two.ts': `export const quay = ' two';\n`,
  });
  await shows('Quay two');
  workspace.write({ 'name.ts': `export const name: string = 'Pier';\n` });
  await shows('Pier two');
  const after = program.mark;
  workspace.write({ 'apps/board/main.ts': main('late') });
  await program.next('problems', { after });
  workspace.write({ 'libs/late/src/index.ts': `export const quay = ' late';\n` });
  await shows('Pier late');
  await program.stop();
  workspace.dispose();
});

test('PostCSS plugins of the project: prefixes, and utility classes that are found in the source', async () => {
  const workspace = Workspace.with(
    {
      'index.html': '<!doctype html><body><p id="a" class="underline">a</p><script type="module" src="main.js"></script>',
      'main.js': `import './page.css';\ndocument.getElementById('a').classList.add('text-right');\nimport.meta.live?.take();\n`,
      'page.css': '@import "tailwindcss";\n#a { user-select: none; }\n',
      'postcss.config.mjs': `export default { plugins: { '@tailwindcss/postcss': {}, autoprefixer: { overrideBrowserslist: ['safari 14'] } } };`,
    },
    { packages: true },
  );
  const program = await Program.serve(workspace.root);
  const { page } = await openPage(browser, program.url);
  await program.next('joined');
  expect(program.events.filter(({ event }) => event === 'problems')).toEqual([]);
  const computed = (property: string) => page.evaluate(`getComputedStyle(document.getElementById('a')).${property}`);
  expect(await computed('textAlign')).toBe('right');
  expect(await computed('textDecorationLine')).toBe('underline');
  expect(await (await fetch(new URL('~spark/style/page.css', program.url))).text()).toContain('-webkit-user-select: none');
  workspace.write({
    'main.js': `import './page.css';\ndocument.getElementById('a').classList.add('text-center');\ndocument.getElementById('a').classList.remove('text-right');\nimport.meta.live?.take();\n`,
  });
  await program.next('applied', { where: ({ styles }) => styles.includes('page.css') });
  expect(await computed('textAlign')).toBe('center');
  await program.stop();
  workspace.dispose();
});

test('a utility class that a component file is the first to use appears, at the next start too; the page keeps its state', async () => {
  const tide = (more: string) =>
    `<script setup>\nimport { ref } from 'vue';\nconst at = ref(0);\n</script>\n<template><button id="tide" class="underline ${more}" @click="at++">{{ at }}</button></template>\n`;
  const berth = (more: string) =>
    `<script>\n  let at = $state(0);\n</script>\n<button id="berth" class="underline ${more}" onclick={() => at++}>{at}</button>\n`;
  const workspace = Workspace.with(
    {
      'package.json': '{ "dependencies": { "vue": "*", "svelte": "*" } }',
      'index.html':
        '<!doctype html><link rel="icon" href="data:,"><div id="a"></div><div id="b"></div><script type="module" src="main.js"></script>',
      'main.js': `import './page.css';\nimport { createApp } from 'vue';\nimport { mount } from 'svelte';\nimport Tide from './tide.vue';\nimport Berth from './berth.svelte';\ncreateApp(Tide).mount('#a');\nmount(Berth, { target: document.getElementById('b') });\n`,
      'tide.vue': tide(''),
      'berth.svelte': berth(''),
      'page.css': '@import "tailwindcss";\n',
      'postcss.config.mjs': `export default { plugins: { '@tailwindcss/postcss': {} } };`,
    },
    { packages: true },
  );
  workspace.write({ 'vine-spark.config.json': '{}' });
  const args = ['index.html', '--cache'];
  const first = await Program.serve(workspace.root, args);
  const { page, loads, errors } = await openPage(browser, first.url);
  const look = (at = page) =>
    at.evaluate(
      `['tide', 'berth'].map((id) => { const b = document.getElementById(id); return [b.textContent, getComputedStyle(b).paddingTop].join(); })`,
    );
  await page.click('#tide');
  await page.click('#berth');
  for (const [n, change] of [{ 'tide.vue': tide('pt-[7px]') }, { 'berth.svelte': berth('pt-[9px]') }].entries()) {
    const after = first.mark;
    workspace.write(change as Record<string, string>);
    await first.next('applied', { after, where: ({ styles }) => styles.includes('page.css') });
    await page.waitForFunction(
      `getComputedStyle(document.getElementById('${['tide', 'berth'][n]}')).paddingTop === '${[7, 9][n]}px'`,
    );
  }
  expect([await look(), loads(), errors]).toEqual([['1,7px', '1,9px'], 1, []]);
  await first.stop();
  // What is kept for the next start was made of these files.
  for (const more of isLong ? ['pt-[7px]', 'pt-[11px]'] : ['pt-[11px]']) {
    workspace.write({ 'tide.vue': tide(more) });
    const next = await Program.serve(workspace.root, args);
    const other = await openPage(browser, next.url);
    expect(await look(other.page)).toEqual([`0,${more.slice(4, -1)}`, '0,9px']);
    await other.page.context().close();
    await next.stop();
  }
  workspace.dispose();
}, 60_000);

test('styles of a component that a plugin makes of a folder follow its files, and nothing runs', async () => {
  const plugin = `import { readdirSync, readFileSync } from 'node:fs';
const looks = (dir) => ({ postcssPlugin: 'looks', Once(root, { result }) {
  result.messages.push({ type: 'dir-dependency', plugin: 'looks', dir });
  const all = readdirSync(dir).map((name) => readFileSync(dir + '/' + name, 'utf8').trim());
  root.walkDecls('order', (declaration) => { declaration.value = String(all.reduce((sum, one) => sum + Number(one), 0)); });
} });
export default { plugins: [looks(import.meta.dirname + '/tides')] };\n`;
  const workspace = Workspace.with(
    {
      'package.json': '{ "dependencies": { "svelte": "*" } }',
      'index.html':
        '<!doctype html><link rel="icon" href="data:,"><div id="a"></div><script type="module" src="main.js"></script>',
      'main.js': `import { mount } from 'svelte';\nimport Berth from './berth.svelte';\nmount(Berth, { target: document.getElementById('a') });\n`,
      'berth.svelte': `<script>\n  let at = $state(0);\n</script>\n<button onclick={() => at++}>{at}</button>\n<style>button { order: 0; }</style>\n`,
      'tides/low.txt': '1',
      'postcss.config.mjs': plugin,
    },
    { packages: true },
  );
  const program = await Program.serve(workspace.root);
  const { page, loads, errors } = await openPage(browser, program.url);
  await page.click('button');
  for (const [files, order] of [
    [{ 'tides/low.txt': '2' }, 2],
    [{ 'tides/high.txt': '5' }, 7],
  ] as const) {
    const after = program.mark;
    workspace.write(files);
    expect(await program.next('applied', { after })).toMatchObject({ ran: [], styles: ['berth.svelte'] });
    const seen = `[document.querySelector('button').textContent, getComputedStyle(document.querySelector('button')).order].join()`;
    expect(await page.evaluate(seen)).toBe(`1,${order}`);
  }
  expect([loads(), errors]).toEqual([1, []]);
  await program.stop();
  workspace.dispose();
});

test('a change of tsconfig.json applies without a restart', async () => {
  const workspace = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.ts"></script>',
    'tsconfig.json': '{ "compilerOptions": { "baseUrl": ".", "paths": { "~/*": ["east/*"] } } }',
    'main.ts': `import { berth } from '~/berth';\ndocument.title = berth;\n`,
    'east/berth.ts': `export const berth = 'east';`,
    'west/berth.ts': `export const berth = 'west';`,
  });
  const program = await Program.serve(workspace.root);
  const { page } = await openPage(browser, program.url);
  await program.next('joined');
  expect(await page.title()).toBe('east');
  workspace.write({ 'tsconfig.json': '{ "compilerOptions": { "paths": { "~/*": ["./west/*"] } } }' });
  await page.waitForFunction(`document.title === 'west'`, undefined, { timeout: 10_000 });
  await program.stop();
  workspace.dispose();
});

test('under a base path everything is found: pieces, styles, files, dynamic imports, workers, deep links', async () => {
  const workspace = Workspace.with({
    'index.html': `<!doctype html><link rel="icon" href="flag.svg"><img src="flag.svg"><script type="module" src="main.js"></script>`,
    'main.js': `import './page.css'; import flag from './flag.svg';
const worker = new Worker(new URL('./worker.js', import.meta.url), { type: 'module' });
worker.onmessage = async ({ data }) => { const { late } = await import('./late.js'); window.said = [data, late, (await fetch(flag)).status, new URL(import.meta.url).pathname, import.meta.base]; document.body.append('tide'); };`,
    'page.css': '@import "./inner.css";',
    'inner.css':
      'body { margin: 9px; background: url(flag.svg); font-family: Quay; } @font-face { font-family: Quay; src: url(quay.woff2); }',
    'quay.woff2': 'no font, but a file that browsers ask for as one',
    'late.js': `export const late = 'late';`,
    'worker.js': `import { word } from './word.js'; postMessage(word);`,
    'word.js': `export const word = 'word';`,
    'flag.svg': '<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"/>',
  });
  const program = await Program.serve(workspace.root, ['index.html', '--base', '/harbour']);
  const { page, errors } = await openPage(browser, `${program.url}berths/4`);
  const answered = new Map<string, number>();
  page.on('response', (response) => void answered.set(new URL(response.url()).pathname, response.status()));
  for (const go of [() => page.reload(), () => page.goto(`${program.url}scopes/meridian-2.5`), () => page.reload()]) {
    await go();
    await page.waitForFunction('window.said');
    expect(await page.evaluate('said')).toEqual(['word', 'late', 200, '/harbour/main.js', '/harbour/']);
    await page.evaluate(`document.fonts.load('9px Quay').catch(() => {})`);
    expect(answered.get('/harbour/quay.woff2')).toBe(200);
    answered.clear();
  }
  expect(await page.evaluate('getComputedStyle(document.body).marginTop')).toBe('9px');
  expect(await page.evaluate('document.images[0].naturalWidth')).toBe(9);
  expect(errors).toEqual([]);
  expect((await fetch(new URL('/elsewhere', program.url))).status).toBe(404);
  await program.stop();
  workspace.dispose();
});

test("a page's <base> counts for what it names, and a file that a pattern matches may come later", async () => {
  const workspace = Workspace.with({
    'index.html': `<!doctype html><base href="/src/"><link rel="stylesheet" href="page.css"><script type="module" src="main.js"></script>`,
    'src/page.css': 'body { margin: 4px; }',
    'src/main.js': `export const open = (name) => import('./berths/' + name + '.js');\nwindow.openBerth = async (name) => (await open(name)).berth;\nimport.meta.live?.take();\n`,
    'src/berths/east.js': `export const berth = 'east';`,
  });
  const program = await Program.serve(workspace.root);
  const { page, loads } = await openPage(browser, program.url);
  await program.next('joined');
  expect(await page.evaluate('getComputedStyle(document.body).marginTop')).toBe('4px');
  expect(await page.evaluate(`openBerth('east')`)).toBe('east');
  const after = program.mark;
  workspace.write({ 'src/berths/west.js': `export const berth = 'west';` });
  await program.next('applied', { after });
  expect(await page.evaluate(`openBerth('west')`)).toBe('west');
  expect(loads()).toBe(1);
  await program.stop();
  workspace.dispose();
});

test('Sass takes sheets of packages, and class names that a CSS module lacks are a problem', async () => {
  const workspace = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.ts"></script>',
    'main.ts': `import './page.scss';\nimport { row } from './board.module.css';\ndocument.title = row;\n`,
    'page.scss': '@use "kit/palette";\nbody { color: palette.$ember; }\n',
    'board.module.css': '.row { color: red; }\n.head { color: blue; }\n',
    'node_modules/kit/package.json': '{ "name": "kit" }',
    'node_modules/kit/_palette.scss': '$ember: rgb(217, 72, 43);',
  });
  const program = await Program.serve(workspace.root);
  const { page } = await openPage(browser, program.url);
  await program.next('joined');
  expect(await page.evaluate('getComputedStyle(document.body).color')).toBe('rgb(217, 72, 43)');
  expect(await page.title()).toMatch(/^row_[0-9a-z]{8}$/);
  const after = program.mark;
  workspace.write({ 'board.module.css': '.rows { color: red; }\n' });
  const { problems } = await program.next('problems', { after });
  expect(problems[0]).toMatchObject({
    code: 'export-missing',
    file: 'main.ts',
    message: "board.module.css does not export 'row'.",
    hint: "Did you mean 'rows'? It exports default, rows.",
  });
  await program.stop();
  workspace.dispose();
});
