import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program } from '../support/program.js';
import { longTest } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

/** The settings files that docs/adapters.md shows. */
const [timetable, , markdown, yaml] = [
  ...readFileSync(join(repository, 'docs/adapters.md'), 'utf8').matchAll(/```ts\n([\s\S]*?)```/g),
].map((match) => match[1]!);

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

test('the Markdown adapter of the docs makes HTML, and updates', async () => {
  const workspace = Workspace.with(
    {
      'index.html': '<!doctype html><div id="notice"></div><script type="module" src="notice.js"></script>',
      'notice.js': `import notice from './notice.md';\ndocument.querySelector('#notice').innerHTML = notice;\nimport.meta.live?.take();\n`,
      'notice.md': '# No ferry to *Heron Island*',
      'vine-spark.config.ts': markdown!,
    },
    { packages: true },
  );
  const program = await Program.serve(workspace.root, []);
  const { page, loads } = await openPage(browser, program.url);
  await program.next('joined');
  expect(await page.textContent('#notice h1 em')).toBe('Heron Island');
  workspace.write({ 'notice.md': '# No ferry to *Great Skerry*' });
  await program.next('applied');
  expect(await page.textContent('#notice h1 em')).toBe('Great Skerry');
  expect(loads()).toBe(1);
  await program.stop();
  workspace.dispose();
});

test('the YAML adapter of the docs makes data, and shows a mistake where it is', async () => {
  const workspace = Workspace.with(
    {
      'index.html':
        '<!doctype html><script type="module">import quay from "./quay.yaml"; document.title = quay.berths[1].name;</script>',
      'quay.yaml': 'berths:\n  - name: east\n  - name: west\n',
      'vine-spark.config.ts': yaml!,
    },
    { packages: true },
  );
  const program = await Program.serve(workspace.root, []);
  const { page } = await openPage(browser, program.url);
  await program.next('joined');
  expect(await page.title()).toBe('west');
  workspace.write({ 'quay.yaml': 'berths:\n  - name: east\n - name: west\n' });
  const { problems } = await program.next('problems');
  expect(problems[0]).toMatchObject({ code: 'adapter-failed', file: 'quay.yaml', position: { line: 3 } });
  await program.stop();
  workspace.dispose();
});

test('an adapter may find files itself, and a file that it depends on makes its modules anew', async () => {
  const workspace = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.js"></script>',
    'main.js': `import timetable from 'timetable:east'; document.title = timetable; import.meta.live?.take();`,
    'tables/east.table': '9:05',
    'tables/format.txt': 'departs at %',
    'vine-spark.config.mjs': `import { readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
const root = ${'process.cwd()'};
export default { adapters: [{
  name: 'timetables', files: /\\.table$/,
  resolve: (specifier) => specifier.startsWith('timetable:') ? join(root, 'tables', specifier.slice(10) + '.table') : undefined,
  translate(source, { file, dependOn }) {
    dependOn('./format.txt');
    const format = readFileSync(join(dirname(file), 'format.txt'), 'utf8');
    return 'export default ' + JSON.stringify(format.replace('%', source)) + ';';
  },
}] };
`,
  });
  const program = await Program.serve(workspace.root, []);
  const { page, loads } = await openPage(browser, program.url);
  await program.next('joined');
  expect(await page.title()).toBe('departs at 9:05');
  const after = program.mark;
  workspace.write({ 'tables/format.txt': 'leaves at %' });
  await program.next('applied', { after });
  expect(await page.title()).toBe('leaves at 9:05');
  expect(loads()).toBe(1);
  await program.stop();
  workspace.dispose();
});

test('the adapter with parts of the docs makes modules of a file, of which only what changed runs again', async () => {
  const times = (row: string, colour: string) => `${row}\n10:40 Heron\n---\n$ink: ${colour};\nli { color: $ink; }\n`;
  const workspace = Workspace.with(
    {
      'index.html': '<!doctype html><ul id="app"></ul><script type="module" src="main.js"></script>',
      'main.js': `import rows from './quay.times';\ndocument.querySelector('#app').innerHTML = rows.map((row) => '<li>' + row).join('');\nimport.meta.live?.take();\n`,
      'quay.times': times('09:15 Skerry', 'rgb(1, 2, 3)'),
      'vine-spark.config.ts': timetable!,
    },
    { packages: true },
  );
  const program = await Program.serve(workspace.root, []);
  const { page } = await openPage(browser, program.url);
  await program.next('joined');
  const colour = () => page.evaluate(`getComputedStyle(document.querySelector('li')).color`);
  expect([await page.locator('li').allTextContents(), await colour()]).toEqual([['09:15 Skerry', '10:40 Heron'], 'rgb(1, 2, 3)']);
  let after = program.mark;
  workspace.write({ 'quay.times': times('09:15 Skerry', 'rgb(3, 2, 1)') });
  expect(await program.next('applied', { after })).toMatchObject({ ran: [], styles: ['quay.times'] });
  expect(await colour()).toBe('rgb(3, 2, 1)');
  after = program.mark;
  workspace.write({ 'quay.times': times('09:20 Skerry', 'rgb(3, 2, 1)') });
  expect(await program.next('applied', { after })).toMatchObject({ ran: ['quay.times', 'main.js'] });
  after = program.mark;
  workspace.write({ 'quay.times': times('09:20 Skerry', '$lost') });
  const { problems } = await program.next('problems', { after });
  expect(problems[0]).toMatchObject({ code: 'syntax-error', file: 'quay.times', position: { line: 4, column: 6 } });
  await program.stop();
  workspace.dispose();
});

longTest('an adapter takes custom blocks of component files', async () => {
  const workspace = Workspace.with(
    {
      'package.json': '{ "name": "quay", "type": "module", "dependencies": { "vue": "*" } }',
      'index.html': '<!doctype html><div id="app"></div><script type="module" src="main.js"></script>',
      'main.js': `import { createApp } from 'vue';\nimport Berth from './berth.vue';\ncreateApp(Berth).mount('#app');\ndocument.title = Berth.notice;\n`,
      'berth.vue': '<template><p>berth</p></template>\n<notice lang="plain">No ferry today</notice>\n',
      'vine-spark.config.js': `export default { adapters: [{
        name: 'notice', files: /(?!)/, blocks: ['notice'], translate: () => '',
        translateBlock: (text, { attributes }) => 'export default (component) => { component.notice = ' + JSON.stringify(text + ' ' + attributes.lang) + '; };',
      }] };\n`,
    },
    { packages: true },
  );
  const program = await Program.serve(workspace.root, []);
  const { page } = await openPage(browser, program.url);
  await page.locator('p').waitFor();
  expect(await page.title()).toBe('No ferry today plain');
  await program.stop();
  workspace.dispose();
});
