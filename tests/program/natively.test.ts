import { expect, test } from '@jest/globals';
import type { Problem } from '../../src/core/problem/problem.js';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const page = '<!doctype html><script type="module" src="main.ts"></script>';

/** Serves files until all is read. */
async function served(
  files: Record<string, string | Buffer>,
  act: (program: Program, workspace: Workspace) => Promise<void>,
): Promise<void> {
  const workspace = Workspace.with({ 'index.html': page });
  workspace.write(files);
  const program = await Program.serve(workspace.root);
  try {
    await act(program, workspace);
  } finally {
    await program.stop();
    workspace.dispose();
  }
}

const piece = async ({ url }: Program) => (await fetch(new URL('~spark/piece/page/index.html/app.js', url))).text();

test.each<[what: string, files: Record<string, string>, problem: object]>([
  [
    'a broken package.json, not the sheets',
    {
      'main.ts': `import './quay.css';\nimport './berth.css';\n`,
      'quay.css': 'b { order: 1; }',
      'berth.css': 'b { order: 2; }',
      'package.json': '{ "name": "quay" ',
    },
    { code: 'settings-unreadable', file: 'package.json' },
  ],
  [
    'a broken PostCSS file, not the sheets',
    { 'main.ts': `import './quay.css';\n`, 'quay.css': 'b { order: 1; }', 'postcss.config.mjs': 'throw new Error("aground");' },
    { code: 'settings-unreadable', file: 'postcss.config.mjs', message: expect.stringContaining('aground') },
  ],
])('what is broken is told, not all that it concerns: %s', async (_, files, problem) => {
  await served(files, async (program) => {
    expect((await program.next('problems')).problems).toEqual([expect.objectContaining(problem)]);
  });
});

test('a name that is passed on is told where it is lacking further away, until it is there', async () => {
  const files = {
    'main.ts': `import { high } from './kit';\ndocument.title = high;\n`,
    'kit.ts': `export { high } from './tide';\n`,
    'tide.ts': `export * from './deep';\n`,
    'deep.ts': `export const high = 'high';\n`,
  };
  await served(files, async (program, workspace) => {
    await program.next('ready');
    const edits: [deep: string, told: string[]][] = [
      ['export const hgih = 1;\n', ['main.ts']],
      [`export { high } from './kit';\n`, ['deep.ts', 'kit.ts']],
    ];
    for (const [deep, told] of edits) {
      const after = program.mark;
      workspace.write({ 'deep.ts': deep });
      const { problems } = await program.next('problems', { after });
      expect(problems.map(({ code, file }: Problem) => `${code} ${file}`).sort()).toEqual(
        told.map((file) => `export-missing ${file}`),
      );
      workspace.write({ 'deep.ts': files['deep.ts'] });
      await program.next('solved', { after });
    }
  });
});

test('problems of what nothing names any more are not told, and those below what is broken are', async () => {
  const told = (program: Program, count: number) =>
    program.next('problems', { after: program.mark, where: ({ problems }) => problems.length === count });
  const files = { 'main.ts': `import { low } from './kit';\nlow();\n`, 'kit.ts': 'export const high = 4;\n' };
  await served({ ...files, 'tide.ts': 'export const tide = 4;\n' }, async (program, workspace) => {
    await program.next('problems', { where: ({ problems }) => problems[0].code === 'export-missing' });
    const later = told(program, 3);
    program.atOnce(() => {
      workspace.delete('kit.ts');
      workspace.write({
        'main.ts': `import './nowhere';\nimport './tide';\nimport './new';\n`,
        'tide.ts': 'let = ;\n',
        'new.ts': '{',
      });
    });
    expect((await later).problems.map(({ file, code }: Problem) => [file, code])).toEqual([
      ['new.ts', 'syntax-error'],
      ['tide.ts', 'syntax-error'],
      ['main.ts', 'import-unresolved'],
    ]);
    const alone = told(program, 1);
    program.atOnce(() => workspace.write({ 'yarn.lock': '', 'main.ts': `import 'kit';\n`, 'tide.ts': '', 'new.ts': '' }));
    expect((await alone).problems).toMatchObject([{ code: 'package-missing', hint: expect.stringContaining('yarn add kit') }]);
    // Packages in archives.
    const after = program.mark;
    program.atOnce(() => workspace.write({ '.pnp.cjs': '', 'main.ts': `import 'kits';\n` }));
    const archived = await program.next('problems', { after, where: ({ problems }) => problems[0].message.includes('kits') });
    expect(archived.problems[0].hint).toContain('nodeLinker: node-modules');
    workspace.write({ 'main.ts': `import './tide';\n` });
    await program.next('solved', { after: program.mark });
  });
});

