import { readFileSync } from 'node:fs';
import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program, runProgram } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

let browser: Browser;
let workspace: Workspace;
let program: Program;
beforeAll(async () => {
  browser = await launchBrowser();
  workspace = Workspace.demo();
  program = new Program(workspace.root, ['demo', '.', '--port', '0', '--json']);
  await program.next('ready');
});
afterAll(async () => {
  await browser.close();
  await program.stop();
  workspace.dispose();
});

function edit(file: string, from: string, to: string): void {
  const text = readFileSync(workspace.path(file), 'utf8');
  expect(text).toContain(from);
  workspace.write({ [file]: text.replace(from, to) });
}

test('the departure board shows, filters, holds a departure, and keeps all that through edits', async () => {
  const { page, errors, loads } = await openPage(browser, program.url);
  await program.next('joined');
  await page.locator('.departure').first().waitFor();
  expect(await page.locator('.departure').count()).toBe(10);
  await page.click('text=Berth 4');
  expect(await page.locator('.departure').count()).toBe(2);
  await page.click('.departure >> nth=0');
  await page.fill('.hold input', 'waiting for the tide');
  await page.click('text=Hold departure');
  await page.locator('text=Held by you today: 1').waitFor();
  expect(await page.textContent('.detail-reason')).toBe('Held 10 min: waiting for the tide');

  const after = program.mark;
  edit('src/components/departure-row.tsx', '<td>{departure.vessel}</td>', '<td>MV {departure.vessel}</td>');
  const applied = await program.next('applied', { after });
  expect(applied.boundaries).toEqual(['src/components/departure-row.tsx']);
  expect(await page.textContent('.departure >> nth=0')).toContain('MV Sea Lavender');
  expect(await page.locator('.departure').count()).toBe(2);
  expect(await page.textContent('.detail-reason')).toContain('waiting for the tide');

  const before = program.mark;
  edit('src/styles/tokens.css', '--ember: #d9482b', '--ember: #0000ff');
  await program.next('applied', { after: before });
  expect(await page.evaluate("getComputedStyle(document.querySelector('.hold button')).backgroundColor")).toBe('rgb(0, 0, 255)');
  expect(loads()).toBe(1);
  expect(errors).toEqual([]);
});

test('built and served with its backend, the board looks and works as in development, with React in its production form', async () => {
  const [{ origin }] = (await program.next('ready')).forwards;
  const built = await runProgram(workspace.root, ['build', '--no-cache']);
  expect([built.code, built.stderr]).toEqual([0, '']);
  const host = await Program.serve(workspace.root, ['--built', '--forward', `/api=${origin}`]);
  const looks = async (url: string) => {
    const { page, errors } = await openPage(browser, url);
    await page.locator('.departure').first().waitFor();
    await page.click('text=Berth 4');
    await page.click('.departure >> nth=0');
    const look = `[...document.querySelectorAll('body *')].map((element) => { const { color, display, padding, font } = getComputedStyle(element); return [element.tagName, color, display, padding, font].join(); })`;
    const seen = [await page.locator('.departure').count(), await page.evaluate(look)];
    const isDevelopment = await page.evaluate('"~spark" in globalThis && Boolean(globalThis["~spark"].key)');
    await page.context().close();
    expect(errors).toEqual([]);
    return { seen, isDevelopment };
  };
  const [ours, theirs] = [await looks(program.url), await looks(host.url)];
  expect(theirs.seen).toEqual(ours.seen);
  expect([ours.isDevelopment, theirs.isDevelopment]).toEqual([true, false]);
  await host.stop();
}, 60_000);
