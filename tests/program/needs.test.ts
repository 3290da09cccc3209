import { readFileSync } from 'node:fs';
import { expect, test } from '@jest/globals';
import { runProgram } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const installed = (name: string, version: string, more = {}) => ({
  [`node_modules/${name}/package.json`]: JSON.stringify({ name, version, main: 'index.js', ...more }),
  [`node_modules/${name}/index.js`]: 'module.exports = {};',
});

/** Prepared projects: what they hold beside a page, and what is to be found. */
const projects: [what: string, files: Record<string, string>, missing: Record<string, unknown>, unused: string[]][] = [
  [
    'nothing wrong',
    { 'package.json': '{ "dependencies": { "mast": "1" } }', 'main.ts': `import 'mast/deep.js';`, ...installed('mast', '1.0.0') },
    {},
    [],
  ],
  [
    'not there at all',
    {
      'package.json': '{}',
      'main.ts': `import mast from 'mast';\nimport '@deck/hull/x';`,
      'other.js': `const m = require('mast');`,
    },
    { mast: { files: ['main.ts', 'other.js'] }, '@deck/hull': { files: ['main.ts'] } },
    [],
  ],
  [
    'there by luck',
    {
      'package.json': '{ "dependencies": { "sail": "1" } }',
      'main.js': `import 'sail'; import 'rope';`,
      ...installed('sail', '1.0.0', { dependencies: { rope: '^2' } }),
      ...installed('rope', '2.3.4'),
    },
    { rope: { byLuck: { version: '2.3.4', bringers: ['sail'] }, fits: '^2.3.4' } },
    [],
  ],
  [
    'a range of peers',
    {
      'package.json': '{ "dependencies": { "sail": "1" } }',
      'main.js': `import 'sail'; import 'wind';`,
      ...installed('sail', '1.0.0', { peerDependencies: { wind: '^4.1.0' } }),
    },
    { wind: { fits: '^4.1.0' } },
    [],
  ],
  [
    'listed for nothing',
    {
      'package.json': '{ "dependencies": { "mast": "1", "@types/mast": "1" }, "devDependencies": { "@types/lost": "1" } }',
      'main.ts': `import type { A } from 'mast';`,
      ...installed('mast', '1.0.0'),
    },
    {},
    ['@types/lost'],
  ],
  [
    'named by scripts and settings',
    {
      'package.json':
        '{ "scripts": { "x": "hoist up && node-lint ." }, "devDependencies": { "hoister": "1", "node-lint": "1", "preset": "1", "plugin-a": "1", "idle": "1" } }',
      '.linterc.json': '{ "extends": ["preset"] }',
      'postcss.config.js': `export default { plugins: { 'plugin-a': {} } };`,
      ...installed('hoister', '1.0.0', { bin: { hoist: 'x.js' } }),
      ...installed('node-lint', '1.0.0'),
    },
    {},
    ['idle'],
  ],
  [
    'types only',
    {
      'package.json': '{ "devDependencies": { "@types/estree": "1", "typescript": "5" } }',
      'main.ts': `import type { Node } from 'estree';\nimport { type A } from 'lost-types';`,
    },
    { 'lost-types': {} },
    [],
  ],
  [
    'aliases, own names, Node.js, URLs',
    {
      'package.json': '{ "name": "quay" }',
      'tsconfig.json': '{ "compilerOptions": { "paths": { "@/*": ["./src/*"], "deck": ["./src/deck.ts"] } } }',
      'src/deck.ts': '',
      'main.ts': `import '@/deck'; import 'deck'; import 'quay'; import 'node:fs'; import 'fs'; import('https://x.example/a.js'); import './src/deck';`,
    },
    {},
    [],
  ],
  [
    'component files, sheets and pages',
    {
      'package.json': '{}',
      'a.vue': `<script setup lang="ts">import x from 'in-vue';</script><style lang="scss">@use 'in-sass/tokens.scss';</style>`,
      'b.svelte': `<script>import y from 'in-svelte';</script><p>{y}</p>`,
      'c.html': `<script type="module">import 'in-page';</script>`,
    },
    { 'in-vue': {}, 'in-sass': {}, 'in-svelte': {}, 'in-page': {} },
    [],
  ],
  [
    'tests only',
    { 'package.json': '{}', 'tests/a.test.ts': `import 'runner';`, 'build.config.js': `import 'maker';` },
    { runner: { isForDevelopment: true }, maker: { isForDevelopment: true } },
    [],
  ],
  [
    'folders of others',
    {
      'package.json': '{}',
      'public/vendor.js': `import 'vendored';`,
      'dist/out.js': `import 'built';`,
      'inner/package.json': '{ "name": "inner" }',
      'inner/x.js': `import 'inner-needs';`,
    },
    {},
    [],
  ],
];

test.each(projects)('needs finds exactly what is wrong: %s', async (_, files, missing, unused) => {
  const workspace = Workspace.with({ 'index.html': '<p>', ...files });
  const { code, stdout, stderr } = await runProgram(workspace.root, ['needs', '--json']);
  expect(stderr).toBe('');
  const found = JSON.parse(stdout);
  expect(Object.fromEntries(found.missing.map((one: { name: string }) => [one.name, one]))).toEqual(
    Object.fromEntries(
      Object.entries(missing).map(([name, more]) => [name, expect.objectContaining({ name, ...(more as object) })]),
    ),
  );
  expect([found.unused, found.unread]).toEqual([unused, []]);
  expect(code).toBe(Object.keys(missing).length + unused.length > 0 ? 1 : 0);
  workspace.dispose();
});

test('--install and --remove show their command and run it', async () => {
  const workspace = Workspace.with({
    'index.html': '<p>',
    'package.json': '{ "name": "quay", "dependencies": { "idle": "file:./idle" } }',
    'package-lock.json': '',
    'idle/package.json': '{ "name": "idle", "version": "1.0.0" }',
    'main.js': `import 'picocolors';`,
  });
  workspace.delete('package-lock.json');
  const { code, stdout } = await runProgram(workspace.root, ['needs', '--install', '--remove', '--yes']);
  expect(stdout).toContain('npm install --no-audit --no-fund picocolors\n');
  expect(stdout).toContain('npm uninstall --no-audit --no-fund idle\n');
  const { dependencies } = JSON.parse(readFileSync(workspace.path('package.json'), 'utf8'));
  expect([code, Object.keys(dependencies)]).toEqual([0, ['picocolors']]);
  workspace.dispose();
}, 120_000);
