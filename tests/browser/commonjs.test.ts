import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser } from '../support/browser.js';
import { commonJsCases } from '../support/commonjs-cases.js';
import { serveBoth } from '../support/differences.js';
import { outputOf, outputsInNode } from '../support/native.js';
import { Program } from '../support/program.js';
import { randomCommonJs } from '../support/random-commonjs.js';
import type { ProgramFiles } from '../support/random-program.js';
import { full, isLong } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

/** What programs say in Node.js and here, by their names. */
async function inNodeAndHere(programs: Record<string, ProgramFiles>, how: 'served' | 'built' | 'made smaller') {
  const both = await serveBoth(programs, { aPage: 1, how });
  const expected = await outputsInNode(both.root, Object.keys(programs));
  const page = await (await browser.newContext()).newPage();
  const actual: Record<string, string[] | undefined> = {};
  for (const [name, group] of Object.entries(both.groups))
    Object.assign(actual, await outputOf(page, `${both.ours}${name}.html`, group));
  await page.context().close();
  await both.close();
  // Node.js ends where an entry throws.
  for (const name of Object.keys(actual)) if (!expected.has(name)) delete actual[name];
  return { expected: Object.fromEntries(expected), actual };
}

const ways = isLong ? (['served', 'built', 'made smaller'] as const) : (['served', 'made smaller'] as const);
test.each(ways)(
  'CommonJS and its mixtures say the same here and in Node.js: %s',
  async (how) => {
    const seeds = Array.from({ length: full(12, 200) }, (_, seed) => seed);
    const programs = { ...commonJsCases, ...Object.fromEntries(seeds.map((seed) => [`r${seed}`, randomCommonJs(seed)])) };
    const { expected, actual } = await inNodeAndHere(programs, how);
    expect(actual).toEqual(expected);
    expect(Object.keys(actual).length).toBeGreaterThan(0.7 * Object.keys(programs).length);
  },
  300_000,
);

test('dead branches bring in nothing, and a required ECMAScript module is its namespace', async () => {
  const workspace = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.js"></script>',
    'main.js': `import kit from './kit.cjs'; window.said = kit;`,
    'kit.cjs': `if (process.env.NODE_ENV === 'production') { module.exports = require('./prod-not-there.cjs'); } else { const { tide, default: main } = require('./esm.mjs');
const { __esModule, ...all } = require('./esm.mjs'); exports.said = [JSON.stringify(all), __esModule, tide, main, process.env.NODE_ENV, process.env.OTHER, process.browser, typeof process, typeof global, global === globalThis, 'process.env.NODE_ENV']; }`,
    'esm.mjs': `export const tide = 4; export default 'main';`,
  });
  const program = await Program.serve(workspace.root);
  expect((await program.next('ready')).modules).toBe(3);
  const page = await (await browser.newContext()).newPage();
  await page.goto(program.url);
  await page.waitForFunction('window.said');
  expect(await page.evaluate('said.said')).toEqual([
    '{"default":"main","tide":4}',
    true,
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