test('what packages ask of Node.js and what may never be imported are warnings, and the page starts', async () => {
  await served(
    {
      'main.ts': `import { sail } from 'kit';\nexport const late = () => import('./gone.js');\nsail();\n`,
      'node_modules/kit/package.json': '{ "name": "kit", "type": "module", "main": "kit.js" }',
      'node_modules/kit/kit.js': `import fs, { readFile } from 'fs';\nimport { Readable } from 'node:stream';\nexport class Log extends Readable {}\nexport const sail = () => typeof fs.existsSync + typeof readFile;\n`,
    },
    async (program) => {
      const told = [
        await program.next('warning', { where: ({ warning }) => warning.file === 'main.ts' }),
        await program.next('warning', { where: ({ warning }) => warning.file !== 'main.ts' }),
      ];
      expect(told.map(({ warning }) => [warning.code, warning.severity])).toEqual([
        ['import-unresolved', 'warning'],
        ['builtin-in-browser', 'warning'],
      ]);
      expect(told[1]!.warning.chain).toEqual(['main.ts', 'node_modules/kit/kit.js']);
      expect(program.events.filter(({ event }) => event === 'problems')).toEqual([]);
      expect(await piece(program)).toContain("There is no file for './gone.js'");
    },
  );
});

test('constants replace names too, and never what a module calls so itself', async () => {
  await served(
    {
      'vine-spark.config.json': '{ "$schema": "x", "constants": { "VERSION": 7, "HARBOUR.name": "Saltmarsh" } }',
      'main.ts': `console.log(VERSION, { VERSION }, x.VERSION, HARBOUR.name, process.env.NODE_ENV);\nfunction own(VERSION: number, process: any) { return VERSION + process.env.NODE_ENV; }\nown(1, {});\ndeclare const VERSION: number, HARBOUR: { name: string }, x: any;\n`,
    },
    async (program) => {
      const text = await piece(program);
      expect(text).toMatch(/console\.log\(7\s*, \{ VERSION: 7\s*\}, x\.VERSION, "Saltmarsh"\s*, "development"\s*\)/);
      expect(text).toMatch(/return VERSION \+ process\.env\.NODE_ENV/);
    },
  );
});

test('what a page names in vain is told once, at its place, when it is asked for', async () => {
  const html =
    '<!doctype html>\n<script src="crane.js"></script>\n<img src="img/a%20gull.png">\n<script type="module" src="main.ts"></script>\n<link rel="prefetch" href="late.ts"><script>import("./late.ts")</script><img src="img/50%.png">';
  await served({ 'index.html': html, 'main.ts': '', 'late.ts': '' }, async (program) => {
    expect(program.events.find(({ event }) => event === 'ready')!.notes).toEqual([
      `a script of index.html that is no module imports './late.ts', and finds no modules; write <script type="module">`,
    ]);
    const ask = async (path: string) => (await fetch(new URL(path, program.url))).status;
    expect([
      await ask('crane.js'),
      await ask('other.js'),
      await ask('crane.js'),
      await ask('img/a%20gull.png'),
      await ask('late.ts'),
      await ask('img/50%.png'),
    ]).toEqual([404, 404, 404, 404, 404, 404]);
    await program.next('warning', { where: ({ warning }) => warning.message.includes('50%') });
    const told = program.events.filter(({ event }) => event === 'warning').map(({ warning }) => warning);
    expect(told).toMatchObject([
      { code: 'file-missing', severity: 'warning', file: 'index.html', position: { line: 2, column: 13 } },
      { message: "The page names 'img/a%20gull.png', but nothing is there.", position: { line: 3, column: 10 } },
      { message: expect.stringMatching(/'late\.ts', which is a source/), position: { line: 5 } },
      { message: "The page names 'img/50%.png', but nothing is there." },
    ]);
    expect(told).toHaveLength(4);
  });
});

