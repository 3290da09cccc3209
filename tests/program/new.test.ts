import { spawn } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program, runProgram } from '../support/program.js';
import { full } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

let browser: Browser;
let workspace: Workspace;
beforeAll(async () => {
  browser = await launchBrowser();
  workspace = Workspace.with({});
});
afterAll(async () => {
  await browser.close();
  workspace.dispose();
});

/** Gives a project the repository's packages and the program itself, as an install would. */
function withPackages(folder: string): void {
  const modules = join(folder, 'node_modules');
  mkdirSync(modules);
  for (const name of readdirSync(join(repository, 'node_modules')))
    symlinkSync(join(repository, 'node_modules', name), join(modules, name));
  symlinkSync(repository, join(modules, 'vine-spark'));
}

async function create(name: string, args: readonly string[]): Promise<{ folder: string; stdout: string }> {
  const { code, stdout, stderr } = await runProgram(workspace.root, ['new', name, ...args, '--no-install', '--yes']);
  if (code !== 0) throw new Error(stdout + stderr);
  const folder = workspace.path(name);
  if (!existsSync(join(folder, 'node_modules'))) withPackages(folder);
  return { folder, stdout };
}

/** What TypeScript says of a project. */
function typeErrors(folder: string): Promise<string> {
  return new Promise((resolve) => {
    const child = spawn(process.execPath, [join(repository, 'node_modules/typescript/bin/tsc'), '-p', '.'], { cwd: folder });
    let said = '';
    child.stdout.on('data', (data) => {
      said += data;
    });
    child.on('close', () => resolve(said));
  });
}

/** Words are written, the component is edited, and the words are still there. */
async function editKeepsWords(page: Page, program: Program, file: string, isKept: boolean): Promise<void> {
  await page.fill('input', 'gone fishing');
  const after = program.mark;
  const text = readFileSync(file, 'utf8');
  writeFileSync(file, text.replace(/Words that stay/, 'Words that remain'));
  await program.next(isKept ? 'applied' : 'reloaded', { after });
  await page.locator('label', { hasText: 'remain' }).waitFor();
  if (isKept) expect(await page.inputValue('input')).toBe('gone fishing');
}

/** Kinds of projects; those behind the first one belong to the long run. */
const projects: [kind: string, file: string, args: string[]][] = [
  ['page', 'src/main.ts', ['--typescript', '--backend', '--utility-css']],
  ['page', 'src/main.js', ['--no-typescript']],
  ['svelte', 'src/board.svelte', ['--typescript', '--backend', '--utility-css']],
  ['react', 'src/board.tsx', ['--typescript', '--backend', '--utility-css']],
  ['vue', 'src/board.vue', ['--typescript', '--backend']],
  ['svelte', 'src/board.svelte', ['--typescript', '--utility-css']],
  ['preact', 'src/board.tsx', ['--typescript']],
  ['react', 'src/board.jsx', ['--no-typescript']],
  ['vue', 'src/board.vue', ['--no-typescript', '--utility-css']],
  ['svelte', 'src/board.svelte', ['--no-typescript', '--backend']],
];

describe('a fresh project', () => {
  test.each(projects.slice(0, full(1, projects.length)))(
    '%s with %s %j is type-checked, served, edited and built',
    async (kind, file, args) => {
      const name = `harbour-${kind}${args.join('')}`;
      const { folder } = await create(name, ['--kind', kind, ...args]);
      if (args.includes('--typescript')) expect(await typeErrors(folder)).toBe('');
      const shown = kind === 'page' ? 'Harbour page' : `Harbour ${kind}`;
      const program = await Program.serve(folder, []);
      const { page, errors } = await openPage(browser, program.url);
      await page.locator('h1', { hasText: shown }).waitFor();
      if (args.includes('--backend')) await page.locator('p', { hasText: 'The harbour office is open' }).waitFor();
      if (args.includes('--utility-css'))
        expect(await page.evaluate(`getComputedStyle(document.querySelector('p')).marginTop`)).toBe('16px');
      await editKeepsWords(page, program, join(folder, file), kind !== 'page');
      expect(errors).toEqual([]);
      await page.context().close();
      await program.stop();
      const { code, stdout } = await runProgram(folder, ['build', '--no-cache']);
      expect([code, stdout]).toEqual([0, expect.any(String)]);
      const host = await Program.serve(folder, ['--built']);
      const built = await openPage(browser, host.url);
      await built.page.locator('h1', { hasText: shown }).waitFor();
      await built.page.context().close();
      await host.stop();
    },
    120_000,
  );

  test('without a network the files are there, and it says how to go on', async () => {
    workspace.write({ 'offline/.npmrc': 'registry=http://127.0.0.1:1/\nfetch-retries=0\n' });
    const { code, stdout } = await runProgram(workspace.root, ['new', 'offline', '--kind', 'vue', '--yes', '--into-full']);
    expect([code, stdout]).toEqual([
      1,
      expect.stringContaining('could not be installed; the files are there.\n    npm error code'),
    ]);
    expect(stdout).toContain('cd offline\n  npm install\n  npm run serve\n');
    expect(existsSync(workspace.path('offline/src/board.vue'))).toBe(true);
  }, 60_000);

  test('does not write where something is, and with --exact it has no ranges', async () => {
    writeFileSync(workspace.path('taken.txt'), 'mine');
    const full = await runProgram(workspace.root, ['new', '.', '--yes', '--no-install']);
    expect([full.code, full.stderr]).toEqual([2, expect.stringContaining('is not empty: it holds')]);
    expect(existsSync(workspace.path('index.html'))).toBe(false);
    const { folder } = await create('exact', ['--kind', 'vue', '--exact']);
    const { dependencies } = JSON.parse(readFileSync(join(folder, 'package.json'), 'utf8'));
    expect(dependencies.vue).toMatch(/^\d+\.\d+\.\d+$/);
    expect(readFileSync(join(folder, '.gitignore'), 'utf8')).toContain('node_modules/');
  });
});

