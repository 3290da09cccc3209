import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

let browser: Browser;
let workspace: Workspace;
let program: Program;
beforeAll(async () => {
  browser = await launchBrowser();
  workspace = Workspace.with({
    'index.html': '<!doctype html><button>hold</button><script type="module" src="main.ts"></script>',
    'main.ts': `import { hold } from './hold';\ninterface Berth { number: number }\nexport const berth: Berth = { number: 4 };\nhold(berth.number);\n`,
    'hold.ts': `export function hold(berth: number): void {\n  if (berth > 3) throw new RangeError('no such berth');\n}\n`,
  });
  program = await Program.serve(workspace.root);
});
afterAll(async () => {
  await browser.close();
  await program.stop();
  workspace.dispose();
});

test('a module that throws while it runs is told on the page and in the terminal, at its own place', async () => {
  const { page } = await openPage(browser, program.url);
  const { problem } = await program.next('error');
  expect(problem).toMatchObject({
    code: 'run-error',
    message: 'RangeError: no such berth',
    file: 'hold.ts',
    position: { line: 2, column: 23 },
  });
  expect(problem.chain).toEqual(['hold hold.ts:2:24', expect.stringMatching(/^\S+ main\.ts:4:1$/)]);
  const panel = page.locator('spark-panel section');
  await panel.waitFor();
  expect(await panel.textContent()).toContain('hold.ts:2:24');
  expect(await panel.textContent()).toContain("throw new RangeError('no such berth')");
  workspace.write({ 'hold.ts': `export function hold(berth: number): void {\n  document.title = 'held ' + berth;\n}\n` });
  await page.waitForFunction(`document.title === 'held 4'`);
  await panel.waitFor({ state: 'detached' });
});

test('errors and rejections that nothing catches later on show in the terminal, after updates too', async () => {
  const handler = (text: string) =>
    `import.meta.live?.take();\ndocument.querySelector('button')!.onclick = async (event: MouseEvent) => {\n  ${text}\n};\n`;
  workspace.write({ 'main.ts': handler(`document.title = 'clicked';`) });
  const before = program.mark;
  const { page } = await openPage(browser, program.url);
  await program.next('joined', { after: before });
  const after = program.mark;
  workspace.write({ 'main.ts': handler(`await null; throw new Error('after ' + event.type);`) });
  await program.next('applied', { after });
  await page.click('button');
  const { problem } = await program.next('error', { after });
  expect(problem).toMatchObject({ message: 'Error: after click', file: 'main.ts', position: { line: 3, column: 20 } });
  expect(await page.locator('spark-panel').count()).toBe(0);
});
