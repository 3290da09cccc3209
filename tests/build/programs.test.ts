import { spawn } from 'node:child_process';
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser, openBuilt } from '../support/browser.js';
import { differences } from '../support/differences.js';
import { languageCases } from '../support/language-cases.js';
import { runProgram } from '../support/program.js';
import { randomCircles } from '../support/random-circles.js';
import { randomProgram } from '../support/random-program.js';
import { restyle, styles } from '../support/restyle.js';
import { full, isLong } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

// What is made smaller is built too.
const ways = isLong ? (['built', 'made smaller'] as const) : (['made smaller'] as const);
describe.each(ways)('programs that are %s', (how) => {
  const programs = (some: readonly number[]) =>
    Object.fromEntries(some.map((seed) => [`p${seed}`, restyle(randomProgram(seed), styles[seed % styles.length]!, seed)]));

  test('say the same as natively, with everything that the language allows', async () => {
    // A smaller function has another text, which that one prints.
    const { awkwardNames, ...rest } = languageCases;
    const cases = how === 'built' ? { ...rest, awkwardNames: awkwardNames! } : rest;
    expect(await differences(browser, { ...cases, ...(isLong ? {} : programs([1007])) }, { aPage: 1, how })).toEqual([]);
  }, 120_000);

  test('run in the order of the standard, in whatever circles their modules import each other', async () => {
    // The named ones went wrong once.
    const named = [82, 113, 126, 188, 204, 299, 301, 306, 311, 375, 389, 442, 443, 501, 537, 593];
    const seeds = isLong ? Array.from({ length: 600 }, (_, seed) => seed) : named;
    const circles = Object.fromEntries(seeds.map((seed) => [`c${seed}`, randomCircles(seed)]));
    expect(await differences(browser, circles, { how })).toEqual([]);
  }, 300_000);

  if (!isLong) return;
  // The named ones went wrong once.
  const seeds = [5020, 5057, 2030, 1007, ...Array.from({ length: 500 }, (_, index) => index + 1001)];
  const parts = Array.from({ length: Math.ceil(seeds.length / 50) }, (_, at) => seeds.slice(at * 50, at * 50 + 50));

  test.each(parts.map((part) => [part[0], part] as const))(
    'say the same as natively, whatever they are made of: %d',
    async (_, part) => expect(await differences(browser, programs(part), { how })).toEqual([]),
    300_000,
  );
});

/** An application with what pages, modules, sheets and workers can ask for. */
const quay: Record<string, string> = {
  'package.json': '{ "type": "module" }',
  'index.html': `<!doctype html><meta charset="utf-8"><link rel="icon" href="img/mark.svg"><link rel="stylesheet" href="page.css"><body>
    <img srcset="img/mark.svg 1x, img/mark.svg 2x"><img src="img/mark.svg#gull"><script src="old.js"></script><p class="tide">pier</p><script type="module" src="src/main.ts"></script>`,
  'other.html':
    '<!doctype html><title>Other</title><link rel="icon" href="img/mark.svg"><script type="module" src="src/other.ts"></script>',
  'page.css':
    '@import "./base.css" screen and (min-width: 1px);\n@import "./layered.css" layer(deep) supports(order: 1);\n@import "./paper.css" print;\np { order: 1; background: url(img/wave.png); }',
  'base.css': '@import "./deeper.css";\np { padding-left: 7px; }',
  'deeper.css': '@import "./base.css";\np { padding-left: 1px; padding-right: 5px; }',
  'layered.css': 'p { padding-left: 99px !important; padding-left: 98px; padding-top: 6px; }',
  'paper.css': 'p { padding-right: 50px; }',
  'img/mark.svg': '<svg xmlns="http://www.w3.org/2000/svg"/>',
  'img/wave.png': 'png',
  'old.js': 'var old = 4;',
  'public/robots.txt': 'none',
  'public/manifest.json': '{ "name": "Quay" }',
  'src/main.ts': `import { shared } from './shared';\nimport './a.css';\nimport names from './b.module.css';\nimport wave from '../img/wave.png';
    import text from './notes.txt' with { type: 'text' };
    const out: unknown[] = [(globalThis as any).old, shared, names.row !== undefined, wave.startsWith('/quay/assets/wave-'), text.trim(), typeof import.meta.live, process.env.NODE_ENV];
    if (import.meta.live) out.push('GONE');
    const worker = new Worker(new URL('./crane.ts', import.meta.url), { type: 'module' });
    const answer = new Promise((resolve) => { worker.onmessage = ({ data }) => resolve(data); });
    await import('./later');
    const late = await import('./late');
    const failed = await import(('./nowhere.js')).catch((error) => error.name);
    out.push(late.late, await answer, failed, getComputedStyle(document.querySelector('p')!).order);
    document.title = out.join();\n`,
  'src/other.ts': `import { shared } from './shared';\nimport('./late').then(({ late }) => { document.title = shared + late; });\n`,
  'src/shared.ts': `export const shared = ['sharé'].join();\n`,
  'src/both.ts': `import './both.css';\n`,
  'src/both.css': 'p { padding-bottom: 8px; }',
  'src/later.ts': `import './both';\n`,
  'src/late.ts': `import './late.css';\nimport './both';\nimport { shared } from './shared';\nexport const late = 'late ' + shared;\n`,
  'src/late.css': 'p { order: 3; }',
  'src/a.css': 'p { order: 2; margin-top: 4px; }\n/* no one */',
  'src/b.module.css': '.row { margin-left: 3px; }',
  'src/notes.txt': 'high water',
  'src/crane.ts': `import { shared } from './shared';\nimport('./hook').then(({ hook }) => postMessage(shared + hook));\n`,
  'src/hook.ts': `export const hook = typeof window === 'undefined' && typeof document === 'undefined' ? ' hook' : ' page';\n`,
};

