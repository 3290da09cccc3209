import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import { launchBrowser, openPage, type WatchedPage } from './browser.js';
import { Program, runProgram } from './program.js';
import { randomNumbers } from './random-program.js';
import { isLong, longTest } from './sizes.js';
import { Workspace } from './workspace.js';

const soakEdits = 100;

/** What a page shows: elements with their own text and some styles. What buttons say is state. */
const look = `[...document.querySelectorAll('#app *')].map((element) => {
  const computed = getComputedStyle(element);
  const text = element.tagName === 'BUTTON' ? '' : [...element.childNodes].filter((node) => node.nodeType === 3).map((node) => node.data.trim()).join('');
  const marks = element.getAttributeNames().filter((name) => name !== 'style').map((name) => name + '=' + element.getAttribute(name));
  return [element.tagName, ...marks.sort(), text, computed.color, computed.marginTop].join(' ');
}).join('\\n')`;

export const lookAt = (page: Page) => page.evaluate(look) as Promise<string>;

/** What all buttons of a page say. */
export const stateOf = (page: Page) => page.locator('button').allTextContents();

/** Clicks every button once. */
export async function clickAll(page: Page): Promise<void> {
  for (const button of await page.locator('button').all()) await button.click();
}

/** One save, and what it does to the page. */
export interface EditCase {
  what: string;
  /** File -> text before and after. */
  edit: Record<string, [before: string, after: string]>;
  /** Of what the buttons said after one click each, what they say then; `kept` for all of it. */
  state: 'kept' | string[];
  /** Modules that may run again; none for a change of styles only. */
  ran?: 'nothing';
  event?: 'applied' | 'reloaded';
  /** Components whose state the terminal says starts anew. */
  reset?: string[];
}

/** Files after an edit. */
export function edited(files: Record<string, string>, edit: EditCase['edit']): Record<string, string> {
  return Object.fromEntries(
    Object.entries(edit).map(([file, [before, after]]) => {
      const text = files[file] ?? '';
      if (!text.includes(before)) throw new Error(`${file} does not hold ${before}`);
      return [file, before === '' ? after : text.replace(before, () => after)];
    }),
  );
}

/** Serves files, saves one edit after another, and looks whether the page is what a fresh one is, with the state it should have. */
export function editTable(name: string, files: Record<string, string>, cases: readonly EditCase[]): void {
  describe(name, () => {
    let browser: Browser;
    let workspace: Workspace;
    let program: Program;
    let hot: WatchedPage;
    let fresh: WatchedPage;
    beforeAll(async () => {
      browser = await launchBrowser();
      workspace = Workspace.with(files, { packages: true });
      program = await Program.serve(workspace.root);
      [hot, fresh] = [await openPage(browser, program.url), await openPage(browser, 'about:blank')];
    });
    afterAll(async () => {
      await browser.close();
      await program.stop();
      workspace.dispose();
    });

    test.each(cases)('$what', async ({ edit, state, ran, event = 'applied', reset = [] }) => {
      hot.errors.length = 0;
      await hot.page.goto(program.url);
      const loads = hot.loads();
      await clickAll(hot.page);
      const before = await stateOf(hot.page);
      const change = edited(files, edit);
      const after = program.mark;
      workspace.write(change);
      const told = await program.next(event, { after });
      await fresh.page.goto(program.url);
      expect(await lookAt(hot.page)).toBe(await lookAt(fresh.page));
      expect(await stateOf(hot.page)).toEqual(state === 'kept' ? before : state);
      if (event === 'applied') expect(told.reset).toEqual(reset);
      if (ran === 'nothing') expect(told.ran).toEqual([]);
      expect(hot.loads()).toBe(event === 'applied' ? loads : loads + 1);
      expect(hot.errors).toEqual([]);
      // Back again: that is an edit too.
      const back = program.mark;
      workspace.write(Object.fromEntries(Object.keys(change).map((file) => [file, files[file]!])));
      await program.next(event, { after: back });
      if (!isLong) return;
      await fresh.page.goto(program.url);
      expect(await lookAt(hot.page)).toBe(await lookAt(fresh.page));
    });
  });
}

/** Makes and takes back random edits of a table, and looks after each whether the page is what a fresh one is. */
export function editSoak(name: string, files: Record<string, string>, cases: readonly EditCase[]): void {
  longTest(
    `${soakEdits} random edits ${name}: the page always equals a fresh one`,
    async () => {
      const random = randomNumbers(18);
      const browser = await launchBrowser();
      const workspace = Workspace.with(files, { packages: true });
      const program = await Program.serve(workspace.root);
      try {
        const [hot, fresh] = [await openPage(browser, program.url), await openPage(browser, 'about:blank')];
        const made = new Set<EditCase>();
        let current = files;
        const done: string[] = [];
        for (let n = 0; n < soakEdits; n++) {
          const one = cases[random(cases.length)]!;
          if (!made.delete(one)) made.add(one);
          let next = files;
          // What another edit took away can't be edited any more.
          for (const { edit } of made)
            if (Object.entries(edit).every(([file, [before]]) => next[file]!.includes(before)))
              next = { ...next, ...edited(next, edit) };
          const changed = Object.fromEntries(Object.entries(next).filter(([file, text]) => text !== current[file]));
          current = next;
          done.push(one.what);
          if (Object.keys(changed).length === 0) continue;
          const after = program.mark;
          workspace.write(changed);
          await Promise.race([program.next('applied', { after }), program.next('reloaded', { after })]);
          await fresh.page.goto(program.url);
          await hot.page.waitForLoadState('load');
          const [seen, shown] = [await lookAt(hot.page), await lookAt(fresh.page)];
          if (seen !== shown)
            throw new Error(
              `${done.join('\n')}\n${seen}\ninstead of\n${shown}\n${program.events
                .slice(after)
                .map((event) => JSON.stringify(event))
                .join('\n')}\n${hot.console.slice(-5).join('\n')}`,
            );
        }
        expect(hot.errors).toEqual([]);
      } finally {
        await browser.close();
        await program.stop();
        workspace.dispose();
      }
    },
    600_000,
  );
}

/** Opens the page of a project served, and then built, and looks each time. Returns the code of the build. */
export async function servedAndBuilt(
  browser: Browser,
  files: Record<string, string>,
  look: (page: Page) => Promise<void>,
): Promise<string> {
  const workspace = Workspace.with(files, { packages: true });
  try {
    const lookAtOne = async (args: string[]) => {
      const program = await Program.serve(workspace.root, args);
      const { page, errors } = await openPage(browser, program.url);
      await look(page);
      expect(errors).toEqual([]);
      await page.context().close();
      await program.stop();
    };
    await lookAtOne(['index.html']);
    const { code, stdout, stderr } = await runProgram(workspace.root, ['build', 'index.html', '--no-cache']);
    if (code !== 0) throw new Error(stdout + stderr);
    await lookAtOne(['--built']);
    const assets = workspace.path('dist/assets');
    const scripts = readdirSync(assets).filter((file) => file.endsWith('.js'));
    return scripts.map((file) => readFileSync(join(assets, file), 'utf8')).join('');
  } finally {
    workspace.dispose();
  }
}
