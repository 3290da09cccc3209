import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser, Frame, Page } from 'playwright-core';
import { Backend } from '../support/backend.js';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program, runProgram } from '../support/program.js';
import { full, isLong, longTest } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

const files = {
  'package.json': '{ "name": "quay", "type": "module", "dependencies": { "react": "*", "vue": "*", "svelte": "*" } }',
  'index.html': '<link rel="stylesheet" href="page.css"><script type="module" src="main.js"></script>',
  'main.js': `import './more.css';`,
  'page.css': 'p { color: rgb(1, 2, 3); }',
  'more.css': 'p { margin-top: 9px; }',
  'src/types.ts': 'export interface Berth { name: string; depth: number }\n',
  'src/card.tsx': `import { useState } from 'react';
import type { Berth } from './types';
interface CardProps { berth: Berth; status: 'open' | 'full'; held?: boolean; places: number; note?: string; onHold?: (count: number) => void }
export function Card({ berth, status, held, places, note, onHold }: CardProps) {
  const [count, setCount] = useState(0);
  return <p>{berth.name} {status} {held ? 'held' : 'free'} {places} {note} <button onClick={() => { setCount(count + 1); onHold?.(count); }}>{count}</button></p>;
}
export const Plain = () => <p>plain</p>;\n`,
  'src/card.samples.tsx': `import { Card } from './card';
export const full = { berth: { name: 'Skerry', depth: 6 }, status: 'full', places: 0 };
export const Drawn = () => <section>drawn <Card berth={{ name: 'Heron', depth: 2 }} status="open" places={9} /></section>;\n`,
  'src/tide.vue': `<script setup lang="ts">
import { ref } from 'vue';
defineProps<{ level: number; label?: string }>();
const count = ref(0);
</script>
<template><p>{{ label ?? 'Tide' }} {{ level }} <button @click="count++">{{ count }}</button></p></template>\n`,
  'src/row.svelte': `<script lang="ts">
  let { name, at = 4 }: { name: string; at?: number } = $props();
  let count = $state(0);
</script>
<p>{name} {at} <button onclick={() => count++}>{count}</button></p>\n`,
  'src/nothing.jsx': 'export const helper = 1;\n',
};

let browser: Browser;
let workspace: Workspace;
beforeAll(async () => {
  browser = await launchBrowser();
  workspace = Workspace.with(files, { packages: true });
});
afterAll(async () => {
  await browser.close();
  workspace.dispose();
});

/** The frame that shows the component. */
async function inner(page: Page): Promise<Frame> {
  const element = await page.waitForSelector('iframe');
  const frame = (await element.contentFrame())!;
  await frame.waitForSelector('p');
  return frame;
}

async function withPage(args: string[], query: string, work: (page: Page, program: Program) => Promise<void>): Promise<void> {
  const program = await Program.serve(workspace.root, args);
  const { page, errors } = await openPage(browser, program.url + query);
  try {
    await work(page, program);
    expect(errors).toEqual([]);
  } finally {
    await page.context().close();
    await program.stop();
    workspace.write(files);
  }
}

test('a component of React alone: props from the address and the panel, samples, widths, the styles of the page, state', async () => {
  await withPage(['src/card.tsx'], '?note=early', async (page, program) => {
    let frame = await inner(page);
    const text = async () => (await frame.textContent('p'))!.trim();
    const shows = (wanted: string) => frame.locator('p', { hasText: wanted }).first().waitFor();
    expect(await text()).toBe('Name open free 3 early 0');
    expect(
      await frame.evaluate(
        `getComputedStyle(document.querySelector('p')).color + getComputedStyle(document.querySelector('p')).marginTop`,
      ),
    ).toBe('rgb(1, 2, 3)9px');
    await frame.click('button');
    await page.fill('[name=places]', '7');
    await page.check('[name=held]');
    await page.selectOption('[name=status]', { label: 'full' });
    await page.fill('[name=berth]', '{ "name": "West" }');
    await shows('West full held 7 early 1');
    expect(new URL(page.url()).searchParams.get('places')).toBe('7');
    const after = program.mark;
    workspace.write({
      'src/card.tsx': files['src/card.tsx'].replace("'free'", "'is free'").replace('<p>{berth', '<p>Berth {berth'),
    });
    await program.next('applied', { after });
    await shows('Berth West full held 7 early 1');
    await page.click('text=phone');
    expect(await frame.evaluate('innerWidth')).toBeLessThan(400);
    await page.selectOption('select >> nth=0', 'full');
    await page.waitForURL(/sample=full/);
    frame = await inner(page);
    await shows('Skerry full is free 0');
    await page.selectOption('select >> nth=0', 'Drawn');
    await page.waitForURL(/sample=Drawn/);
    frame = await inner(page);
    await frame.locator('section', { hasText: 'drawn Berth Heron' }).waitFor();
  });
});

