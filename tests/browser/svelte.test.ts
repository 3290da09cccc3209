import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser } from '../support/browser.js';
import { clickAll, type EditCase, editSoak, editTable, servedAndBuilt } from '../support/components.js';

const base = {
  'package.json': '{ "name": "quay", "type": "module", "dependencies": { "svelte": "*" } }',
  'index.html': '<!doctype html><title>Quay</title><div id="app"></div><script type="module" src="src/main.ts"></script>',
  'src/main.ts': `import { mount } from 'svelte';\nimport Board from './board.svelte';\nmount(Board, { target: document.querySelector('#app')! });\n`,
};

/** One of everything that a component may hold. */
const features = {
  ...base,
  'svelte.config.js': `export default { preprocess: [{ name: 'words', markup: ({ content }) => ({ code: content.replace('WORD', 'words') }) }] };\n`,
  'src/tide.svelte.ts': `enum Kind { Low = 'low' }
class Tide { level = $state<number>(3); kind: Kind = Kind.Low; rise(): void { this.level++; } }
export const tide = new Tide();\n`,
  'src/plain.svelte.js': `export function counter() { let held = $state(1); return { get held() { return held; }, hold() { held++; } }; }\n`,
  'src/store.ts': `import { derived, writable } from 'svelte/store';\nexport const berths = writable(4);\n`,
  'src/legacy.svelte': `<script>
  export let at = 1;
  let held = 0;
  $: twice = held * 2;
</script>
<button on:click={() => held++}>legacy {at} {held} {twice}</button>\n`,
  'src/enums.svelte': `<script lang="ts">
  enum Sign { Green = 'green' }
  let { name }: { name: string } = $props();
  const sign: Sign = Sign.Green;
</script>
<em>{(name as string).toUpperCase()} {sign} WORD</em>\n`,
  'src/row.svelte': `<script module lang="ts">
  export const kinds: string[] = ['quay', 'buoy'];
</script>
<script lang="ts">
  import type { Snippet } from 'svelte';
  let { name, value = $bindable(0), end }: { name: string; value?: number; end?: Snippet<[number]> } = $props();
  const label = $derived(\`\${name}:\${value}\`);
</script>
<p class="row" class:wide={value > 0}>{label} {@render end?.(value)}<input type="number" bind:value /></p>
<style lang="scss">
  $gap: 7px;
  .row { margin-top: $gap; color: rgb(4, 5, 6); :global(b) { color: rgb(7, 7, 7); } &.wide { order: 1; } }
</style>\n`,
  'src/late.svelte': `<b class="late">late</b>\n<style>.late { color: rgb(1, 1, 1); }</style>\n`,
  'src/board.svelte': `<script lang="ts">
  import { counter } from './plain.svelte.js';
  import Enums from './enums.svelte';
  import Legacy from './legacy.svelte';
  import Row, { kinds } from './row.svelte';
  import { berths } from './store';
  import { tide } from './tide.svelte.ts';
  const plain = counter();
  let value = $state(2);
</script>
{#snippet end(at: number)}<b>at {at}</b>{/snippet}
<Row name="North" bind:value {end} />
<button onclick={() => { value++; tide.rise(); plain.hold(); $berths += 1; }}>{value} {tide.level} {tide.kind} {plain.held} {$berths}</button>
<Legacy at={2} /><Enums name="quay" />
<u>{kinds.join()}</u>
{#await import('./late.svelte') then { default: Late }}<Late />{/await}\n`,
};

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

test('everything that a component of Svelte may hold works, served and built', async () => {
  const code = await servedAndBuilt(browser, features, async (page) => {
    await page.locator('.late').waitFor();
    await clickAll(page);
    const seen = await page.evaluate(`(() => {
      const text = (selector) => [...document.querySelectorAll(selector)].map((element) => element.textContent.trim()).join(' ');
      const style = (selector, name) => getComputedStyle(document.querySelector(selector))[name];
      return { p: text('p'), button: text('button'), em: text('em'), u: text('u'),
        styles: [style('p', 'color'), style('p', 'marginTop'), style('p', 'order'), style('p b', 'color'), style('.late', 'color')] };
    })()`);
    expect(seen).toEqual({
      p: 'North:3 at 3',
      button: '3 4 low 2 5 legacy 2 1 2',
      em: 'QUAY green words',
      u: 'quay,buoy',
      styles: ['rgb(4, 5, 6)', '7px', '1', 'rgb(7, 7, 7)', 'rgb(1, 1, 1)'],
    });
  });
  expect(['add_locations', 'vine-spark.svelte', 'check_target'].filter((word) => code.includes(word))).toEqual([]);
}, 120_000);

