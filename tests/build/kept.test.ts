import { readdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { runProgram } from '../support/program.js';
import { isLong, longTest } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

/** What the last build came to is put in place again, as long as nothing that it was made of has changed. */

const gull = (name: string) => `<svg xmlns="http://www.w3.org/2000/svg" id="${name}" width="4" height="4"/>`;
const all = {
  'index.html': `<!doctype html><link rel="manifest" href="site.webmanifest"><link rel="stylesheet" href="src/page.scss">
    <img src="src/sign.svg"><img src="/gone.png"><a href="times.pdf">Times</a><script type="module" src="src/main.ts"></script>`,
  'site.webmanifest': '{ "icons": [{ "src": "src/icon.svg" }] }',
  'src/icon.svg': gull('icon'),
  'src/sign.svg': gull('sign'),
  'times.pdf': 'times',
  'public/robots.txt': 'all',
  'src/page.scss': `@use 'tones';\nbody { color: tones.$sea; background: url('gull.svg'); }\n`,
  'src/_tones.scss': '$sea: teal;\n',
  'src/gull.svg': gull('gull'),
  'src/main.ts': `import { tide } from './tide';\nimport { mast } from 'mast';\nexport class Quay { level = tide; }\ndocument.title = [new Quay().level, mast(), process.env.HARBOUR].join();\nvoid import('./later');\n`,
  'src/tide.ts': `export const tide: string = 'low';\n`,
  'src/later.ts': `export const later = 'later';\nconsole.log(later);\n`,
  'tsconfig.json': '{ "extends": "./base.json" }',
  'base.json': '{ "compilerOptions": { "target": "esnext" } }',
  '.env': 'HARBOUR=east',
  'vine-spark.config.json': '{ "expose": ["HARBOUR"] }',
  'node_modules/mast/package.json': '{ "name": "mast", "module": "one.js" }',
  'node_modules/mast/one.js': `export function mast() { return 'one'; }\nexport const spare = console.log('spare');\n//# sourceMappingURL=one.js.map\n`,
  'node_modules/mast/one.js.map':
    '{"version":3,"sources":["one.ts"],"sourcesContent":["export const mast = \'one\';"],"names":[],"mappings":"AAAA"}',
};

/** How what is in these was is not known for sure while they are new: nothing is kept before they have stood for a while. */
const young = ['src/_tones.scss', 'tsconfig.json', 'base.json', 'node_modules/mast/one.js.map'];
const files = isLong
  ? all
  : { ...Object.fromEntries(Object.entries(all).filter(([path]) => !young.includes(path))), 'src/page.scss': '' };

let workspace: Workspace;
beforeAll(() => {
  workspace = Workspace.with(files);
});
afterAll(() => workspace.dispose());

async function build(...args: string[]) {
  const { code, stdout, stderr } = await runProgram(workspace.root, ['build', '--json', ...args]);
  const { unchanged, manifest, warnings, notes, others, summary } = JSON.parse(stdout);
  expect([code, stderr]).toEqual([0, '']);
  return { unchanged, told: { manifest, warnings, notes, others, modules: summary.modules, packages: summary.packages } };
}

function written(folder = 'dist'): Record<string, string> {
  const entries = readdirSync(workspace.path(folder), { recursive: true, withFileTypes: true }).filter((entry) => entry.isFile());
  return Object.fromEntries(entries.map(({ parentPath, name }) => [name, readFileSync(join(parentPath, name), 'latin1')]));
}

/** Builds until nothing has changed: what was written a moment ago may be written again without a sign of it. */
async function settled() {
  for (let index = 0; index < 30; index++) {
    const last = await build();
    if (last.unchanged) return last.told;
  }
  throw new Error('no build was put in place again');
}

test('the same project comes to the same, with all that was told, whatever has become of the folder', async () => {
  const plain = await build('--no-cache');
  expect(plain.unchanged).toBe(false);
  const made = written();
  expect(plain.told.warnings).toEqual([expect.objectContaining({ code: 'file-missing' })]);
  const first = await settled();
  rmSync(workspace.path('dist'), { recursive: true });
  workspace.write(files);
  expect(await build()).toEqual({ unchanged: true, told: first });
  expect([written(), first]).toEqual([made, plain.told]);
});

const changes: Record<string, () => unknown> = {
  'a module': () => workspace.write({ 'src/tide.ts': `export const tide: string = 'ebb';\n` }),
  'what is behind an import()': () => workspace.write({ 'src/later.ts': `console.log('soon');\n` }),
  'the page': () => workspace.write({ 'index.html': all['index.html'].replace('Times', 'Hours') }),
  'a partial of a sheet': () => workspace.write({ 'src/_tones.scss': '$sea: navy;\n' }),
  'an image of a sheet': () => workspace.write({ 'src/gull.svg': gull('other') }),
  'an image of the page': () => workspace.write({ 'src/sign.svg': gull('post') }),
  'an icon that a manifest names': () => workspace.write({ 'src/icon.svg': gull('mark') }),
  'a linked file': () => workspace.write({ 'times.pdf': 'other times' }),
  'a file that was missing': () => workspace.write({ 'public/gone.png': 'found' }),
  'a file that is copied': () => workspace.write({ 'public/robots.txt': 'none' }),
  'a folder of such files': () => workspace.write({ 'public/more/tide.txt': 'high' }),
  'a file that is found first': () =>
    workspace.write({ 'src/node_modules/mast/index.js': `export const mast = () => 'nearer';\n` }),
  'a file that was found': () => workspace.delete('src/node_modules'),
  'what a package says of its modules': () =>
    workspace.write({ 'node_modules/mast/package.json': '{ "name": "mast", "module": "one.js", "sideEffects": false }' }),
  "a package's own map": () =>
    workspace.write({ 'node_modules/mast/one.js.map': all['node_modules/mast/one.js.map'].replace("'one'", "'eno'") }),
  'what tsconfig.json extends': () => workspace.write({ 'base.json': '{ "compilerOptions": { "target": "es2020" } }' }),
  'the environment': () => workspace.write({ '.env': 'HARBOUR=west' }),
  'the browsers that it is for': () => workspace.write({ '.browserslistrc': 'chrome 70' }),
  'the settings': () =>
    workspace.write({ 'vine-spark.config.json': '{ "expose": ["HARBOUR"], "output": { "integrity": true } }' }),
  'what is kept': () => {
    const cache = workspace.path('node_modules/.cache/vine-spark');
    for (const name of readdirSync(cache).filter((entry) => entry.startsWith('build-')))
      writeFileSync(join(cache, name, 'files.kept'), 'something else');
  },
};

const quick = new Set(['an icon that a manifest names', 'what is kept']);

test('what changed is in the next build', async () => {
  for (const [what, change] of Object.entries(changes).filter(([name]) => isLong || quick.has(name))) {
    await settled();
    change();
    expect([what, (await build()).unchanged]).toEqual([what, false]);
    if (!isLong && what !== 'what is kept') continue;
    await build('--no-cache', '--out', 'plain');
    expect([what, written()]).toEqual([what, written('plain')]);
    workspace.delete('plain');
  }
}, 240_000);

test('a folder that leads to sources now is refused', async () => {
  await settled();
  rmSync(workspace.path('dist'), { recursive: true });
  symlinkSync('src', workspace.path('dist'));
  const { code, stderr } = await runProgram(workspace.root, ['build']);
  expect([code, stderr]).toEqual([2, expect.stringContaining('output-refused')]);
  expect(readFileSync(workspace.path('src/tide.ts'), 'utf8')).toContain('tide');
}, 60_000);

longTest(
  'what settings of Svelte make of the environment is never that of another one',
  async () => {
    const quay = Workspace.with({
      'package.json': '{ "name": "quay", "dependencies": { "svelte": "5" } }',
      'index.html': '<script type="module" src="main.js"></script>',
      'main.js': `import Berth from './berth.svelte';\nconsole.log(Berth);\n`,
      'berth.svelte': '<p>TIDE</p>\n',
      'svelte.config.js': `export default { preprocess: [{ name: 'tide', markup: ({ content }) => ({ code: content.replace('TIDE', process.env.TIDE) }) }] };\n`,
    });
    quay.linkPackages(['svelte']);
    for (const tide of ['high', 'low']) {
      const { stdout } = await runProgram(quay.root, ['build', '--json'], { TIDE: tide });
      const { unchanged, manifest } = JSON.parse(stdout);
      const script = Object.keys(manifest.files).find((path) => /index-\w+\.js$/.test(path))!;
      expect([unchanged, readFileSync(quay.path(`dist/${script}`), 'utf8')]).toEqual([
        false,
        expect.stringContaining(`<p>${tide}`),
      ]);
    }
    quay.dispose();
  },
  30_000,
);
