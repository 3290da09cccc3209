import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser } from '../support/browser.js';
import { Debugger } from '../support/debugger.js';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const label = `export const label = (name: string): string => name;\nexport const hold = (held: number): number => held + 1;\n`;
const page = '<!doctype html><title>Quay</title><div id="app"></div><script type="module" src="src/main.ts"></script>';
const vue = {
  'package.json': '{ "name": "quay", "dependencies": { "vue": "*" } }',
  'index.html': page,
  'src/label.ts': label,
  'src/main.ts': `import { createApp } from 'vue';\nimport Berth from './berth.vue';\ncreateApp(Berth).mount('#app');\n`,
  'src/berth.vue': `<template>
  <h1>Berth</h1>
  <button @click="held = hold(held)">{{ held }} {{ twice }} {{ label(held.name) as string }}</button>
</template>

<script setup lang="ts">
import { computed, ref } from 'vue';
import { hold, label } from './label';
interface Unused { at: number }
const held = ref<number>(0);
const twice = computed((): number => {
  return hold(held.value) * 2;
});
</script>

<style scoped lang="scss">
$ink: rgb(1, 2, 3);
h1 {
  &:hover { color: $ink; }
}
</style>
`,
};
const svelte = {
  'package.json': '{ "name": "quay", "type": "module", "dependencies": { "svelte": "*" } }',
  'index.html': page,
  'src/label.ts': label,
  'src/main.ts': `import { mount } from 'svelte';\nimport Berth from './berth.svelte';\nmount(Berth, { target: document.querySelector('#app')! });\n`,
  'src/berth.svelte': `<script lang="ts">
  import { hold, label } from './label';
  interface Unused { at: number }
  let held = $state<number>(0);
  const twice = $derived.by((): number => {
    return hold(held) * 2;
  });
</script>

<h1>Berth</h1>
<button onclick={() => (held = hold(held))}>{held} {twice} {label(held.name) as string}</button>

<style lang="scss">
$ink: rgb(1, 2, 3);
h1 {
  &:hover { color: $ink; }
}
</style>
`,
};

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

test.each([
  ['Vue', vue, 'src/berth.vue', { 'label(held.name)': ['typeof $setup.label', 'function'] }],
  ['Svelte', svelte, 'src/berth.svelte', { 'label(held.name)': ['typeof label', 'function'] }],
] as const)(
  'breakpoints in a component of %s stop in template and script, where names evaluate',
  async (_, files, file, inTemplate) => {
    const workspace = Workspace.with(files, { packages: true });
    const program = await Program.serve(workspace.root);
    const page = await (await browser.newContext()).newPage();
    await page.goto(program.url);
    const tool = await Debugger.attach(page, new URL(program.url).origin);
    const lines = (files as Record<string, string>)[file]!.split('\n');
    const placeOf = (text: string) => {
      const line = lines.findIndex((content) => content.includes(text));
      return { source: `/${file}`, line: line + 1, column: lines[line]!.indexOf(text) };
    };
    const asked: [text: string, expression: string, value: unknown][] = [
      ['hold(held))', 'typeof held', 'object'],
      ['hold(held.value) * 2', 'typeof held', 'object'],
      ['hold(held) * 2', 'typeof held', 'object'],
      ['label(held.name)', ...inTemplate['label(held.name)']],
    ];
    for (const [text, expression, value] of asked) {
      if (!lines.some((line) => line.includes(text))) continue;
      const place = placeOf(text);
      await tool.breakAt(place);
      const click = page.click('button');
      const pause = await tool.nextPause();
      expect([text, pause.source, pause.line, pause.column]).toEqual([text, place.source, place.line, place.column]);
      expect(await tool.evaluate(pause, expression)).toBe(value);
      await tool.removeBreakpoints();
      await tool.resume();
      await click;
    }
    // The sheet leads to the line of its rule in the component.
    const sheet = await page.evaluate(
      `[...document.querySelectorAll('link[rel=stylesheet], style')].map((e) => e.href ?? e.textContent).join()`,
    );
    const css = /^http/.test(String(sheet)) ? await (await fetch(String(sheet))).text() : String(sheet);
    const mapUrl = new URL(/sourceMappingURL=(\S+)/.exec(css)![1]!, program.url);
    const { AnyMap, originalPositionFor } = await import('@jridgewell/trace-mapping');
    const raw = await (await fetch(mapUrl)).json();
    const at = css.slice(0, css.indexOf('color')).split('\n');
    const found = originalPositionFor(new AnyMap(raw), { line: at.length, column: at.at(-1)!.length });
    expect([found.source, found.line, found.column]).toEqual([
      `/${file}`,
      placeOf('&:hover').line,
      placeOf('color: $ink').column,
    ]);
    expect(raw.sourcesContent[raw.sources.indexOf(`/${file}`)]).toBe((files as Record<string, string>)[file]);
    await page.context().close();
    await program.stop();
    workspace.dispose();
  },
  30_000,
);