const edits = {
  ...base,
  'src/label.ts': `export const label = (name: string) => name;\n`,
  'src/berth.svelte': `<script lang="ts">
  import { label } from './label';
  let { name, list = [] }: { name: string; list?: number[] } = $props();
  let held = $state(0);
  let rows = $state([1]);
  $effect(() => { if (held > 90) rows.push(held); });
</script>
<p><button onclick={() => { held++; rows.push(held); }}>{held} {rows.length}</button> {label(name)} {list.length}</p>
<style lang="scss">
  $ink: rgb(1, 2, 3);
  p { color: $ink; }
</style>\n`,
  'src/board.svelte': `<script>
  import { derived, writable } from 'svelte/store';
  import Berth from './berth.svelte';
  let count = $state(0);
  const high = writable(0);
  const shown = derived(high, (value) => String(value));
  const names = ['North', 'South'];
</script>
<h1>Departures</h1><button onclick={() => { count++; high.update((last) => last + 1); }}>{$shown}</button>
{#each names as name (name)}<Berth {name} list={[count]} />{/each}
{#if names.length > 0}<Berth name="East" />{/if}
<style>h1 { margin-top: 3px; }</style>\n`,
};

const cases: EditCase[] = [
  { what: 'of its template', edit: { 'src/berth.svelte': ['{label(name)}', '{label(name)} <i>quay</i>'] }, state: 'kept' },
  { what: 'of the template above others', edit: { 'src/board.svelte': ['Departures', 'All <b>departures</b>'] }, state: 'kept' },
  { what: 'of its styles', edit: { 'src/berth.svelte': ['rgb(1, 2, 3)', 'rgb(3, 2, 1)'] }, state: 'kept', ran: 'nothing' },
  { what: 'of a module that it uses', edit: { 'src/label.ts': ['=> name', '=> `${name}!`'] }, state: 'kept' },
  {
    what: 'of its script',
    edit: { 'src/berth.svelte': ['$state(0)', '$state(5)'] },
    state: ['1', '5 1', '5 1', '5 1'],
    reset: ['berth'],
  },
  {
    what: 'of the script above others',
    edit: { 'src/board.svelte': ["'South'", "'West'"] },
    state: ['0', '0 1', '0 1', '1 2'],
    reset: ['board', 'berth'],
  },
  {
    what: 'that adds a sheet',
    edit: { 'src/board.svelte': ['<style>h1 {', '<style>button { margin-top: 1px; } h1 {'] },
    state: 'kept',
  },
  {
    what: 'that takes the sheet away',
    edit: { 'src/berth.svelte': [/<style[\s\S]*<\/style>/.exec(edits['src/berth.svelte'])![0], ''] },
    state: 'kept',
  },
  {
    what: 'that takes a component out',
    edit: { 'src/board.svelte': ['{#each names as name (name)}', '{#each names.slice(1) as name (name)}'] },
    state: ['1', '1 2', '1 2'],
  },
];
editTable('an edit of a component of Svelte', edits, cases);
editSoak('of components of Svelte', edits, cases);

const holding = {
  ...base,
  'src/label.ts': `export const label = 'low';\n`,
  'src/board.svelte': `<script>
  import { label } from './label';
  const shown = \`tide \${label}\`;
  const held = new Map();
  const { at } = { at: { seen: new Set() } };
  let count = $state(0);
</script>
<h1>{shown}</h1><button onclick={() => { count++; held.set(count, 1); at.seen.add(1); }}>{count}</button>\n`,
};
editTable('state of a component of Svelte that cannot be taken over is named', holding, [
  {
    what: 'by an edit of the template',
    edit: { 'src/board.svelte': ['<h1>{shown}', '<h1>The {shown}'] },
    state: 'kept',
    reset: ['board (held)', 'board ({ at })'],
  },
  {
    what: 'and what comes from other modules is made anew',
    edit: { 'src/label.ts': [`'low'`, `'high'`] },
    state: 'kept',
    reset: ['board (shown)', 'board (held)', 'board ({ at })'],
  },
]);