test('a problem is told when it is new or has changed, not with every save', async () => {
  await served({ 'main.ts': 'let tide = ;\n' }, async (program, workspace) => {
    await program.next('problems');
    workspace.write({ 'harbour.log': 'one', 'notes.md': 'two' });
    workspace.write({ 'main.ts': 'let tide = ;\n// again\n' });
    workspace.write({ 'main.ts': 'let tide = 4;\n' });
    await program.next('solved');
    workspace.write({ 'main.ts': 'let berth = ;\n' });
    const told = () => program.events.filter(({ event }) => event === 'problems');
    while (!JSON.stringify(told()).includes('berth')) await program.next('problems', { after: program.mark });
    expect(told().length).toBeLessThanOrEqual(3);
  });
});

test('what is wrong in a module that nothing names any more is not told, though the one that named it is wrong too', async () => {
  const files = { 'main.ts': `import './quay';\n`, 'quay.ts': `import tide from './tide.css';\nalert(tide);\n`, 'tide.css': '' };
  await served(files, async (program, workspace) => {
    const { problems } = await program.next('problems');
    expect(problems).toMatchObject([{ file: 'quay.ts' }]);
    const after = program.mark;
    workspace.write({ 'main.ts': `import './gone';\n` });
    expect((await program.next('problems', { after })).problems).toMatchObject([{ file: 'main.ts' }]);
  });
});

test('a package in another version reloads the page; a tsconfig above the application counts, and what it extends', async () => {
  const workspace = Workspace.with({
    'package.json': '{ "name": "harbour", "workspaces": ["apps/*"] }',
    'tsconfig.base.json': '{ "compilerOptions": { "jsx": "react", "jsxFactory": "raise" } }',
    'tsconfig.json': '{ "extends": "./tsconfig.base.json" }',
    'apps/quay/package.json': '{ "name": "quay" }',
    'apps/quay/index.html': '<!doctype html><script type="module" src="main.tsx"></script>',
    'apps/quay/main.tsx': `import 'kit';\ndeclare const raise: any, hoist: any;\nconsole.log(<b/>, raise, hoist);\n`,
    'apps/quay/node_modules/kit/package.json': '{ "name": "kit", "version": "1.0.0", "main": "kit.js" }',
    'apps/quay/node_modules/kit/kit.js': 'exports.v = 1;\n',
  });
  const program = await Program.serve(workspace.path('apps/quay'));
  expect(await piece(program)).toContain('raise("b"');
  workspace.write({ 'tsconfig.base.json': '{ "compilerOptions": { "jsx": "react", "jsxFactory": "hoist" } }' });
  await program.next('update');
  expect(await piece(program)).toContain('hoist("b"');
  // What is installed before packages are watched would be the next start's: here it goes on being installed.
  const after = program.mark;
  const reloads = () => program.events.slice(after).filter(({ event, reload = [] }) => event === 'update' && reload.length > 0);
  for (let n = 0; reloads().length === 0; n++) {
    workspace.write({
      'apps/quay/node_modules/kit/kit.js': `exports.v = ${n};\n`,
      'apps/quay/node_modules/kit/package.json': `{ "name": "kit", "version": "2.0.${n}", "main": "kit.js" }`,
      'apps/quay/node_modules/.package-lock.json': `{ "n": ${n} }`,
    });
    await Promise.race([program.next('update', { after: program.mark }), new Promise((resolve) => setTimeout(resolve, 700))]);
  }
  expect(reloads()[0]!.reload).toEqual([
    { page: 'index.html', reason: expect.stringMatching(/^the package kit changed from 1\.0\.0 to 2\.0\.\d+$/) },
  ]);
  await program.stop();
  workspace.dispose();
});
