import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser } from '../support/browser.js';
import { deepChain, languageCases } from '../support/language-cases.js';
import { forFolder, outputOf, outputsInNode, programPage, recorder, serveNatively } from '../support/native.js';
import { Program } from '../support/program.js';
import { type ProgramFiles, randomProgram } from '../support/random-program.js';
import { restyle, styles } from '../support/restyle.js';
import { full } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

const seeds = Array.from({ length: Number(process.env.PROGRAMS ?? full(42, 500)) }, (_, index) => index + 1);

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

/** Folders with programs, a few to a page, served natively and by us. */
async function serveBoth(programs: Record<string, ProgramFiles>, aPage = 10) {
  const files: Record<string, string> = {
    'package.json': '{ "type": "module" }',
    'public/recorder.js': recorder,
    'recorder.js': recorder,
  };
  const folders = Object.keys(programs);
  const groups: Record<string, string[]> = {};
  for (let at = 0; at < folders.length; at += aPage) groups[`page${at}`] = folders.slice(at, at + aPage);
  for (const [name, group] of Object.entries(groups)) files[`${name}.html`] = programPage(group);
  for (const [folder, program] of Object.entries(programs)) {
    for (const [name, text] of Object.entries(program)) files[`${folder}/${name}`] = forFolder(text, folder);
  }
  const workspace = Workspace.with(files);
  const native = await serveNatively(workspace.root);
  const ours = await Program.serve(workspace.root, []);
  const close = async () => {
    native.close();
    await ours.stop();
    workspace.dispose();
  };
  return { root: workspace.root, groups, native: native.url, ours: ours.url, program: ours, close };
}

/** Runs all programs natively, here and in Node.js, and tells where what they say differs. */
async function differences(programs: Record<string, ProgramFiles>, aPage?: number): Promise<string[]> {
  const both = await serveBoth(programs, aPage);
  const waitingForNode = outputsInNode(both.root, Object.keys(programs));
  const pages = await Promise.all([0, 1].map(async () => (await browser.newContext()).newPage()));
  const outputs: Record<string, Record<string, string[]>[]> = {};
  for (const [name, group] of Object.entries(both.groups)) {
    const urls = [`${both.native}${name}.html`, `${both.ours}${name}`];
    outputs[name] = await Promise.all(urls.map((url, at) => outputOf(pages[at]!, url, group)));
  }
  const inNode = await waitingForNode;
  const different: string[] = [];
  for (const [name, group] of Object.entries(both.groups)) {
    const [natively, bundled] = outputs[name] as [Record<string, string[]>, Record<string, string[]>];
    for (const folder of group) {
      const ours = bundled[folder] ?? ['the page did not start'];
      if (ours.join() !== natively[folder]!.join()) different.push(`${folder}: ${firstDifference(natively[folder]!, ours)}`);
      // Node.js and browsers may start the second script at different times, so only what is said is compared here.
      const nodes = inNode.get(folder);
      if (nodes && nodes.toSorted().join() !== ours.toSorted().join())
        different.push(`${folder} in Node.js: ${firstDifference(nodes, ours)}`);
    }
  }
  await both.close();
  return different;
}

/** Where two outputs part. */
function firstDifference(expected: string[], actual: string[]): string {
  const at = expected.findIndex((line, index) => line !== actual[index]);
  return at === -1
    ? `more: ${actual.slice(expected.length, expected.length + 2).join(' | ')}`
    : `expected ${expected.slice(at, at + 2).join(' | ')}, got ${actual.slice(at, at + 2).join(' | ')}`;
}

test(`${seeds.length} random programs in ${styles.length} styles say the same here, natively in Chromium, and in Node.js`, async () => {
  const styled = (seed: number) => restyle(randomProgram(seed), styles[seed % styles.length]!, seed);
  expect(await differences(Object.fromEntries(seeds.map((seed) => [`p${seed}`, styled(seed)])))).toEqual([]);
}, 300_000);

test('a chain of 5,000 imports runs', async () => {
  const both = await serveBoth({ deep: deepChain });
  const page = await (await browser.newContext()).newPage();
  expect((await outputOf(page, `${both.ours}page0`, ['deep'])).deep).toEqual(['4999', '']);
  await both.close();
});

test('everything else the language allows', async () => {
  expect(await differences(languageCases, 1)).toEqual([]);
}, 120_000);
