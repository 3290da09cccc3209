import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import { launchBrowser, openPage } from '../support/browser.js';
import { clickAll, type EditCase, edited, editSoak, editTable, servedAndBuilt } from '../support/components.js';
import { Program } from '../support/program.js';
import { isLong } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

const page = '<!doctype html><title>Quay</title><div id="app"></div><script type="module" src="src/main.ts"></script>';
const main = `import { createApp } from 'vue';\nimport Board from './board.vue';\ncreateApp(Board).mount('#app');\n`;
const package_ = '{ "name": "quay", "type": "module", "dependencies": { "vue": "*" } }';

/** One of everything that a component may hold. */
const features = {
  'package.json': package_,
  'index.html': page,
  'src/main.ts': main,
  'src/types.ts': `import type { Depth } from './depth';\nexport interface BerthProps extends Depth { name: string; kind?: 'quay' | 'buoy' }\n`,
  'src/depth.ts': 'export interface Depth { depth?: number }\n',
  'src/gull.svg': '<svg xmlns="http://www.w3.org/2000/svg" width="4" height="4"/>',
  'src/outer.css': '.outer { margin-top: 11px; }',
  'src/from.html': '<em class="from">{{ word }} from a file</em>',
  'src/from.ts': `export default { data: () => ({ word: 'words' }) };\n`,
  'src/from.vue':
    '<script src="./from.ts"></script>\n<template src="./from.html"></template>\n<style scoped src="./outer.css"></style>\n',
  'src/berth.vue': `<script lang="ts">
export enum Sign { Green = 'green' }
export const kinds = ['quay', 'buoy'];
</script>
<script setup lang="ts">
import { computed, ref } from 'vue';
import type { BerthProps } from './types';
const { name, depth = 3 } = defineProps<BerthProps>();
const emit = defineEmits<{ held: [count: number] }>();
const model = defineModel<string>({ default: 'empty' });
const label = computed(() => \`\${name}:\${depth}:\${Sign.Green}\`);
const ink = ref('rgb(4, 5, 6)');
defineExpose({ label });
</script>
<template>
  <p :class="[$style.row, sheet.wide]" @click="emit('held', (depth as number) + 1)">{{ label!.length }} {{ label }} {{ model satisfies string }}<slot name="end" :at="depth" /></p>
</template>
<script lang="ts">
</script>
<style module lang="scss">
$gap: 7px;
.row { margin-top: $gap; color: v-bind(ink); }
</style>
<style module="sheet">.wide { order: 1; }</style>
<notice>not ours</notice>
`.replace('<script lang="ts">\n</script>\n', ''),
  'src/tree.vue': `<script setup>defineOptions({ name: 'Tree' }); defineProps(['depth']);</script>
<template><ul><li>{{ depth }}<Tree v-if="depth > 0" :depth="depth - 1" /></li></ul></template>\n`,
  'src/list.vue': `<script setup lang="ts" generic="T extends { id: number }">
defineProps<{ rows: T[] }>();
</script>
<template><i v-for="row in rows" :key="row.id"><slot :row="row" /></i></template>\n`,
  'src/jsx.vue': `<script lang="tsx">
import { defineComponent, ref } from 'vue';
export default defineComponent({ setup() { const held = ref<number>(0); return () => <button onClick={() => held.value++}>jsx {held.value}</button>; } });
</script>\n`,
  'src/options.vue': `<script>
export default { props: { at: Number }, data() { return { held: 0 }; }, computed: { shown() { return 'options ' + this.at + ' ' + this.held; } } };
</script>
<template><button @click="held++">{{ shown }}</button></template>\n`,
  'src/late.vue': `<template><b class="late">late</b></template>\n<style scoped>.late { color: rgb(1, 1, 1); }</style>\n`,
  'src/board.vue': `<script setup lang="ts">
import { defineAsyncComponent, ref } from 'vue';
import Berth, { kinds } from './berth.vue';
import From from './from.vue';
import Jsx from './jsx.vue';
import List from './list.vue';
import Options from './options.vue';
import Tree from './tree.vue';
const Late = defineAsyncComponent(() => import('./late.vue'));
const word = ref('full');
</script>
<template>
  <Berth name="North" v-model="word" @held="(count) => (word = String(count))"><template #end="{ at }"> at {{ at }}</template></Berth>
  <From /><Jsx /><Options :at="2" /><Tree :depth="2" />
  <List :rows="[{ id: 1 }, { id: 2 }]" v-slot="{ row }">{{ row.id }}</List>
  <Suspense><Late /></Suspense>
  <img src="./gull.svg" srcset="./gull.svg 2x"><u>{{ kinds.join() }}</u>
</template>
<style>u { color: rgb(2, 2, 2); } :is(u) { background: url('./gull.svg'); }</style>
`,
};

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

