import { afterAll, beforeAll, expect } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser, openBuilt, openPage } from '../support/browser.js';
import { Program, runProgram } from '../support/program.js';
import { longTest } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

longTest(
  'a project whose folders and files have names that mean something in URLs is served and built',
  async () => {
    const folder = 'my app #1 %20é';
    const files: Record<string, string> = {
      'package.json': '{ "name": "pier", "type": "module" }',
      'vine-spark.config.ts': `import { folder } from './part #2.ts';\nexport default { alias: { '@': folder, '&': './src' } };\n`,
      'part #2.ts': `import { fileURLToPath } from 'node:url';\nexport const folder: string = fileURLToPath(new URL('./src', import.meta.url));\n`,
      'tsconfig.json': '{ "compilerOptions": { "paths": { "~/*": ["./src/*"] } } }',
      'index.html':
        '<!doctype html><link rel="icon" href="data:,"><p class="quay"></p><script type="module" src="src/main.ts"></script>',
      'src/main.ts': `import '@/quay.scss';\nimport '&/berth.css';\nimport { tide } from '~/tide';
const { late } = await import('./lätér [x]');
const worker = new Worker(new URL('./work %23%25.ts', import.meta.url), { type: 'module' });
document.title = [tide, late, await new Promise((resolve) => { worker.onmessage = ({ data }) => resolve(data); })].join();\n`,
      'src/tide.ts': `export const tide: string = 'high';\n`,
      'src/lätér [x].ts': `export const late: string = 'late';\n`,
      'src/work #%.ts': `postMessage('worked' as string);\n`,
      'src/quay.scss': `@use '@/tones' as t;\n.quay { order: t.$order; background: url('@/gull %231.svg'); }\n`,
      'src/_tones.scss': '$order: 7;\n',
      'src/berth.css': '@import "~/low.css";\n.quay { padding: 3px; }\n',
      'src/low.css': '.quay { margin: 2px; }\n',
      'src/gull #1.svg': '<svg xmlns="http://www.w3.org/2000/svg" width="4" height="4"/>',
    };
    const workspace = Workspace.with(
      Object.fromEntries(Object.entries(files).map(([path, text]) => [`${folder}/${path}`, text])),
    );
    const root = workspace.path(folder);
    const look = `(async () => { const { order, paddingTop, marginTop, backgroundImage } = getComputedStyle(document.querySelector('p'));
    return [document.title, order, paddingTop, marginTop, (await fetch(backgroundImage.slice(5, -2))).status].join(); })()`;
    const shown = 'high,late,worked,7,3px,2px,200';
    const program = await Program.serve(root, []);
    const served = await openPage(browser, program.url);
    await served.page.waitForFunction('document.title !== ""');
    expect([await served.page.evaluate(look), served.errors]).toEqual([shown, []]);
    await program.stop();
    const { code, stderr } = await runProgram(root, ['build', '--no-cache']);
    expect([code, stderr]).toEqual([0, '']);
    const { page, errors, close } = await openBuilt(browser, workspace.path(`${folder}/dist`));
    await page.waitForFunction('document.title !== ""');
    expect([await page.evaluate(look), errors]).toEqual([shown, []]);
    await close();
    workspace.dispose();
  },
  60_000,
);