/** Single files of different kinds, and what their page shows. */
const singles: [file: string, files: Record<string, string>, shown: string, standIns: string[]][] = [
  [
    'ui-card.tsx',
    {
      'ui-card.tsx': `import { Button } from '@/ui/button';\nimport { cn } from '@/lib/cn';\nimport gull from './gull.png';\nexport default function Card() { return <p className={cn('a', 'b')}><Button>press</Button><img src={gull} />{process.env.HARBOUR}</p>; }\n`,
    },
    'press',
    ['@/ui/button', '@/lib/cn', './gull.png', 'process.env.HARBOUR'],
  ],
  [
    'row.vue',
    {
      'row.vue': `<script setup lang="ts">\nimport { tide } from './model/tide';\ndefineProps<{ name: string; at: number }>();\n</script>\n<template><p>{{ name }} {{ at }} {{ tide }}</p></template>\n<style scoped lang="scss">p { b { color: red; } }</style>\n`,
      'model/tide.ts': `export const tide: string = 'low';\n`,
    },
    'Name 3 low',
    [],
  ],
  [
    'quay.svelte',
    {
      'quay.svelte': `<script lang="ts">\n  import Row from '$lib/row.svelte';\n  let { name }: { name: string } = $props();\n</script>\n<p>{name} <Row /></p>\n`,
    },
    'Name',
    ['$lib/row.svelte'],
  ],
  [
    'folder',
    {
      'folder/app.tsx': `import { Row } from './parts/row';\nexport default function App() { return <p><Row name="x" /></p>; }\n`,
      'folder/parts/row.tsx': `export const Row = ({ name }: { name: string }) => <b>row {name}</b>;\n`,
    },
    'row x',
    [],
  ],
  [
    'berth-card.tsx',
    {
      'berth-card.tsx': `interface Berth { name: string; depth: number }\nexport function BerthCard({ berth, open, kind }: { berth: Berth; open?: boolean; kind: 'quay' | 'buoy' }) { return <p>{berth.name} {berth.depth.toFixed(1)} {kind}</p>; }\n`,
    },
    'Name 3.0 quay',
    [],
  ],
  [
    'tide.jsx',
    {
      'tide.jsx': `import './tide.css';\nimport { Icon } from './icon';\nexport default function Tide({ at = 4 }) { return <p><Icon /> tide {at}</p>; }\n`,
      'tide.css': 'p { color: rgb(1, 2, 3); }',
      'icon.jsx': 'export const Icon = () => <i>icon</i>;',
    },
    'icon tide 4',
    [],
  ],
  ['legacy.svelte', { 'legacy.svelte': `<script>\n  export let at = 2;\n</script>\n<p>at {at}</p>\n` }, 'at 2', []],
  [
    'preact-card.jsx',
    {
      'preact-card.jsx': `import { useState } from 'preact/hooks';\nexport default function Card() { const [n] = useState(7); return <p class="a">{n}</p>; }\n`,
    },
    '7',
    [],
  ],
  [
    'index.html',
    {
      'index.html': `<!doctype html><title>x</title><link rel="stylesheet" href="style.css"><p>plain</p><script type="module" src="./go.js"></script>`,
      'style.css': 'p { color: rgb(1, 2, 3); }',
      'go.js': `document.querySelector('p').append(' page');`,
    },
    'plain page',
    [],
  ],
  [
    'clock.ts',
    { 'clock.ts': `const at: number = 5;\ndocument.querySelector('#app')!.innerHTML = '<p>clock ' + at + '</p>';\n` },
    'clock 5',
    [],
  ],
];

describe('a project around a file', () => {
  test.each(singles.slice(0, full(1, singles.length)))(
    '%s is shown',
    async (file, files, shown, standIns) => {
      const place = `from-${file.replace(/\W/g, '-')}`;
      workspace.write(Object.fromEntries(Object.entries(files).map(([path, text]) => [`${place}/${path}`, text])));
      const { folder, stdout } = await create(`grown-${place}`, ['--from', `${place}/${file}`]);
      for (const one of standIns) expect(stdout).toContain(one);
      if (standIns.length === 0) expect(stdout).not.toContain('stands in');
      if (existsSync(join(folder, 'tsconfig.json'))) expect(await typeErrors(folder)).toBe('');
      const program = await Program.serve(folder);
      const { page, errors } = await openPage(browser, program.url);
      await page.locator('p', { hasText: shown }).waitFor();
      expect(errors).toEqual([]);
      await page.context().close();
      await program.stop();
    },
    60_000,
  );

  test('what comes by standard input is recognised', async () => {
    const main = join(repository, 'dist/cli/main.js');
    const child = spawn(process.execPath, [main, 'new', 'piped', '--from', '-', '--no-install'], { cwd: workspace.root });
    child.stdin.end('<script setup>\nconst at = 5;\n</script>\n<template><p>{{ at }}</p></template>\n');
    await new Promise((resolve) => child.on('close', resolve));
    expect(readFileSync(workspace.path('piped/src/component.vue'), 'utf8')).toContain('const at = 5');
    expect(readFileSync(workspace.path('piped/src/main.js'), 'utf8')).toContain("from './component.vue'");
  });
});