test('everything that a component of Vue may hold works, served and built', async () => {
  const code = await servedAndBuilt(browser, features, async (page) => {
    await page.locator('.late').waitFor();
    await clickAll(page);
    await page.locator('p').click();
    const seen = await page.evaluate(`(() => {
      const text = (selector) => [...document.querySelectorAll(selector)].map((element) => element.textContent.trim()).join(' ');
      const style = (selector, name) => getComputedStyle(document.querySelector(selector))[name];
      return { p: text('p'), em: text('em'), button: text('button'), tree: text('ul > li'), list: text('i'), u: text('u'),
        styles: [style('p', 'color'), style('p', 'marginTop'), style('p', 'order'), style('.late', 'color'), style('u', 'color')],
        images: [style('u', 'backgroundImage').includes('svg'), document.querySelector('img').srcset.endsWith(' 2x'), document.querySelector('img').naturalWidth] };
    })()`);
    expect(seen).toEqual({
      p: '13 North:3:green 4 at 3',
      em: 'words from a file',
      button: 'jsx 1 options 2 1',
      tree: '210 10 0',
      list: '1 2',
      u: 'quay,buoy',
      styles: ['rgb(4, 5, 6)', '7px', '1', 'rgb(1, 1, 1)', 'rgb(2, 2, 2)'],
      images: [true, true, 4],
    });
  });
  // What only development needs is not in it.
  expect(
    ['__hmrId', '__VUE_HMR_RUNTIME__', '__VUE_OPTIONS_API__', '__VUE_PROD_DEVTOOLS__', '_file:"src'].filter((word) =>
      code.includes(word),
    ),
  ).toEqual([]);
}, 120_000);

const edits = {
  'package.json': package_,
  'index.html': page,
  'src/main.ts': main,
  'src/types.ts': 'export interface BerthProps { name: string }\n',
  'src/label.ts': `export const label = (name: string) => name;\n`,
  'src/berth.vue': `<script setup lang="ts">
import { ref } from 'vue';
import { label } from './label';
import type { BerthProps } from './types';
defineProps<BerthProps>();
const held = ref(0);
</script>
<template>
  <p><button @click="held++">{{ held }}</button> {{ label(name) }}</p>
</template>
<style scoped lang="scss">
$ink: rgb(1, 2, 3);
p { color: $ink; }
</style>
`,
  'src/board.vue': `<script setup>
import { ref } from 'vue';
import Berth from './berth.vue';
const count = ref(0);
const ink = ref('rgb(9, 9, 9)');
</script>
<template>
  <h1 :class="$style.title">Departures</h1><button @click="count++">{{ count }}</button>
  <Berth name="North" /><Berth name="South" />
</template>
<style module>
.title { margin-top: 3px; }
</style>
<style>h1 { color: v-bind(ink); }</style>
`,
};
const fresh = ['0', '0', '0'];

