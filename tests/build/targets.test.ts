import { readdirSync, readFileSync } from 'node:fs';
import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { parse } from 'acorn';
import type { Browser } from 'playwright-core';
import { refuseDeepSheet } from '../../src/core/documents/deep-sheet.js';
import { launchBrowser, openBuilt } from '../support/browser.js';
import { runProgram } from '../support/program.js';
import { isLong } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

const mole: Record<string, string> = {
  'package.json': '{ "type": "module" }',
  'index.html':
    '<!doctype html><link rel="icon" href="data:,"><p class="berth"></p><script type="module" src="src/main.ts"></script>',
  'src/main.ts': `import './berth.css'; import common from './common.cjs'; import Hull from './hull';
    class Berth { #depth = 4; static count = 0; static { Berth.count = 1; } get depth() { return this.#depth ?? 0; } async *tides() { yield* [1, 2]; } }
    const tides: number[] = []; for await (const tide of new Berth().tides()) tides.push(tide);
    const { a, ...rest } = { a: 1, b: 2, ...(tides as object) }; let level: number | undefined; level ??= 2 ** 3;
    const late = await import('./late'); const text = \`\${late?.name.toUpperCase()}\`;
    const Mast = class { static high = 1 }, sails = { Jib: class { static #area = 2; static area() { return this.#area; } } }, Own = class { static name = 'own' };
    const crane = new Worker(new URL('./crane.ts', import.meta.url), { type: 'module' });
    const lifted = await new Promise((resolve) => { crane.onmessage = ({ data }) => resolve(data); });
    const names = [Mast, sails.Jib, Hull, Own, class { static { } }].map((one) => one.name).join(' ');
    document.title = [names, sails.Jib.area(), new Berth().depth, Berth.count, tides, Object.keys(rest).length, level, text, common.spread(1, 2), [..."ab"].length, lifted].join();`,
  'src/hull.ts': 'export default class<T = number> { static depth = 4; draught?: T }',
  'src/crane.ts': `import('./late').then(({ name }) => postMessage(\`lifts \${name}\`));\n`,
  'src/late.ts': `export const name = await Promise.resolve('late');\n`,
  'src/common.cjs': `module.exports = { spread: (...all) => ({ ...all }).hasOwnProperty('1') };\n`,
  'src/berth.css': '.berth { inset: 0; user-select: none; color: rgb(0 0 0 / 50%); &:hover { color: red } }',
};

const targets = [
  ['ie 11', 5],
  ['chrome 61', 2017],
  ['safari 12', 2018],
  ['chrome 80, firefox 78', 2020],
  ['chrome 94', 2022],
] as const;

