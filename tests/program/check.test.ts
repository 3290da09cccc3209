import { renameSync, symlinkSync } from 'node:fs';
import { createServer } from 'node:net';
import { join } from 'node:path';
import { afterEach, expect, test } from '@jest/globals';
import { checkCase, checkWatchLimit } from '../../src/check/surroundings.js';
import { versionWarnings } from '../../src/check/versions.js';
import { projectOptions } from '../../src/cli/compose.js';
import { quietListener } from '../../src/cli/quiet-listener.js';
import { noTrace } from '../../src/core/trace.js';
import { ProjectGraph } from '../../src/project/project-graph.js';
import { effectiveSettings } from '../../src/settings/effective.js';
import { Program, runProgram } from '../support/program.js';
import { isLong } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

let workspace: Workspace;
afterEach(() => workspace.dispose());

const installed = (name: string, more: object = {}, code = 'export const it = 1;\n') => ({
  [`node_modules/${name}/package.json`]: JSON.stringify({ name, version: '2.1.0', main: 'index.js', type: 'module', ...more }),
  [`node_modules/${name}/index.js`]: code,
});
const project = (more: object = {}) => JSON.stringify({ name: 'quay', dependencies: { pier: '^2.0.0' }, ...more });
const sound = {
  'index.html': '<!doctype html><script type="module" src="main.ts"></script>',
  'main.ts': `import { it } from 'pier';\ndocument.title = String(it);\n`,
  'package.json': project(),
  'package-lock.json': JSON.stringify({ packages: { '': { dependencies: { pier: '^2.0.0' } } } }),
  ...installed('pier'),
};
const settings = (value: object) => ({ 'vine-spark.config.json': JSON.stringify({ listen: { port: 0 }, ...value }) });

/** What is broken, the files that break it, and the code and sentence that it gets. */
const broken: [what: string, files: Record<string, string>, found: [string, RegExp][]][] = [
  ['nothing', {}, []],
  ['an import of nothing', { 'main.ts': `import 'pier';\nimport './gone';\n` }, [['import-unresolved', /'\.\/gone'/]]],
  ['a missing package', { 'main.ts': `import 'pier';\nimport 'mole';\n` }, [['package-missing', /mole/]]],
  [
    'one that was never installed',
    { 'package.json': project({ devDependencies: { mole: '1' } }), 'package-lock.json': '{}' },
    [['package-missing', /mole stands in package\.json and is not installed/]],
  ],
  [
    'a package that nothing uses',
    { 'package.json': project({ dependencies: { pier: '^2.0.0', rope: '*' } }), 'package-lock.json': '{}', ...installed('rope') },
    [['package-unused', /rope/]],
  ],
  [
    'a version that package.json does not want',
    { 'package.json': project({ dependencies: { pier: '^3.0.0' } }), 'package-lock.json': '{}' },
    [['version-unfit', /wants pier \^3\.0\.0, and 2\.1\.0 is installed/]],
  ],
  [
    'a peer that does not fit',
    {
      ...installed('pier', { peerDependencies: { rope: '^1.0.0' } }),
      ...installed('rope'),
      'package.json': project({ dependencies: { pier: '^2.0.0', rope: '^2.0.0' } }),
      'package-lock.json': '{}',
    },
    [['version-unfit', /pier wants rope \^1\.0\.0 beside it, and 2\.1\.0 is installed/]],
  ],
  [
    'a Node.js that is too old',
    { 'package.json': project({ engines: { node: '>=99' } }) },
    [['version-unfit', /quay wants Node\.js >=99/]],
  ],
  [
    'a lock file of another package.json',
    { 'package-lock.json': JSON.stringify({ packages: { '': { dependencies: { pier: '^1.0.0' } } } }) },
    [['lock-differs', /about pier/]],
  ],
  [
    'two copies of a framework',
    {
      ...installed('pier', {}, `import 'react';\nexport const it = 1;\n`),
      ...installed('react'),
      'node_modules/pier/node_modules/react/package.json': '{ "name": "react", "version": "1.0.0", "main": "index.js" }',
      'node_modules/pier/node_modules/react/index.js': '',
      'main.ts': `import 'react';\nimport 'pier';\n`,
      'package.json': project({ dependencies: { pier: '*', react: '*' } }),
      'package-lock.json': '{}',
    },
    [['package-twice', /react is there 2 times: .*2\.1\.0 for main\.ts|1\.0\.0 for node_modules\/pier/]],
  ],
  [
    'an origin in a source',
    { 'main.ts': `import 'pier';\nfetch('http://localhost:8464/api');\n` },
    [['direct-origin', /http:\/\/localhost:8464 stands in the source/]],
  ],
  [
    'a backend that is away',
    settings({ forward: [{ paths: ['/api'], to: 'http://127.0.0.1:9' }] }),
    [['backend-away', /Nothing answers at http:\/\/127\.0\.0\.1:9/]],
  ],
  ['an entry of a backend that is not there', settings({ embed: { entries: ['gone.ts'] } }), [['file-missing', /'gone\.ts'/]]],
  [
    'a sheet with a mistake',
    { 'main.ts': `import 'pier';\nimport './a.css';\n`, 'a.css': 'b { color: red' + '; } }' },
    [['syntax-error', /./]],
  ],
  [
    'a pattern that is none',
    { 'main.ts': `import 'pier';\nexport const gulls = /gull(s/;\n` },
    [['syntax-error', /Unterminated group/]],
  ],
];
test.each(broken)(
  'check finds %s, and nothing else',
  async (_, files, wanted) => {
    workspace = Workspace.with({ ...sound, ...settings({}), ...files });
    const { code, stdout, stderr } = await runProgram(workspace.root, ['check', '--json']);
    expect(stderr).toBe('');
    const { findings } = JSON.parse(stdout) as { findings: { code: string; message: string; hint?: string }[] };
    expect(findings.map(({ code: found }) => found)).toEqual(wanted.map(([found]) => found));
    for (const [index, [, message]] of wanted.entries()) {
      expect(findings[index]!.message).toMatch(message);
      expect(findings[index]!.hint ?? 'none is needed').not.toBe('');
    }
    expect(code).toBe(wanted.length === 0 ? 0 : 1);
  },
  30_000,
);

