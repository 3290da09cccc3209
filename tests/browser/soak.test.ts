import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import { launchBrowser, openBuilt, openPage } from '../support/browser.js';
import { Program, runProgram } from '../support/program.js';
import { randomNumbers } from '../support/random-program.js';
import { full, isLong } from '../support/sizes.js';
import { editSoakApp, makeSoakApp, partsShown, soakFiles } from '../support/soak-app.js';
import { Workspace } from '../support/workspace.js';

const edits = Number(process.env.EDITS ?? full(3, 100));
const seeds = (process.env.SEEDS ?? (isLong ? '12,13,17,28' : '12')).split(',').map(Number);

/** What a page shows, without what a user did to it: its elements with their text and the styles they come to. */
const look = `(() => {
  const styles = ['color', 'borderLeftWidth', 'marginTop', 'paddingLeft', 'backgroundImage'];
  const rows = [document.body.className + ' ' + getComputedStyle(document.body).backgroundImage];
  for (const element of document.querySelectorAll('#app *')) {
    const computed = getComputedStyle(element);
    const own = element.tagName === 'BUTTON' ? '' : [...element.childNodes].filter((node) => node.nodeType === 3).map((node) => node.data).join('');
    rows.push(element.tagName + '.' + element.className + ' ' + (element.dataset.part ?? '') + ' ' + own + ' ' + styles.map((name) => computed[name]).join(' '));
  }
  return rows.join('\\n');
})()`;
/** The same with all computed styles, and without names that builds make: of classes and files. */
const wholeLook = `[...document.querySelectorAll('body, #app *')].map((element) => {
  const computed = getComputedStyle(element);
  const own = [...element.childNodes].filter((node) => node.nodeType === 3).map((node) => node.data).join('');
  const styles = [...computed].filter((name) => !name.startsWith('--')).map((name) => name + ':' + computed[name]).join(';');
  return [element.tagName, element.classList.length, own, styles.replace(/"[^"]*\\/([\\w]+?)(?:-[0-9a-f]{10})?(\\.\\w+)(?:\\?[^"]*)?"/g, '$1$2')].join(' ');
}).join('\\n')`;
const heldCounts = `Object.fromEntries([...document.querySelectorAll('[data-part]')].map((part) => [part.dataset.part, part.querySelector('button').textContent]))`;
const hasPanel = `document.querySelector('spark-panel') !== null`;

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

/** Two at a time: much of it is waiting, e.g. for React to show what was lazy. */
const pairs = Array.from({ length: Math.ceil(seeds.length / 2) }, (_, n) => seeds.slice(2 * n, 2 * n + 2));

test.each(pairs.map((pair) => [pair.join(' and '), pair] as const))(
  `${edits} random edits with seeds %s: the page always equals a fresh load, with the state it had`,
  async (_, pair) => {
    await Promise.all(pair.map(soak));
  },
  300_000,
);

async function soak(seed: number): Promise<void> {
  const random = randomNumbers(seed);
  const app = makeSoakApp(seed);
  let files = soakFiles(app);
  const workspace = Workspace.with(files, { packages: true });
  const program = await Program.serve(workspace.root);
  const hot = await openPage(browser, program.url);
  const { number } = await program.next('joined');
  const fresh = await (await browser.newContext()).newPage();
  let builds = 0;
  for (let n = 0; n < edits; n++) {
    await clickSomething(hot.page, random);
    const before = {
      held: await hot.page.evaluate(heldCounts),
      look: await hot.page.evaluate(look),
      loads: hot.loads(),
      broken: app.broken,
    };
    const edit = editSoakApp(app, random);
    const next = soakFiles(app);
    const after = program.mark;
    write(workspace, files, next);
    files = next;

    const what = `seed ${seed}, edit ${n}: ${edit.what}`;
    try {
      if (app.broken) {
        if (!before.broken) await program.next('problems', { after });
        await settles(() => hot.page.evaluate(hasPanel), true);
        expect(await hot.page.evaluate(look)).toBe(before.look);
        continue;
      }
      await sameAsFresh(hot.page, fresh, { program, parts: partsShown(app) });
      if (n >= 10 * builds + 2 && partsShown(app) > 0) {
        builds++;
        await sameWhenBuilt(fresh, workspace, partsShown(app));
      }
      if (partsShown(app) > 0) await settles(() => hot.page.evaluate(hasPanel), false);
      if (!edit.keepsState || before.broken) continue;
      expect(hot.loads()).toBe(before.loads);
      expect(await hot.page.evaluate(heldCounts)).toEqual(before.held);
    } catch (error) {
      const told = program.events
        .slice(after)
        .map((event) => JSON.stringify(event).slice(0, 400))
        .join('\n');
      throw new Error(`${what} (page ${number})\n${told}\n${hot.console.slice(-6).join('\n')}`, { cause: error });
    }
  }
  expect(builds).toBeGreaterThan(0);
  await program.stop();
  await hot.page.context().close();
  await fresh.context().close();
  workspace.dispose();
}

function write(workspace: Workspace, before: Record<string, string>, after: Record<string, string>): void {
  for (const [file, text] of Object.entries(after)) if (before[file] !== text) workspace.write({ [file]: text });
  for (const file of Object.keys(before)) if (!(file in after)) workspace.delete(file);
}

async function clickSomething(page: Page, random: (below: number) => number): Promise<void> {
  const place = random(40);
  await page.evaluate(
    `(() => { const all = document.querySelectorAll('#app button'); if (all.length) all[${place} % all.length].click(); })()`,
  );
}

/** Waits until the hot page and a freshly loaded one show the same; says how they differ if they don't come to. */
async function sameAsFresh(hot: Page, fresh: Page, { program, parts }: { program: Program; parts: number }): Promise<void> {
  const until = Date.now() + 4000;
  for (;;) {
    // It may be reloading by itself just now.
    while (!(await fresh.goto(program.url, { waitUntil: 'load' }).catch(() => undefined)));
    // An update may still be on its way to either, so they are looked at until they agree.
    for (let look = 0; look < 5; look++) {
      const [shown, seen] = [await lookAt(fresh, parts), await lookAt(hot, parts)];
      if (shown === seen) return;
      if (Date.now() > until) expect(seen.split('\n')).toEqual(shown.split('\n'));
    }
  }
}

/** Builds what a fresh page shows, and looks at that. */
async function sameWhenBuilt(fresh: Page, workspace: Workspace, parts: number): Promise<void> {
  const { code, stderr } = await runProgram(workspace.root, ['build', '--no-cache']);
  expect([code, stderr]).toEqual([0, '']);
  const { page, errors, close } = await openBuilt(browser, workspace.path('dist'));
  await lookAt(page, parts);
  const rows = async (of: Page) => String(await of.evaluate(wholeLook)).split(/[\n;]/);
  expect(await rows(page)).toEqual(await rows(fresh));
  expect(errors).toEqual([]);
  await close();
  workspace.delete('dist');
}

/** What a page shows once as many components are there as should be. */
async function lookAt(page: Page, parts: number): Promise<string> {
  const count = `document.querySelectorAll('[data-part]').length === ${parts}`;
  await page.waitForFunction(count, undefined, { timeout: 4000 }).catch(() => undefined);
  return String(await page.evaluate(`new Promise((done) => requestAnimationFrame(() => done(${look})))`).catch(() => ''));
}

async function settles(read: () => Promise<unknown>, wanted: unknown): Promise<void> {
  const until = Date.now() + 4000;
  while ((await read().catch(() => undefined)) !== wanted) if (Date.now() > until) throw new Error(`never ${String(wanted)}`);
}