test.each(
  [
    ['Svelte', 'src/row.svelte', 'at', 'Name 8 1', 'Name 4 0'],
    ['Vue', 'src/tide.vue', 'level', 'Tide 8 1', 'Tide 3 0'],
  ].slice(0, full(1, 2)),
)('a component of %s alone keeps its state while its props change', async (_, file, prop, wanted, first) => {
  await withPage([file], '', async (page) => {
    const frame = await inner(page);
    expect((await frame.textContent('p'))!.trim()).toBe(first);
    await frame.click('button');
    await page.fill(`[name=${prop}]`, '8');
    await frame.locator('p', { hasText: wanted }).waitFor();
  });
});

longTest('--components lists them all with a look at each, and search', async () => {
  await withPage(['src', '--components'], '', async (page) => {
    await expect(page.locator('li b').allTextContents()).resolves.toEqual(['Card, Plain', 'Row', 'Tide']);
    const glances = await page.locator('iframe').all();
    for (const glance of glances) await glance.contentFrame().locator('p').first().waitFor();
    await page.fill('input', 'tide');
    expect(await page.locator('li:visible b').allTextContents()).toEqual(['Tide']);
    await page.click('li:visible a');
    expect((await (await inner(page)).textContent('p'))!.trim()).toBe('Tide 3 0');
  });
});

test('props that change are there without a restart', async () => {
  await withPage(['src/card.tsx'], '', async (page, program) => {
    await inner(page);
    workspace.write({
      'src/card.tsx': files['src/card.tsx']
        .replace('places: number;', 'places: number; draught: number;')
        .replace('held, places,', 'held, places, draught,')
        .replace('{places}', '{places} {draught} m'),
    });
    await page.fill('[name=draught]', '6');
    await page.frameLocator('iframe').locator('p', { hasText: '3 6 m' }).waitFor();
    // A type from another file.
    const after = program.mark;
    workspace.write({ 'src/types.ts': 'export interface Berth { name: string; depth: number; at: string }\n' });
    await program.next('update', {
      after,
      where: ({ reload }) => JSON.stringify(reload ?? '').includes('component.html changed'),
    });
    const { page: fresh } = await openPage(browser, program.url);
    expect(await fresh.inputValue('[name=berth]')).toContain('"at"');
    await fresh.context().close();
  });
});

longTest('components that come are there without a restart', async () => {
  await withPage(['src', '--components'], '', async (page, program) => {
    workspace.write({ 'src/late.tsx': 'export function Late() { return <p>late</p>; }\n' });
    await program.next('pages');
    await page.locator('li b', { hasText: 'Late' }).waitFor();
    workspace.delete('src/late.tsx');
  });
});

test('what a component alone asks for is answered by the backend, or by a recording of it in the long run', async () => {
  const backend = await Backend.start((_, response) => response.end('open at six'));
  const rule = ['src/hours.tsx', '--forward', `/api=${backend.origin}`];
  workspace.write({
    'src/hours.tsx': `import { useEffect, useState } from 'react';
export function Hours() {
  const [text, setText] = useState('');
  useEffect(() => { fetch('/api/hours').then((answer) => answer.text()).then(setText); }, []);
  return <p>hours: {text}</p>;
}\n`,
  });
  const shows = (page: Page) => page.frameLocator('iframe').locator('p', { hasText: 'open at six' }).waitFor();
  await withPage([...rule, '--record', 'hours.har'], '', shows);
  await backend.close();
  if (isLong) await withPage([...rule, '--replay', 'hours.har'], '', shows);
});

test('what is no component is said', async () => {
  const { code, stderr } = await runProgram(workspace.root, ['serve', 'src/nothing.jsx']);
  expect([code, stderr]).toEqual([2, expect.stringContaining('src/nothing.jsx exports no component. page-missing')]);
});
