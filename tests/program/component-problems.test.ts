import { afterEach, expect, test } from '@jest/globals';
import { Program } from '../support/program.js';
import { longTest } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

let workspace: Workspace;
let program: Program;
afterEach(async () => {
  await program.stop();
  workspace.dispose();
});

/** What is wrong with modules that a page imports: for each file its code, place and message. */
async function problemsOf(files: Record<string, string>, packages = true): Promise<Record<string, string>> {
  const names = Object.keys(files).filter((file) => /\.(?:vue|svelte|svelte\.js)$/.test(file));
  const main = names.map((file) => `import './${file}';`).join('\n');
  workspace = Workspace.with(
    { 'index.html': '<script type="module" src="main.ts"></script>', 'main.ts': main, ...files },
    { packages },
  );
  program = await Program.serve(workspace.root);
  await program.next('problems');
  const told = program.events.filter(({ event }) => event === 'problems' || event === 'warning');
  const all = told.flatMap((event) => event.problems ?? [event.warning]);
  return Object.fromEntries(
    all.map(({ file, code, position, message, hint }) => [
      file,
      `${code} ${position ? `${position.line}:${position.column + 1} ` : ''}${message}${code === 'export-missing' ? ` ${hint}` : ''}`,
    ]),
  );
}

test('what compilers refuse is told at its place in the component', async () => {
  const told = await problemsOf({
    'open.vue': '<template>\n  <p>{{ berth }\n</template>\n',
    'tag.vue': '<template>\n  <div>\n    <p>\n  </div>\n</template>\n',
    'expression.vue': '<script setup>\nconst at = 1;\n</script>\n<template>\n  <p>{{ at + }}</p>\n</template>\n',
    'script.vue': '<template><p /></template>\n<script setup lang="ts">\nconst at: = 1;\n</script>\n',
    'export.vue': '<script setup>\nexport default {};\n</script>\n',
    'types.vue': `<script setup lang="ts">\nimport type { Lost } from './nowhere';\ndefineProps<Lost>();\n</script>\n`,
    'import.vue': `<template><p /></template>\n<script setup>\nimport { lost } from './nowhere.js';\nlost();\n</script>\n`,
    'image.vue': '<template>\n  <img src="./lost.png">\n</template>\n',
    'sass.vue': '<template><p /></template>\n<style lang="scss">\np {\n  color: $lost;\n}\n</style>\n',
    'css.vue': '<template><p /></template>\n<style>\np { color: red;\n</style>\n',
    'less.vue': '<template><p /></template>\n<style lang="less">p {}</style>\n',
    'nothing.vue': '<style>p {}</style>\n',
    'from.vue': '<template src="./lost.html"></template>\n',
    'open.svelte': '<p>{berth</p>\n',
    'rune.svelte': '<script>\n  let at = $state(0);\n  function f() { let b = $props(); }\n</script>\n',
    'sass.svelte': '<p>x</p>\n<style lang="scss">\np {\n  color: $lost;\n}\n</style>\n',
    'css.svelte': '<p>x</p>\n<style>\np { color }\n</style>\n',
    'module.svelte.js': 'export const at = $state(0;\n',
    'a11y.svelte': '<p>x</p>\n<img src="x.png">\n',
  });
  expect(told).toMatchSnapshot();
});

test('components without their framework say once what to install', async () => {
  const told = await problemsOf(
    { 'berth.vue': '<template><p /></template>', 'row.vue': '<template><p /></template>', 'quay.svelte': '<p />' },
    false,
  );
  expect(Object.values(told).sort()).toEqual([
    "compiler-missing Components of Svelte need the package 'svelte', which brings their compiler, and it is not installed.",
    "compiler-missing Components of Vue need the package 'vue', which brings their compiler, and it is not installed.",
  ]);
});

test('a framework that does not fit, or is half installed, is explained, and so are its settings', async () => {
  const told = await problemsOf(
    {
      'berth.vue': '<template><p /></template>',
      'node_modules/vue/package.json': '{ "name": "vue", "version": "2.7.16" }',
      'quay.svelte': '<p />',
      'node_modules/svelte/package.json': '{ "name": "svelte", "version": "5.1.0" }',
    },
    false,
  );
  expect(told['berth.vue']).toBe(
    `version-unfit Components of Vue need vue 3, and 2.7.16 is installed (${workspace.path('node_modules/vue')}).`,
  );
  expect(told['quay.svelte']).toMatch(/^compiler-missing The compiler of svelte 5\.1\.0 cannot be loaded: /);
});

test('settings of Svelte that cannot be run are named', async () => {
  const told = await problemsOf({ 'berth.svelte': '<p>x</p>', 'svelte.config.js': 'export default { lost };' });
  expect(told['berth.svelte']).toBe('settings-unreadable svelte.config.js cannot be used: lost is not defined.');
});

longTest('a type that a component of Svelte imports like a value is told with what to write', async () => {
  const told = await problemsOf({
    'berth.svelte': `<script lang="ts">\n  import { Berth } from './kit';\n  let { at }: Berth = $props();\n</script>\n{at}\n`,
    'quay.vue': `<script setup lang="ts">\nimport { Berth } from './kit';\ndefineProps<Berth>();\n</script>\n<template><p /></template>\n`,
    'kit.ts': `export { Berth } from './types';\n`,
    'types.ts': 'export interface Berth { at: number }\n',
  });
  expect(told).toEqual({
    'berth.svelte':
      "export-missing 2:12 kit.ts passes 'Berth' on from types.ts, which does not export it. If it is a type: import type { Berth }. It exports nothing.",
  });
});
