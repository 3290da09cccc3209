import { existsSync, readFileSync } from 'node:fs';
import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { runProgram } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const files = {
  'index.html': '<script type="module" src="src/main.ts"></script><script type="module">import "./src/inline.ts";</script>',
  'src/main.ts': `import { a } from './a';\nimport 'mast';\nimport './page.css';\nimport type { T } from './types';\nconsole.log(a);\nvoid import('./late');\nexport const t: T = 1;\nimport { used } from './barrel';\nconsole.log(used);\n`,
  'src/inline.ts': `import './a';\n`,
  'src/a.ts': `import { b } from './b';\nexport const a = () => b;\n`,
  'src/b.ts': `import { c } from './c';\n\nimport { a } from './a';\nexport const b = () => [a, c];\n`,
  'src/c.ts': `import { b } from './b';\nexport const c = () => b;\n`,
  'src/barrel.ts': `export { used } from './used';\nexport { shaken } from './shaken';\n`,
  'src/used.ts': 'export const used = 1;\n',
  'src/shaken.ts': 'export const shaken = 1;\n',
  'src/types.ts': 'export type T = number;\n',
  'src/late.ts': `import hull from 'hull';\nconsole.log(hull);\n`,
  'src/page.css': '@import "./more.css";\n',
  'src/more.css': 'p { margin: 0; }\n',
  'src/idle.ts': 'export {};\n',
  'src/idle.test.ts': 'export {};\n',
  'node_modules/mast/package.json': '{ "name": "mast", "version": "1.0.0" }',
  'node_modules/mast/index.js': `require('hull');\n`,
  'node_modules/mast/node_modules/hull/package.json': '{ "name": "hull", "version": "1.5.0" }',
  'node_modules/mast/node_modules/hull/index.js': 'module.exports = 1;\n',
  'node_modules/hull/package.json': '{ "name": "hull", "version": "2.0.0" }',
  'node_modules/hull/index.js': 'module.exports = 2;\n',
};

let workspace: Workspace;
beforeAll(() => {
  workspace = Workspace.with(files);
});
afterAll(() => workspace.dispose());

async function ask(...args: string[]): Promise<{ code: number | null; stdout: string; found: any }> {
  const { code, stdout, stderr } = await runProgram(workspace.root, ['graph', ...args]);
  expect(stderr).toBe('');
  return { code, stdout, found: stdout.startsWith('{') ? JSON.parse(stdout) : undefined };
}

test('--why gives all shortest chains, with the lines of the imports', async () => {
  const { found } = await ask('--why', 'src/c.ts', '--json');
  expect(found.chains).toEqual([
    [
      { id: 'index.html' },
      { id: 'src/main.ts', kind: 'import', specifier: 'src/main.ts' },
      { id: 'src/a.ts', kind: 'import', specifier: './a', line: 1 },
      { id: 'src/b.ts', kind: 'import', specifier: './b', line: 1 },
      { id: 'src/c.ts', kind: 'import', specifier: './c', line: 1 },
    ],
    [
      { id: 'index.html' },
      { id: 'src/inline.ts', kind: 'import', specifier: './src/inline.ts' },
      expect.objectContaining({ id: 'src/a.ts' }),
      expect.objectContaining({ id: 'src/b.ts' }),
      expect.objectContaining({ id: 'src/c.ts' }),
    ],
  ]);
  const late = await ask('--why', 'hull', '--json');
  expect(late.found.chains.map((chain: { id: string }[]) => chain.map(({ id }) => id).join(' '))).toEqual([
    'index.html src/main.ts node_modules/mast/index.js node_modules/mast/node_modules/hull/index.js',
    'index.html src/main.ts src/late.ts node_modules/hull/index.js',
  ]);
});

test('--of, --cycles, --twice and --unused answer', async () => {
  const of = await ask('--of', 'b.ts', '--json');
  expect(of.found.modules).toEqual([
    {
      id: 'src/b.ts',
      direct: ['src/a.ts', 'src/c.ts'],
      all: ['index.html', 'src/a.ts', 'src/c.ts', 'src/inline.ts', 'src/main.ts'],
    },
  ]);
  const { code, found } = await ask('--cycles', '--json');
  expect([code, found.circles]).toEqual([
    1,
    [
      {
        members: ['src/a.ts', 'src/b.ts', 'src/c.ts'],
        way: expect.any(Array),
        left: 2,
        cut: expect.objectContaining({ line: expect.any(Number) }),
      },
    ],
  ]);
  const twice = await ask('--twice', '--json');
  expect(twice.found.twice).toEqual([
    {
      name: 'hull',
      copies: [
        { version: '2.0.0', folder: 'node_modules/hull', bytes: 20, by: ['src/late.ts'] },
        { version: '1.5.0', folder: 'node_modules/mast/node_modules/hull', bytes: 20, by: ['node_modules/mast/index.js'] },
      ],
    },
  ]);
  expect((await ask('--unused', '--json')).found).toEqual({ unused: [{ id: 'src/idle.ts', bytes: 11 }] });
});

test('the tree, the data, the picture and Graphviz hold the same modules', async () => {
  const { found } = await ask('--json');
  const ids = found.modules.map(({ id }: { id: string }) => id);
  expect(ids).toEqual(expect.arrayContaining(['index.html', 'src/late.ts', 'src/more.css', 'node_modules/mast/index.js']));
  expect(found.modules.find(({ id }: { id: string }) => id === 'src/late.ts').bytes).toBe(files['src/late.ts'].length);
  expect(ids.filter((id: string) => id.includes('?') || id.startsWith('/'))).toEqual([]);
  const tree = await ask();
  await ask('--html', 'graph.html');
  const texts = [tree.stdout, (await ask('--dot')).stdout, readFileSync(workspace.path('graph.html'), 'utf8')];
  for (const id of ids.filter((one: string) => !one.includes('node_modules')))
    for (const text of texts) expect(text).toContain(id);
  expect(texts[2]).not.toMatch(/(?:src|href)="(?!#)/);
});

test('--built answers of what a build leaves, and writes nothing', async () => {
  const [whole, built] = [await ask('--json'), await ask('--built', '--json')];
  const sizeIn = ({ found }: typeof whole, wanted: string) =>
    found.modules.find(({ id }: { id: string }) => id === wanted)?.bytes ?? 0;
  expect([sizeIn(whole, 'src/shaken.ts'), sizeIn(built, 'src/shaken.ts')]).toEqual([25, 0]);
  for (const id of ['src/late.ts', 'src/c.ts', 'node_modules/hull/index.js']) expect(sizeIn(built, id)).toBeGreaterThan(0);
  expect(sizeIn(built, 'src/b.ts')).toBeLessThan(sizeIn(whole, 'src/b.ts'));
  expect(existsSync(workspace.path('dist'))).toBe(false);
}, 60_000);

test('what is not there is said, with what was perhaps meant', async () => {
  const { code, stderr } = await runProgram(workspace.root, ['graph', '--why', 'src/mian.ts']);
  expect([code, stderr]).toEqual([1, expect.stringContaining("Did you mean 'src/main.ts'?")]);
});

test('what can not be read is said to lack', async () => {
  workspace.write({ 'src/c.ts': 'export const = 1;\n' });
  const { code, stdout, stderr } = await runProgram(workspace.root, ['graph', '--json']);
  workspace.write({ 'src/c.ts': files['src/c.ts'] });
  expect([code, stderr]).toEqual([0, expect.stringContaining('src/c.ts can not be read')]);
  expect(JSON.parse(stdout).modules.length).toBeGreaterThan(10);
});