const cases: EditCase[] = [
  { what: 'of its template', edit: { 'src/berth.vue': ['label(name) }}', 'label(name) }} <i>quay</i>'] }, state: 'kept' },
  { what: 'of the template above others', edit: { 'src/board.vue': ['Departures', 'All <b>departures</b>'] }, state: 'kept' },
  { what: 'of its styles', edit: { 'src/berth.vue': ['rgb(1, 2, 3)', 'rgb(3, 2, 1)'] }, state: 'kept', ran: 'nothing' },
  {
    what: 'of styles without a scope',
    edit: { 'src/board.vue': ['h1 {', 'h1 { margin-top: 8px;'] },
    state: 'kept',
    ran: 'nothing',
  },
  {
    what: 'of the names of a CSS module',
    edit: { 'src/board.vue': ['.title {', '.other { order: 1 } .title {'] },
    state: 'kept',
  },
  {
    what: 'of a module that it uses',
    edit: { 'src/label.ts': ['=> name', '=> `${name}!`'] },
    state: ['1', '0', '0'],
    reset: ['berth with all in it'],
  },
  {
    what: 'of its script',
    edit: { 'src/berth.vue': ['ref(0)', 'ref(5)'] },
    state: ['1', '5', '5'],
    reset: ['berth with all in it'],
  },
  {
    what: 'of the types of its props',
    edit: { 'src/types.ts': ['name: string', 'name: string; at?: number'] },
    state: ['1', '0', '0'],
    reset: ['berth with all in it'],
  },
  {
    what: 'of a script above others',
    edit: { 'src/board.vue': ["'rgb(9, 9, 9)'", "'rgb(8, 8, 8)'"] },
    state: fresh,
    reset: ['board with all in it'],
  },
  {
    what: 'that adds a sheet',
    edit: { 'src/berth.vue': ['<style scoped', '<style>p { margin-top: 2px; }</style>\n<style scoped'] },
    state: 'kept',
  },
  {
    what: 'that takes a sheet away',
    edit: { 'src/board.vue': ['<style>h1 { color: v-bind(ink); }</style>', ''] },
    state: fresh,
    reset: ['board with all in it'],
  },
  {
    what: 'that puts blocks in another order',
    edit: {
      'src/berth.vue': [/<template>[\s\S]*<\/template>\n/.exec(edits['src/berth.vue'])![0], ''],
      'src/board.vue': ['<Berth name="North" /><Berth name="South" />', '<u />'],
    },
    state: ['1'],
    reset: ['berth with all in it'],
  },
  {
    what: 'that takes a scope away',
    edit: { 'src/berth.vue': ['<style scoped', '<style'] },
    state: ['1', '0', '0'],
    reset: ['berth with all in it'],
  },
  { what: 'that takes a component out', edit: { 'src/board.vue': ['<Berth name="South" />', ''] }, state: ['1', '1'] },
];
editTable('an edit of a component of Vue', edits, cases);
editSoak('of components of Vue', edits, cases);

/** Two pages behind a router, of which one comes later, and a store that both use. */
const application = {
  'package.json': package_,
  'index.html': page,
  'src/store.ts': `import { defineStore } from 'pinia';
export const useHarbour = defineStore('harbour', { state: () => ({ held: 0 }), actions: { hold() { this.held++; } } });\n`,
  'src/router.ts': `import { createRouter, createWebHistory } from 'vue-router';
import Board from './board.vue';
export const router = createRouter({ history: createWebHistory(import.meta.base), routes: [
  { path: '/', component: Board },
  { path: '/tides/:at', component: () => import('./tides.vue'), props: true },
] });\n`,
  'src/main.ts': `import { createPinia } from 'pinia';
import { createApp } from 'vue';
import App from './app.vue';
import { router } from './router';
createApp(App).use(createPinia()).use(router).mount('#app');\n`,
  'src/app.vue': `<template><nav><RouterLink id="home" to="/">Board</RouterLink> <RouterLink id="tides" to="/tides/4">Tides</RouterLink></nav><RouterView /></template>\n`,
  'src/board.vue': `<script setup lang="ts">
import { useHarbour } from './store';
const harbour = useHarbour();
</script>
<template><h1>Board</h1><button @click="harbour.hold()">{{ harbour.held }}</button></template>\n`,
  'src/tides.vue': `<script setup lang="ts">
import { ref } from 'vue';
import { useHarbour } from './store';
defineProps<{ at: string }>();
const harbour = useHarbour();
const seen = ref(0);
</script>
<template><h1>Tide {{ at }} held {{ harbour.held }}</h1><button @click="seen++">{{ seen }}</button></template>
<style scoped>h1 { color: rgb(6, 6, 6); }</style>\n`,
};

test('an application of Vue with a router, a store and a page that comes later: served, edited, built in the long run', async () => {
  const visit = async (page: Page) => {
    await page.click('button');
    await page.click('#tides');
    await page.locator('h1', { hasText: 'Tide 4 held 1' }).waitFor();
    expect(await page.evaluate(`getComputedStyle(document.querySelector('h1')).color`)).toBe('rgb(6, 6, 6)');
  };
  if (isLong)
    await servedAndBuilt(browser, application, async (page) => {
      await visit(page);
      await page.reload();
      await page.locator('h1', { hasText: 'Tide 4 held 0' }).waitFor();
    });
  const workspace = Workspace.with(application, { packages: true });
  const program = await Program.serve(workspace.root);
  const { page: hot } = await openPage(browser, program.url);
  await visit(hot);
  await hot.click('button');
  const after = program.mark;
  workspace.write(edited(application, { 'src/tides.vue': ['Tide {{', 'High tide {{'] }));
  await program.next('applied', { after });
  // The store, the page's own state and the place stay.
  expect(await hot.textContent('h1')).toBe('High tide 4 held 1');
  expect(await hot.textContent('button')).toBe('1');
  await program.stop();
  workspace.dispose();
}, 120_000);
