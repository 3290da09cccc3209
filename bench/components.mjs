// Starts with components of Vue and Svelte beside what their compilers alone take for them, whole processes, each time anew.
//
//   node bench/components.mjs [how many of each, 300] [runs, 3]
import { spawn, spawnSync } from 'node:child_process';
import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';

const root = fileURLToPath(new URL('..', import.meta.url));
const [count = 300, runs = 3] = process.argv
  .slice(2)
  .filter((arg) => /^\d+$/.test(arg))
  .map(Number);

const component = {
  vue: (n) => `<script setup lang="ts">
import { computed, ref } from 'vue';
const props = defineProps<{ at?: number }>();
const held = ref<number>(${n});
const label = computed(() => \`berth \${held.value} \${props.at ?? 0}\`);
function hold(by: number): void { held.value += by; }
</script>
<template>
  <section class="berth"><h2 :title="label">{{ label }}</h2>
    <ul><li v-for="row in 3" :key="row" :class="{ held: held > row }">{{ row * held }}</li></ul>
    <button v-if="held < 10" @click="hold(1)">hold</button><em v-else>full</em></section>
</template>
<style scoped>
.berth { margin-top: ${n}px; }
.berth li.held { color: rgb(${n % 255}, 2, 3); }
</style>
`,
  svelte: (n) => `<script lang="ts">
  let { at = 0 }: { at?: number } = $props();
  let held = $state<number>(${n});
  const label = $derived(\`berth \${held} \${at}\`);
  function hold(by: number): void { held += by; }
</script>
<section class="berth"><h2 title={label}>{label}</h2>
  <ul>{#each [1, 2, 3] as row (row)}<li class:held={held > row}>{row * held}</li>{/each}</ul>
  {#if held < 10}<button onclick={() => hold(1)}>hold</button>{:else}<em>full</em>{/if}</section>
<style>
.berth { margin-top: ${n}px; }
.berth li.held { color: rgb(${n % 255}, 2, 3); }
</style>
`,
};

/** What the compilers alone do for the same files. */
const alone = {
  vue(folder, require) {
    const { parse, compileScript, compileTemplate, compileStyle } = require('vue/compiler-sfc');
    for (const name of readdirSync(folder)) {
      const source = readFileSync(join(folder, name), 'utf8');
      const { descriptor } = parse(source, { filename: name, sourceMap: true });
      const { bindings } = compileScript(descriptor, { id: name, sourceMap: true });
      const { template, styles } = descriptor;
      compileTemplate({
        source: template.content,
        ast: template.ast,
        filename: name,
        id: name,
        scoped: true,
        inMap: template.map,
        compilerOptions: { bindingMetadata: bindings, scopeId: name, sourceMap: true, expressionPlugins: ['typescript'] },
      });
      for (const style of styles)
        compileStyle({ source: style.content, filename: name, id: name, scoped: true, inMap: style.map });
    }
  },
  svelte(folder, require) {
    const { compile } = require('svelte/compiler');
    for (const filename of readdirSync(folder))
      compile(readFileSync(join(folder, filename), 'utf8'), {
        filename,
        dev: true,
        hmr: true,
        css: 'external',
        generate: 'client',
      });
  },
};

const [, , mode, kind, folder] = process.argv;
if (mode === '--alone') alone[kind](folder, createRequire(join(root, 'package.json')));
else {
  for (const framework of ['vue', 'svelte']) await measure(framework);
}

async function measure(framework) {
  const folder = mkdtempSync(join(tmpdir(), 'vine-bench-'));
  mkdirSync(join(folder, 'src'));
  symlinkSync(join(root, 'node_modules'), join(folder, 'node_modules'));
  writeFileSync(join(folder, 'package.json'), `{ "name": "quay", "type": "module", "dependencies": { "${framework}": "*" } }`);
  writeFileSync(join(folder, 'index.html'), '<script type="module" src="main.js"></script>');
  const names = Array.from({ length: count }, (_, n) => `berth${n}.${framework}`);
  for (const [n, name] of names.entries()) writeFileSync(join(folder, 'src', name), component[framework](n));
  writeFileSync(
    join(folder, 'main.js'),
    names.map((name, n) => `import b${n} from './src/${name}'; console.log(b${n});`).join('\n'),
  );
  const times = { alone: [], first: [], again: [] };
  for (let run = 0; run < runs; run++) {
    const from = performance.now();
    spawnSync(process.execPath, [fileURLToPath(import.meta.url), '--alone', framework, join(folder, 'src')], {
      stdio: 'inherit',
    });
    times.alone.push(performance.now() - from);
    // Its own place for what is kept, so that the first start finds nothing.
    rmSync(join(root, 'node_modules/.cache/vine-spark'), { recursive: true, force: true });
    times.first.push(await start(folder));
    times.again.push(await start(folder));
  }
  const [base, first, again] = [times.alone, times.first, times.again].map((all) => all.sort((a, b) => a - b)[all.length >> 1]);
  const shown = (ms) => `${Math.round(ms)} ms (${(ms / base).toFixed(2)} times)`;
  console.log(
    `${count} components of ${framework}: compiler alone ${Math.round(base)} ms, first start ${shown(first)}, next start ${shown(again)}`,
  );
  rmSync(folder, { recursive: true });
}

/** From the start of the program to the last byte of the page's scripts. */
async function start(folder) {
  const from = performance.now();
  const child = spawn(process.execPath, [join(root, 'dist/cli/main.js'), 'serve', 'index.html', '--port', '0', '--json'], {
    cwd: folder,
  });
  const lines = createInterface({ input: child.stdout });
  const { url } = await new Promise((resolve) => {
    lines.on('line', (line) => {
      const event = JSON.parse(line);
      if (event.event === 'listening') resolve(event);
    });
  });
  const html = await (await fetch(url)).text();
  const scripts = [...html.matchAll(/(?:src)="([^"]*piece[^"]*)"/g)].map(([, path]) => new URL(path, url));
  for (const script of scripts) await (await fetch(script)).text();
  const ms = performance.now() - from;
  // What is kept is written when nothing else is going on.
  await new Promise((resolve) => setTimeout(resolve, 4000));
  const ended = new Promise((resolve) => child.once('exit', resolve));
  child.kill();
  await ended;
  return ms;
}