test('check finds a port that is in use', async () => {
  workspace = Workspace.with(sound);
  const taken = createServer();
  const port = await new Promise<number>((resolve) =>
    taken.listen(0, 'localhost', () => resolve((taken.address() as { port: number }).port)),
  );
  workspace.write(settings({ listen: { port } }));
  const { stdout } = await runProgram(workspace.root, ['check', '--json']);
  expect(JSON.parse(stdout).findings).toMatchObject([{ code: 'port-taken', severity: 'warning' }]);
  taken.close();
}, 30_000);

test.each(isLong ? ['typescript', 'typescript-5'] : ['typescript'])(
  "types are checked beside with the project's own %s: told in the terminal and the page, and updates do not wait",
  async (compiler) => {
    workspace = Workspace.with({
      ...sound,
      'main.ts': `import { it } from 'pier';\nconst berths: number = 'four';\ndocument.title = String(it) + berths;\n`,
      'tsconfig.json':
        '{ "compilerOptions": { "module": "esnext", "moduleResolution": "bundler", "strict": true, "lib": ["es2023", "dom"], "types": [] } }',
      'node_modules/pier/index.d.ts': 'export const it: number;',
    });
    symlinkSync(join(repository, 'node_modules', compiler), workspace.path('node_modules/typescript'));
    symlinkSync(join(repository, 'node_modules/@typescript'), workspace.path('node_modules/@typescript'));
    const program = await Program.serve(workspace.root, ['--types', 'index.html']);
    const first = await program.next('types');
    expect(first.problems).toMatchObject([
      { code: 'type-error', file: 'main.ts', position: { line: 2, column: 6 }, message: expect.stringContaining('TS2322') },
    ]);
    expect(await (await fetch(program.url)).text()).toContain('app.js');
    const after = program.mark;
    workspace.write({
      'main.ts': `import { it } from 'pier';\nconst berths: number = 4;\ndocument.title = String(it) + berths;\n`,
    });
    await program.next('update', { after });
    expect((await program.next('types', { after })).problems).toEqual([]);
    await program.stop();
    // The older one takes its time.
    if (compiler === 'typescript-5') return;
    if (isLong) {
      const built = await runProgram(workspace.root, ['build', '--types', '--no-cache', '--no-minify']);
      expect(built).toMatchObject({ code: 0 });
    }
    workspace.write({ 'main.ts': `import { it } from 'pier';\nit.length;\n` });
    expect(await runProgram(workspace.root, ['build', '--types', '--no-cache'])).toMatchObject({
      code: 1,
      stderr: expect.stringMatching(/TS2339.*type-error.*main\.ts:2:4/s),
    });
    const { stdout } = await runProgram(workspace.root, ['check', '--json']);
    expect(JSON.parse(stdout).findings.map(({ code }: { code: string }) => code)).toContain('type-error');
  },
  90_000,
);

test('a project without TypeScript gets one sentence', async () => {
  workspace = Workspace.with({ 'index.html': '' });
  const program = await Program.serve(workspace.root, ['--types', 'index.html']);
  expect((await program.next('problem')).problem).toMatchObject({
    code: 'type-check-missing',
    message: 'Types cannot be checked: the project has no TypeScript.',
  });
  await program.stop();
}, 30_000);

