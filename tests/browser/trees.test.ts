import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import { connected, launchBrowser, openBuilt, openPage } from '../support/browser.js';
import { Program, runProgram } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

/** What stands in shadow roots and in templates of a page. */

const gull = (name: string) => `<svg xmlns="http://www.w3.org/2000/svg" id="${name}" width="4" height="4"/>`;
const files = {
  'index.html': `<!doctype html><link rel="icon" href="data:,"><title>Quay</title><body><b id="b"></b><i id="i"></i><p id="p"></p><svg><title>mark</title></svg>
    <template id="kept"><base href="/none/"><script type="module" src="none.js"></script><script src="old.js"></script>
      <link rel="stylesheet" href="kept.css"><p>kept</p></template>
    <div id="host"><template shadowrootmode="open"><link rel="stylesheet" href="shade.css">
      <style>@import 'deep.css';</style><b>in</b><i>it</i><img src="gull.svg"><script type="module" src="inner.js"></script></template></div>
    <script type="module" onload="document.title += '!'" src="main.js"></script>
    <script type="module" onload="document.title += '?'">document.title += ' inline';</script>`,
  'shade.css': 'b { order: 1 }',
  'deep.css': 'i { order: 1 }',
  'kept.css': 'p { order: 1 }',
  'gull.svg': gull('gull'),
  'old.js': `document.title += ' old';\n`,
  'inner.js': `document.title += ' inner';\n`,
  // The document doesn't have it by what stands apart from it.
  'main.js': `import './shade.css'; import './deep.css'; import './kept.css'; document.title += ' main';\n`,
};
const look = (page: Page) =>
  page.evaluate(`(() => { const root = document.querySelector('#host').shadowRoot; const order = (selector) => getComputedStyle(root.querySelector(selector)).order;
    return [document.title, order('b'), order('i'), document.querySelector('#kept').content.querySelectorAll('script').length, ...['b', 'i', 'p'].map((name) => getComputedStyle(document.querySelector('#' + name)).order)].join(' '); })()`);
/** Makes what is in the template part of the page. Returns how a paragraph looks. */
const takeOut = (page: Page) =>
  page.evaluate(`new Promise((resolve) => { const content = document.querySelector('#kept').content.cloneNode(true); for (const element of content.querySelectorAll('base, [type=module]')) element.remove();
    content.querySelector('script').onload = () => setTimeout(() => resolve(getComputedStyle(document.querySelector('p')).order + document.title)); document.body.append(content); })`);

let browser: Browser;
let workspace: Workspace;
beforeAll(async () => {
  browser = await launchBrowser();
  workspace = Workspace.with(files);
});
afterAll(async () => {
  await browser.close();
  workspace.dispose();
});

test('scripts of shadow roots run, those of templates wait, and sheets and images are replaced wherever they stand', async () => {
  const program = await Program.serve(workspace.root);
  const { notes } = await program.next('ready');
  expect(notes).toEqual([expect.stringContaining("a script in a template of index.html names 'none.js'")]);
  const { page, errors, loads } = await openPage(browser, program.url);
  await connected(program);
  expect([await look(page), errors]).toEqual(['Quay inner main! inline 1 1 2 1 1 1', []]);
  for (const [path, text] of Object.entries({
    'shade.css': 'b { order: 2 }',
    'deep.css': 'i { order: 3 }',
    'kept.css': 'p { order: 4 }',
    'gull.svg': gull('tern'),
  })) {
    const after = program.mark;
    workspace.write({ [path]: text });
    const { styles, files: shown } = await program.next('applied', { after });
    expect([...styles, ...shown].join()).toMatch(new RegExp(`^/?${path}$`));
  }
  expect([await look(page), await takeOut(page), loads()]).toEqual([
    'Quay inner main! inline 2 3 2 2 3 4',
    '4Quay inner main! inline old',
    1,
  ]);
  const told = program.next('note', { after: program.mark });
  workspace.write({ 'index.html': files['index.html'].replace('none.js', 'more.js') });
  expect((await told).text).toContain("names 'more.js'");
  await program.stop();
});

test('a build of them does the same', async () => {
  const { code, stderr } = await runProgram(workspace.root, ['build', '--json', '--no-cache']);
  expect([code, stderr]).toEqual([0, '']);
  const { page, errors, close } = await openBuilt(browser, workspace.path('dist'));
  expect([await look(page), await takeOut(page), errors]).toEqual([
    'Quay inner main! inline 2 3 2 2 3 4',
    '4Quay inner main! inline old',
    [],
  ]);
  await close();
});
