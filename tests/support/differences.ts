import type { Browser } from 'playwright-core';
import { forFolder, outputOf, outputsInNode, programPage, recorder, serveNatively } from './native.js';
import { Program, runProgram } from './program.js';
import type { ProgramFiles } from './random-program.js';
import { isLong } from './sizes.js';
import { Workspace } from './workspace.js';

/** How many programs to a page, and what is done with them: served, or built with or without being made smaller. */
export interface Way {
  aPage?: number;
  how?: 'served' | 'built' | 'made smaller';
  /** More options for a build. */
  more?: readonly string[];
}

async function served(root: string): Promise<{ url: string; stop(): Promise<void> }> {
  const program = await Program.serve(root, []);
  return { url: program.url, stop: () => program.stop() };
}

async function built(
  root: string,
  how: 'built' | 'made smaller',
  more: readonly string[],
): Promise<{ url: string; stop(): Promise<void> }> {
  const { code, stdout, stderr } = await runProgram(root, [
    'build',
    '--no-cache',
    ...(how === 'built' ? ['--no-minify'] : []),
    ...more,
  ]);
  if (code !== 0) throw new Error(stdout + stderr);
  const { url, close } = await serveNatively(`${root}/dist`);
  return { url, stop: async () => close() };
}

/** Folders with programs, a few to a page, served natively and by us. */
export async function serveBoth(programs: Record<string, ProgramFiles>, { aPage = 10, how = 'served', more = [] }: Way = {}) {
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
  const workspace = Workspace.with(files, { packages: more.length > 0 });
  const native = await serveNatively(workspace.root);
  const ours = how === 'served' ? await served(workspace.root) : await built(workspace.root, how, more);
  const close = async () => {
    native.close();
    await ours.stop();
    workspace.dispose();
  };
  return { root: workspace.root, groups, native: native.url, ours: ours.url, close };
}

/** Runs all programs natively, here and in Node.js, and tells where what they say differs. Built ones are in Node.js in the long run. */
export async function differences(browser: Browser, programs: Record<string, ProgramFiles>, way: Way = {}): Promise<string[]> {
  const both = await serveBoth(programs, way);
  const isInNode = isLong || (way.how ?? 'served') === 'served';
  const waitingForNode = isInNode ? outputsInNode(both.root, Object.keys(programs)) : new Map<string, string[]>();
  const pages = await Promise.all([0, 1].map(async () => (await browser.newContext()).newPage()));
  const outputs: Record<string, Record<string, string[]>[]> = {};
  for (const [name, group] of Object.entries(both.groups)) {
    const urls = [`${both.native}${name}.html`, `${both.ours}${name}.html`];
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