test('what will fail for its version is told when serve and build start, and once', async () => {
  workspace = Workspace.with({
    ...sound,
    ...settings({}),
    ...installed('rope'),
    ...installed('pier-plugin', { peerDependencies: { rope: '^1.0.0' } }),
    ...installed('mast', { peerDependencies: { rope: '^1.0.0' } }),
    'package.json': project({ dependencies: { pier: '^2.0.0', 'pier-plugin': '*', mast: '*', rope: '*', gull: '*' } }),
  });
  const wanted = [
    ['package-missing', 'gull stands in package.json and is not installed.'],
    ['version-unfit', 'pier-plugin wants rope ^1.0.0 beside it, and 2.1.0 is installed.'],
  ];
  const told = (warnings: { code: string; message: string }[]) => warnings.map(({ code, message }) => [code, message]);
  const program = await Program.serve(workspace.root, []);
  const first = program.events.indexOf(await program.next('warning'));
  await program.next('warning', { after: first + 1 });
  expect(told(program.events.filter(({ event }) => event === 'warning').map(({ warning }) => warning))).toEqual(wanted);
  await program.stop();
  const { stdout } = await runProgram(workspace.root, ['build', '--no-cache', '--json']);
  expect(told(JSON.parse(stdout).warnings)).toEqual(wanted);
});

test('queries behind paths are told of, but for a file that is called so, and in packages', async () => {
  workspace = Workspace.with({
    ...sound,
    ...settings({}),
    'index.html': '<!doctype html><script type="module" src="src/main.ts"></script>',
    'src/main.ts': `import text from './gull.svg?text';\nimport { tide } from './tide.js?2';\nimport '@/tide.ts?high';\nimport 'pier';\nimport './odd?1.js';\nconsole.log(text, tide);\n`,
    'src/gull.svg': '<svg/>',
    'src/tide.ts': 'export const tide = 4;\n',
    'src/odd?1.js': '',
    'tsconfig.json': '{ "compilerOptions": { "paths": { "@/*": ["./src/*"] } } }',
    'node_modules/pier/package.json': '{ "name": "pier", "main": "index.js" }',
    'node_modules/pier/index.js': `import './more.js?3';\n`,
    'node_modules/pier/more.js': '',
    'package.json': project({ dependencies: { pier: '*' } }),
  });
  const { stdout } = await runProgram(workspace.root, ['build', '--no-cache', '--json']);
  const queries = JSON.parse(stdout).warnings.filter(({ code }: { code: string }) => code === 'query-ignored');
  expect(queries.map(({ position, message }: Record<string, any>) => [position.line, message.split(' ')[0]])).toEqual([
    [1, "'?text'"],
    [2, "'?2'"],
    [3, "'?high'"],
  ]);
});

test('names in other case, as systems find them that take both for one, and a low limit of watches are found', async () => {
  workspace = Workspace.with({
    'index.html': '<script type="module" src="src/main.js"></script>',
    'src/main.js': `import './Tide.js';\n`,
    'src/Tide.js': '',
    'few.txt': '512\n',
    'many.txt': '524288\n',
  });
  const options = projectOptions(await effectiveSettings(workspace.root, {}), { cacheFolder: undefined, trace: noTrace });
  const project = new ProjectGraph(options, quietListener);
  project.readPages();
  project.modules.setRoots(project.pages.modules());
  await project.readModules();
  expect(checkCase(project)).toEqual([]);
  // Where case doesn't count, the file is found by the name that is asked for.
  renameSync(workspace.path('src/Tide.js'), workspace.path('src/tide.js'));
  expect(checkCase(project)).toMatchObject([
    { code: 'case-differs', file: 'src/Tide.js', message: "'Tide.js' is asked for, but the file is called 'tide.js'." },
  ]);
  await project.close();
  expect(checkWatchLimit(workspace.path('few.txt'))).toMatchObject([
    { code: 'watch-limit', hint: expect.stringContaining('sysctl') },
  ]);
  expect([checkWatchLimit(workspace.path('many.txt')), checkWatchLimit(workspace.path('none'))]).toEqual([[], []]);
});

test('descriptions of packages that hold nonsense fail nothing', () => {
  workspace = Workspace.with({
    ...installed('rope', { version: 'low tide' }),
    ...installed('pier-plugin', { keywords: 'plugin', peerDependencies: { rope: '^1.0.0', gone: 5 } }),
    ...installed('mast-plugin', { keywords: [5, null], peerDependencies: null }),
    'package.json': JSON.stringify({
      dependencies: { rope: '*', 'pier-plugin': 7, 'mast-plugin': null },
      devDependencies: { 'vine-spark': 3 },
    }),
  });
  expect(versionWarnings(workspace.root, 'npm install')).toEqual([]);
});