async function build(workspace: Workspace, ...args: string[]): Promise<Record<string, any>> {
  const { code, stdout, stderr } = await runProgram(workspace.root, ['build', '--json', '--no-cache', ...args]);
  if (stderr !== '') throw new Error(stderr);
  return { code, ...JSON.parse(stdout) };
}

const filesIn = (folder: string) =>
  Object.fromEntries(
    readdirSync(folder, { recursive: true, withFileTypes: true })
      .filter((entry) => entry.isFile())
      .map((entry) => join(entry.parentPath, entry.name))
      .map((path) => [path.slice(folder.length + 1), readFileSync(path, 'latin1')]),
  );

test('a build of everything that an application asks for runs under a base path, and says nothing in the console', async () => {
  const workspace = Workspace.with(quay);
  const told = await build(workspace, '--base', '/quay/', '--out', 'site/quay');
  expect(told).toMatchObject({ code: 0, event: 'built', warnings: [{ code: 'import-unresolved', file: 'src/main.ts' }] });
  const { page, errors, console: printed, close } = await openBuilt(browser, workspace.path('site'), 'quay/index.html');
  await page.waitForFunction('document.title !== ""');
  expect(await page.title()).toBe('4,sharé,true,true,high water,undefined,production,late sharé,sharé hook,TypeError,3');
  const style = (name: string) => page.evaluate(`getComputedStyle(document.querySelector('p')).${name}`);
  expect([await style('paddingRight'), await style('paddingTop'), await style('paddingBottom')]).toEqual(['5px', '6px', '8px']);
  expect([await style('paddingLeft'), await style('marginTop'), await style('backgroundImage')]).toEqual([
    '99px',
    '4px',
    expect.stringMatching(/\/quay\/assets\/wave-\w+\.png/),
  ]);
  await page.goto(new URL('other.html', page.url()).href);
  await page.waitForFunction('document.title.includes("late")');
  expect(await page.title()).toBe('sharélate sharé');
  expect([errors, printed]).toEqual([[], []]);
  await close();
  const files = filesIn(workspace.path('site/quay'));
  const sheets = Object.entries(files).filter(([path]) => path.endsWith('.css'));
  expect(sheets.filter(([, text]) => /@import|sheet:/.test(text))).toEqual([]);
  const scripts = Object.entries(files).filter(([path]) => path.endsWith('.js'));
  expect([files['robots.txt'], files['manifest.json']]).toEqual(['none', '{ "name": "Quay" }']);
  expect(files['index.html']).toMatch(/<img src="\/quay\/assets\/mark-\w+\.svg#gull">/);
  // Workers hold the runtime as small as pages do.
  expect(scripts.filter(([path, text]) => text.includes('\n    ') && !path.includes('start')).map(([path]) => path)).toEqual([]);
  expect(scripts.some(([, text]) => text.includes('GONE'))).toBe(false);
  // A module that two pages need is in one file.
  expect(scripts.filter(([, text]) => /["`']shar/.test(text)).length).toBe(2);
  const listed = Object.keys((JSON.parse(files['vine-spark.json']!) as { files: object }).files);
  expect(listed.toSorted()).toEqual(
    Object.keys(files)
      .filter((path) => path !== 'vine-spark.json')
      .toSorted(),
  );
  workspace.dispose();
}, 120_000);

test('modules run in the order in which they would with those that are left out, which begin cycles too', async () => {
  const workspace = Workspace.with({
    'package.json': '{ "type": "module", "sideEffects": false }',
    'index.html': '<!doctype html><link rel="icon" href="data:,"><script type="module" src="main.js"></script>',
    'main.js': `import { Berth } from './all.js'; const { Quay } = await import('./late.js'); document.title = new Berth().name() + new Quay().name();`,
    'all.js': `export * from './names.js'; export { Place } from './place.js'; export { Berth } from './berth.js';`,
    'names.js': `export const east = 'east';`,
    'place.js': `import { east } from './all.js'; export class Place { name() { return east; } }`,
    'berth.js': `import { Place } from './place.js'; export class Berth extends Place {}`,
    'late.js': `import { Place } from './all.js'; export class Quay extends Place {}`,
  });
  expect(await build(workspace)).toMatchObject({ code: 0, event: 'built' });
  const { page, errors, close } = await openBuilt(browser, workspace.path('dist'));
  await page.waitForFunction('document.title !== ""', undefined, { timeout: 4000 }).catch(() => undefined);
  expect([await page.title(), errors]).toEqual(['easteast', []]);
  await close();
  workspace.dispose();
}, 60_000);

test('the same sources give the same bytes in any folder; a late module that changes renames its own file and changes pages only', async () => {
  const folders = [Workspace.with(quay), Workspace.with(quay)];
  for (const folder of folders) await build(folder);
  const [one, two] = folders.map((folder) => filesIn(folder.path('dist')));
  expect(two).toEqual(one);
  folders[1]!.write({ 'src/late.ts': quay['src/late.ts']!.replace("'late '", "'later '") });
  await build(folders[1]!);
  const after = filesIn(folders[1]!.path('dist'));
  const plain = (files: object) => Object.keys(files).filter((path) => !/\.(?:map|json|html)$/.test(path));
  const gone = plain(one!).filter((path) => !(path in after));
  expect(gone).toEqual([expect.stringMatching(/^assets\/late-\w+\.js$/)]);
  for (const folder of folders) folder.dispose();
}, 120_000);

test('a folder in which a build would do harm is refused; files of others stay, those of earlier builds go', async () => {
  const workspace = Workspace.with(quay);
  for (const [out, why] of [
    ['.', 'it is the project itself'],
    ['public/site', 'its files are copied from there'],
    ['..', 'the project lies in it'],
    ['src', 'it holds sources, such as src/'],
    ['index.html', 'it is a file'],
  ].slice(0, full(2, 5))) {
    const { code, stderr } = await runProgram(workspace.root, ['build', '--no-cache', '--out', out!]);
    expect([code, stderr]).toEqual([2, expect.stringContaining(why!)]);
  }
  expect(filesIn(workspace.path('src'))['main.ts']).toBe(Buffer.from(quay['src/main.ts']!).toString('latin1'));
  await build(workspace);
  workspace.write({ 'dist/CNAME': 'harbour', 'src/shared.ts': `export const shared = 'other';\n` });
  const before = Object.keys(filesIn(workspace.path('dist')));
  const { others } = await build(workspace);
  expect(others).toEqual(['CNAME']);
  const after = filesIn(workspace.path('dist'));
  expect(after.CNAME).toBe('harbour');
  expect(before.some((path) => !(path in after))).toBe(true);
  // A list of another tool's says nothing of ours, and what nobody of ours wrote is not written over.
  const { 'public/manifest.json': _, ...plain } = quay;
  const foreign = Workspace.with({
    ...plain,
    'index.html': '<!doctype html><img src="img/50%.png"><script type="module" src="src/shared.ts"></script>',
    'out/keep.txt': 'keep',
    'out/manifest.json': '{ "files": { "keep.txt": {} } }',
    'site/index.html': 'mine',
  });
  expect(await build(foreign, '--out', 'out')).toMatchObject({
    others: ['keep.txt', 'manifest.json'],
    warnings: [{ code: 'file-missing', position: { line: 1 } }],
  });
  const refused = await runProgram(foreign.root, ['build', '--no-cache', '--out', 'site']);
  expect([refused.code, refused.stderr]).toEqual([1, expect.stringContaining('would write over index.html')]);
  expect(filesIn(foreign.path('site'))).toEqual({ 'index.html': 'mine' });
  foreign.dispose();
  // One that is killed, at any time, leaves the last one, and nothing beside it that the next one doesn't take away.
  for (const afterMs of isLong ? [50, 200, 350, 500, 700, 900] : [600]) {
    const child = spawn(process.execPath, [join(repository, 'dist/cli/main.js'), 'build', '--no-cache'], { cwd: workspace.root });
    setTimeout(() => child.kill('SIGKILL'), afterMs);
    await new Promise((resolve) => child.once('exit', resolve));
  }
  expect(await build(workspace)).toMatchObject({ code: 0 });
  expect(filesIn(workspace.path('dist'))).toEqual(after);
  expect(readdirSync(workspace.root).filter((name) => name.startsWith('.dist'))).toEqual([]);
  // One that fails leaves the last one.
  workspace.write({ 'src/shared.ts': 'export const = ;' });
  const { code, stdout } = await runProgram(workspace.root, ['build', '--json', '--no-cache']);
  expect([code, JSON.parse(stdout)]).toMatchObject([1, { event: 'problems', problems: [{ file: 'src/shared.ts' }] }]);
  expect(filesIn(workspace.path('dist'))).toEqual(after);
  workspace.dispose();
}, 120_000);
