import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser } from '../support/browser.js';
import { forFolder, outputOf, outputsInNode, programPage, recorder } from '../support/native.js';
import { Program } from '../support/program.js';
import type { ProgramFiles } from '../support/random-program.js';
import { Workspace } from '../support/workspace.js';

const last = 'ended();';

/** Programs that Node.js runs too. */
const cases: Record<string, ProgramFiles> = {
  cycles: {
    'main.js': `import a from './a.cjs'; log(JSON.stringify(a));`,
    'a.cjs': `exports.early = 1; const b = require('./b.cjs'); exports.seen = b.seen; exports.late = 2;`,
    'b.cjs': `const a = require('./a.cjs'); exports.seen = Object.keys(a).join(); exports.same = a === require('./a.cjs');`,
    'last.js': last,
  },
  replaced: {
    'main.js': `import made, * as ns from './made.cjs'; import { named } from './named.cjs'; log(made(2), typeof ns.default, named);`,
    'made.cjs': `exports.before = 1; module.exports = (n) => n * 2; module.exports.extra = 3;`,
    'named.cjs': `Object.defineProperty(exports, 'named', { enumerable: true, value: 'defined' });`,
    'last.js': last,
  },
  conventions: {
    'main.js': `import whole from './marked.cjs'; log(whole.__esModule, whole.default, whole.other);`,
    'marked.cjs': `Object.defineProperty(exports, '__esModule', { value: true }); exports.default = 'the default'; exports.other = 'other';`,
    'last.js': last,
  },
  requiring: {
    'main.js': `import all from './all.cjs'; log(all);`,
    'all.cjs': `const tide = require('./tide.json'); let inBranch = 'none'; if (tide.high > 3) { inBranch = require('./branch.cjs'); }
function late() { return require('./late.cjs').value; }
let missing; try { require('./not-there.cjs'); } catch (error) { missing = error.code; }
module.exports = [tide.high, inBranch, late(), missing, this === exports, typeof module, typeof exports, typeof require, typeof define].join(' ');`,
    'tide.json': '{ "high": 4 }',
    'branch.cjs': `module.exports = 'branch';`,
    'late.cjs': `exports.value = 'late';`,
    'last.js': last,
  },
  spread: {
    'main.js': `import all, { low } from './all.cjs'; log(JSON.stringify(all), Array.isArray(all.berths), low);`,
    'all.cjs': `const tide = require('./tide.json'); tide.seen = Object.keys(tide).join();
exports.low = 1; module.exports = { ...require('./one.cjs'), ...(true && require('./two.cjs')), list: [... require('./berths.json')], tide, berths: require('./berths.json'), low: 2 };
Object.assign(module.exports, ...[{ ...require('./three.cjs') }]);`,
    'one.cjs': 'exports.one = 1;',
    'two.cjs': 'exports.two = 2;',
    'three.cjs': 'exports.three = 3;',
    'tide.json': '{ "high": 4, "low-water": [1], "default": 5, "__esModule": true }',
    'berths.json': '[1, { "a": 2 }]',
    'last.js': last,
  },
  throwing: {
    'main.js': `try { await import('./throws.cjs'); } catch (error) { log(error.message); }\nimport { createRequire } from './none.js'; log(typeof createRequire);`,
    'throws.cjs': `log('runs'); throw new Error('aground');`,
    'none.js': 'export const createRequire = 0;',
    'last.js': last,
  },
  wrapped: {
    'main.js': `import umd from './umd.cjs'; import iife from './iife.cjs'; log(umd.kind, iife.value, umd.root);`,
    'umd.cjs': `!function(e,t){"object"==typeof exports&&"undefined"!=typeof module?module.exports=t():"function"==typeof define&&define.amd?define(t):(e=e||self).Kit=t()}(this,function(){"use strict";return{kind:"umd",root:typeof globalThis}});`,
    'iife.cjs': `(function (global, factory) { factory(exports); })(this, function (exports) { exports.value = 'iife'; });`,
    'last.js': last,
  },
  passedOn: {
    'main.js': `import { one, two } from './index.cjs'; import * as all from './star.js'; log(one, two, all.one, Object.keys(all).includes('two'));`,
    'index.cjs': `exports.one = require('./one.cjs').one; exports.two = 2;`,
    'one.cjs': `exports.one = 1;`,
    'star.js': `export * from './index.cjs';`,
    'last.js': last,
  },
  sloppy: {
    'main.js': `import said from './sloppy.cjs'; log(said);`,
    'sloppy.cjs': `var list = [arguments.length > 2]; with ({ inner: 'with' }) { list.push(inner); }\nlist.push(typeof (function () { return this; })()); var yield = 1, let = 2; list.push(010, yield + let); module.exports = list.join(' ');`,
    'last.js': last,
  },
};

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

test('CommonJS and its mixtures say the same here and in Node.js', async () => {
  const files: Record<string, string> = { 'package.json': '{ "type": "module" }', 'public/recorder.js': recorder };
  for (const [folder, program] of Object.entries(cases)) {
    files[`page-${folder}.html`] = programPage([folder]);
    for (const [name, text] of Object.entries(program)) files[`${folder}/${name}`] = forFolder(text, folder);
  }
  const workspace = Workspace.with(files);
  const program = await Program.serve(workspace.root, []);
  const expected = await outputsInNode(workspace.root, Object.keys(cases));
  const page = await (await browser.newContext()).newPage();
  const actual: Record<string, string[] | undefined> = {};
  for (const folder of Object.keys(cases))
    actual[folder] = (await outputOf(page, `${program.url}page-${folder}`, [folder]))[folder];
  expect(actual).toEqual(Object.fromEntries(expected));
  await program.stop();
  workspace.dispose();
});

test('dead branches bring in nothing, and a required ECMAScript module is its namespace', async () => {
  const workspace = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.js"></script>',
    'main.js': `import kit from './kit.cjs'; window.said = kit;`,
    'kit.cjs': `if (process.env.NODE_ENV === 'production') { module.exports = require('./prod-not-there.cjs'); } else { const { tide, default: main } = require('./esm.mjs');
exports.said = [tide, main, process.env.NODE_ENV, process.env.OTHER, process.browser, typeof process, typeof global, global === globalThis, 'process.env.NODE_ENV']; }`,
    'esm.mjs': `export const tide = 4; export default 'main';`,
  });
  const program = await Program.serve(workspace.root);
  expect((await program.next('ready')).modules).toBe(3);
  const page = await (await browser.newContext()).newPage();
  await page.goto(program.url);
  await page.waitForFunction('window.said');
  expect(await page.evaluate('said.said')).toEqual([
    4,
    'main',
    'development',
    undefined,
    true,
    'undefined',
    'object',
    true,
    'process.env.NODE_ENV',
  ]);
  await program.stop();
  workspace.dispose();
});