test.each(isLong ? targets : [targets[0], targets[2]])(
  'a build for %s is ECMAScript %d, and runs',
  async (query, edition) => {
    const workspace = Workspace.with(mole, { packages: true });
    const { code, stderr } = await runProgram(workspace.root, ['build', '--no-cache', '--targets', query]);
    expect([code, stderr]).toEqual([0, '']);
    const assets = workspace.path('dist/assets');
    // `import()` came to browsers before it came to an edition.
    for (const name of readdirSync(assets).filter((name) => name.endsWith('.js')))
      expect(() =>
        parse(readFileSync(`${assets}/${name}`, 'utf8').replace(/\bimport\(/g, edition >= 2018 ? 'import_(' : '$&'), {
          ecmaVersion: edition,
          sourceType: 'script',
        }),
      ).not.toThrow();
    const css = readFileSync(`${assets}/${readdirSync(assets).find((name) => name.endsWith('.css'))}`, 'utf8');
    expect(css.includes('&')).toBe(false);
    expect(css.includes('inset:')).toBe(edition === 2022);
    const { page, errors, close } = await openBuilt(browser, workspace.path('dist'));
    await page.waitForFunction('document.title !== ""');
    expect([await page.title(), errors]).toEqual(['Mast Jib default own ,2,4,1,1,2,3,8,LATE,true,2,lifts late', []]);
    await close();
    workspace.dispose();
  },
  60_000,
);

test('declarations keep their order, so that a shorthand resets what stands before it and nothing else', async () => {
  const rule =
    'font: 16px/1.5 serif; font-variant-numeric: tabular-nums; animation: tide 1s; animation-timeline: scroll(); transition: all 1s; transition-behavior: allow-discrete;';
  const workspace = Workspace.with({
    'package.json': '{}',
    'index.html': '<link rel="stylesheet" href="a.css">',
    'a.css': `p { ${rule} }\nb { font-kerning: none; font: inherit }\ncode { font-family: monospace, monospace; line-height: 1.28571429em; inset: 0; --list: a, b;  *zoom: 1 }
      @media (width >= 9.123456789px) { pre { margin: 0.123456789em; user-select: none } }`,
  });
  for (const more of isLong ? [[], ['--no-minify'], ['--targets', 'safari 13']] : [['--targets', 'safari 13']]) {
    await runProgram(workspace.root, ['build', '--no-cache', '--source-maps', 'off', ...more]);
    const assets = workspace.path('dist/assets');
    const css = readFileSync(`${assets}/${readdirSync(assets)[0]}`, 'utf8');
    for (const [first, second] of [
      ['font', 'font-variant-numeric'],
      ['animation', 'animation-timeline'],
      ['transition', 'transition-behavior'],
      ['font-kerning', 'font'],
    ]) {
      const place = (name: string) =>
        css.slice(css.indexOf(name === 'font-kerning' || second === 'font' ? 'b' : 'p')).search(new RegExp(`[{;\\s]${name}:`));
      expect([more, first, place(first!) < place(second!)]).toEqual([more, first, true]);
    }
    expect(css).not.toContain('as-it-is');
    // What isn't lowered stays to the letter, beside what is.
    for (const kept of ['monospace, ?monospace', '1.28571429em', '--list: ?a, b', '\\*zoom: ?1', '0?.123456789em'])
      expect([more, css]).toEqual([more, expect.stringMatching(new RegExp(kept))]);
    if (more[0] === '--targets')
      expect(css).toMatch(/left:0.*@media \(min-width: ?9.12346px\)\{pre\{.*-webkit-user-select:none;user-select:none\}/);
  }
  workspace.dispose();
}, 60_000);

test('rules in others, and selectors that take several, are written for the targets with all that they hold to the letter', async () => {
  const workspace = Workspace.with({
    'package.json': '{}',
    'index.html': '<link rel="stylesheet" href="a.css">',
    'a.css': `.one { color: red; & p { order: 1; & > a { order: 2 } } *zoom: 1; width: 10; @media (width >= 9px) { order: 3 } line-height: 1.0 }
      :not(.b, #i) { height: 11; margin-inline: 3px }
.two { width: 12; border-start-start-radius: 1px; *zoom: 2; order: 4 }`,
  });
  await runProgram(workspace.root, ['build', '--no-cache', '--source-maps', 'off', '--targets', 'chrome 80, safari 13']);
  const assets = workspace.path('dist/assets');
  const css = readFileSync(`${assets}/${readdirSync(assets)[0]}`, 'utf8').replaceAll(/\s/g, '');
  workspace.dispose();
  expect(css).toContain(
    '.one{color:red}.onep{order:1}.onep>a{order:2}.one{*zoom:1;width:10}@media(min-width:9px){.one{order:3}}.one{line-height:1.0}',
  );
  expect(css).toMatch(/:not\(:-webkit-any\(\.b,#i\)\)\{height:11;margin-inline-start:3px;.*:not\(:is\(\.b,#i\)\)\{height:11;/);
  expect(css).toMatch(/\.two\{width:12\}\.two:not\(.*\.two\{\*zoom:2;order:4\}/);
  expect(css).not.toMatch(/1[0-2]px/);
});

test('colours that targets lack stand behind some that they know, also where others have no value yet', async () => {
  const value = 'oklch(50% 0.1 30)';
  const workspace = Workspace.with({
    'package.json': '{}',
    'index.html': '<link rel="stylesheet" href="a.css">',
    'a.css': `a { border-color: currentColor ${value}; background: linear-gradient(CanvasText, ${value} 20%) }
@keyframes k { from { color: currentColor } to { color: ${value} } }
@keyframes m { from { outline-color: light-dark(red, blue) } to { border-color: currentColor ${value}; fill: ${value} } } b { box-shadow: 0 0 1px light-dark(currentColor, ${value}), 0 0 2px ${value} }
p { --x: light-dark(red, blue) }
@import './late.css';`,
    'late.css': 'p { margin-top: 99px }',
  });
  const args = ['build', '--no-cache', '--source-maps', 'off', '--targets', 'chrome 100'];
  const { code, stderr } = await runProgram(workspace.root, args);
  const assets = workspace.path('dist/assets');
  const css = readFileSync(`${assets}/${readdirSync(assets)[0]}`, 'utf8');
  workspace.dispose();
  expect([code, stderr]).toEqual([0, expect.stringContaining('not-lowered\n  a.css:4:5\n')]);
  expect(stderr).toContain('import-ignored\n  a.css:5:10\n');
  expect(css).not.toContain('99px');
  const known = '#[0-9a-f]{6}';
  for (const [before, behind] of [
    [`border-color:currentColor ${known}`, `border-color:currentColor ${value}`],
    [`background:linear-gradient\\(CanvasText,${known} 20%\\)`, `background:linear-gradient(CanvasText,${value} 20%)`],
    [`color:${known}`, 'color:lab('],
    ['outline-color:red', 'outline-color:light-dark(red,blue)'],
    [`to.border-color:currentColor ${known}`, `border-color:currentColor ${value};fill:#`],
    [
      `box-shadow:0 0 1px currentColor,0 0 2px ${known};.*`,
      `box-shadow:0 0 1px light-dark(currentColor,${value}),0 0 2px ${value}`,
    ],
  ] as const)
    expect(css).toMatch(new RegExp(`${before};?\\s*${behind.replaceAll(/[().]/g, '\\$&')}`));
}, 60_000);

test('targets come from the settings, the project, or are widely available browsers; what they lack is told', async () => {
  const workspace = Workspace.with({
    ...mole,
    'src/late.ts': 'export const name = "late"; class Tide { turn = () => {}; height = 10n } new Tide();',
  });
  const run = async (...args: string[]) => runProgram(workspace.root, ['build', '--no-cache', ...args]);
  workspace.write({ '.browserslistrc': 'chrome 61' });
  expect((await run()).stderr).toMatch(
    /Big integer literals are not available in all of the targets\. not-lowered\n {2}src\/late\.ts:1:68\n/,
  );
  workspace.write({ 'vine-spark.config.json': '{ "targets": "chrome 120" }' });
  expect(await run()).toMatchObject({ code: 0, stderr: '' });
  expect(await run('--targets', 'ie 11')).toMatchObject({
    code: 1,
    stderr: expect.stringMatching(/npm install -D @swc\/core\.[^\n]*\n$/),
  });
  workspace.write({ 'src/late.ts': `export const name: string = 'late';\nexport const isGull = /gull(s/.test(name);\n` });
  expect(await run()).toMatchObject({
    code: 1,
    stderr: expect.stringMatching(/Unterminated group\. syntax-error\n {2}src\/late\.ts:2:23\n/),
  });
  expect(await run('--targets', 'gulls 3')).toMatchObject({ code: 2, stderr: expect.stringContaining('no browserslist query') });
  workspace.dispose();
}, 60_000);

test('sheets whose nesting would end the process are refused', async () => {
  const deep = (open: string, inner: string, close: string) => open.repeat(20_000) + inner + close.repeat(20_000);
  const sheets = [
    deep('a{', 'color: red', '}'),
    deep('@media (min-width: 1px) {', 'a { color: red }', '}'),
    `b:${deep('not(', 'c', ')')} { color: red }`,
    `a { width: ${deep('calc(', '1px', ')')} }`,
  ];
  for (const sheet of sheets) expect(() => refuseDeepSheet('a.css', sheet)).toThrow('too deeply nested');
  refuseDeepSheet('a.css', `a { content: "((("; background: url("[[[") } /* {{{ */\n`.repeat(500));
  const workspace = Workspace.with({ 'index.html': '<link rel="stylesheet" href="a.css">', 'a.css': sheets[2]! });
  expect(await runProgram(workspace.root, ['build', '--no-cache'])).toMatchObject({
    code: 1,
    stderr: expect.stringContaining('file-too-large'),
  });
  workspace.dispose();
}, 30_000);
