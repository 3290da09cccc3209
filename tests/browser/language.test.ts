import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser } from '../support/browser.js';
import { differences, serveBoth } from '../support/differences.js';
import { chainLength, deepChain, languageCases } from '../support/language-cases.js';
import { outputOf } from '../support/native.js';
import { randomProgram } from '../support/random-program.js';
import { restyle, styles } from '../support/restyle.js';
import { full } from '../support/sizes.js';

const seeds = Array.from({ length: Number(process.env.PROGRAMS ?? full(3, 500)) }, (_, index) => index + 1);

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

test(`${seeds.length} random programs in ${styles.length} styles say the same here, natively in Chromium, and in Node.js`, async () => {
  const styled = (seed: number) => restyle(randomProgram(seed), styles[seed % styles.length]!, seed);
  expect(await differences(browser, Object.fromEntries(seeds.map((seed) => [`p${seed}`, styled(seed)])))).toEqual([]);
}, 900_000);

test(`a chain of ${chainLength} imports runs`, async () => {
  const both = await serveBoth({ deep: deepChain });
  const page = await (await browser.newContext()).newPage();
  expect((await outputOf(page, `${both.ours}page0`, ['deep'])).deep).toEqual([String(chainLength - 1), '']);
  await both.close();
});

test('everything else the language allows', async () => {
  expect(await differences(browser, languageCases, { aPage: 1 })).toEqual([]);
}, 120_000);
