import { describe, expect, test } from '@jest/globals';
import type { RequestUse } from '../../src/core/resolve/package-main.js';
import { Resolver } from '../../src/core/resolve/resolver.js';
import { memoryFiles } from '../support/memory-files.js';

const pkg = (name: string, description: object, files: string[] = []) => ({
  [`/quay/node_modules/${name}/package.json`]: JSON.stringify({ name, ...description }),
  ...Object.fromEntries(files.map((file) => [`/quay/node_modules/${name}/${file}`, ''])),
});

const files = {
  '/quay/package.json': JSON.stringify({
    name: 'quay',
    exports: { './tools': './src/tools.ts' },
    imports: { '#tide': './src/tide.ts', '#berth/*': { browser: './src/berths/*.ts' }, '#out': 'plain' },
  }),
  ...Object.fromEntries(
    [
      'src/main.tsx',
      'src/tide.ts',
      'src/tools.ts',
      'src/board.tsx',
      'src/board.css',
      'src/both.ts',
      'src/both/index.ts',
      'src/berths/index.js',
      'src/berths/one.ts',
      'src/data.json',
      'src/style.scss',
      'src/old.mts',
      'src/Case.ts',
    ].map((file) => [`/quay/${file}`, '']),
  ),
  ...pkg('plain', { main: './lib/main.js' }, ['lib/main.js', 'lib/deep.js', 'index.js']),
  ...pkg('indexed', {}, ['index.js']),
  ...pkg('moduled', { main: 'main.js', module: 'module.js' }, ['main.js', 'module.js']),
  '/quay/node_modules/exported/made.js': 'exports.__esModule = true;',
  '/quay/node_modules/exported/bridge.js': `module.exports = require('./esm.js').default;`,
  ...pkg('whole', { main: 'main.js', module: 'module.js' }, ['module.js']),
  '/quay/node_modules/whole/main.js': `const other = require('x'); module.exports = () => (other.__esModule ? other.default : other);`,
  ...pkg('once', { main: 'main', module: 'module.js' }, ['module.js']),
  '/quay/node_modules/once/main.js': `if (process.env.NODE_ENV === 'production') { module.exports = require('./main.min'); }`,
  '/quay/node_modules/once/main.min.js': `Object.defineProperty(exports,"__esModule",{value:!0});`,
  ...pkg('browsered', { main: 'main.js', browser: 'browser.js' }, ['main.js', 'browser.js']),
  ...pkg('mapped', { main: 'main.js', browser: { './node.js': './web.js', fs: false, './gone.js': false, other: './shim.js' } }, [
    'main.js',
    'node.js',
    'web.js',
    'gone.js',
    'shim.js',
  ]),
  ...pkg(
    'exported',
    {
      main: 'old.js',
      exports: {
        '.': { import: './esm.js', require: './cjs.js' },
        './once': { module: './esm.js', import: './wrapper.js', default: './made.js' },
        './bridge': { module: { import: './esm.js', default: './bridge.js' }, default: './cjs.js' },
        './apart': { module: './esm.js', require: './cjs.js' },
        './sub': { harbour: './harbour.js', development: './dev.js', default: './sub.js' },
        './f/*': './features/*.js',
        './f/secret': null,
        './style.css': './style.css',
        './browser': { node: './n.js', browser: './b.js' },
        './fallen': { import: { node: './n.js', types: './n.d.ts' }, browser: { require: './n.js' }, default: './b.js' },
        './kept': { browser: null, default: './b.js' },
        './first': ['../n.js', { node: './n.js' }, null, './b.js', './n.js'],
        './f/deep/*': './f-*/*.js',
        './f/*.js': './features/*.js',
        './old/': './features/',
        './escaped': './features/%61.js',
      },
    },
    [
      'esm.js',
      'cjs.js',
      'dev.js',
      'sub.js',
      'harbour.js',
      'old.js',
      'features/a.js',
      'features/secret.js',
      'f-a/a.js',
      'style.css',
      'n.js',
      'b.js',
      'hidden.js',
    ],
  ),
  ...pkg('knot.js', { exports: { '.': './knot.mjs', './knot.js': './knot.js' } }, ['knot.mjs', 'knot.js']),
  ...pkg('@harbour/kit', { exports: { '.': ['./kit.js'] } }, ['kit.js']),
  ...pkg('twice', { version: '1.0.0', main: 'one.js' }, ['one.js']),
  '/quay/node_modules/plain/node_modules/twice/package.json': '{ "name": "twice", "version": "2.0.0", "main": "two.js" }',
  '/quay/node_modules/plain/node_modules/twice/two.js': '',
  '/packages/ui/package.json': '{ "name": "ui", "main": "src/ui.ts" }',
  '/packages/ui/src/ui.ts': '',
  ...pkg('events', { main: 'events.js' }, ['events.js']),
};

const resolver = new Resolver({
  files: memoryFiles(files, { '/quay/node_modules/ui': '/packages/ui' }),
  root: '/quay',
  mode: 'development',
  alias: { '@': './src', old: 'plain' },
  roots: ['src'],
  conditions: ['harbour'],
  frameworkConditions: () => [],
  refusal: () => undefined,
  mapped: (specifier) => (specifier.startsWith('~berths/') ? [`/quay/src/berths/${specifier.slice(8)}`] : []),
});

const found = (specifier: string, from = '/quay/src/main.tsx', use: RequestUse = 'import') => {
  const resolution = resolver.resolve(specifier, from, use);
  return 'found' in resolution
    ? resolution.found.replace('/quay/', '')
    : 'empty' in resolution
      ? 'empty'
      : resolution.failure.reason;
};

describe('a specifier leads to', () => {
  test.each([
    ['./tide', 'src/tide.ts'],
    ['./tide.ts', 'src/tide.ts'],
    ['./tide.js', 'src/tide.ts'],
    ['./board.jsx', 'src/board.tsx'],
    ['./old.mjs', 'src/old.mts'],
    ['./board', 'src/board.tsx'],
    ['./board.css?inline#x', 'src/board.css'],
    ['./both', 'src/both.ts'],
    ['./both/', 'src/both/index.ts'],
    ['./berths', 'src/berths/index.js'],
    ['.', 'file-missing'],
    ['./data', 'src/data.json'],
    ['/src/tide', 'src/tide.ts'],
    ['@/tide', 'src/tide.ts'],
    ['old', 'node_modules/plain/lib/main.js'],
    ['old/lib/deep', 'node_modules/plain/lib/deep.js'],
    ['tide', 'src/tide.ts'],
    ['~berths/one', 'src/berths/one.ts'],
    ['#tide', 'src/tide.ts'],
    ['#berth/one', 'src/berths/one.ts'],
    ['#out', 'node_modules/plain/lib/main.js'],
    ['#nothing', 'internal-missing'],
    ['quay/tools', 'src/tools.ts'],
    ['plain', 'node_modules/plain/lib/main.js'],
    ['plain/lib/deep', 'node_modules/plain/lib/deep.js'],
    ['indexed', 'node_modules/indexed/index.js'],
    ['moduled', 'node_modules/moduled/module.js'],
    ['browsered', 'node_modules/browsered/browser.js'],
    ['mapped/node', 'node_modules/mapped/web.js'],
    ['mapped/gone.js', 'empty'],
    ['exported', 'node_modules/exported/esm.js'],
    ['exported/sub', 'node_modules/exported/harbour.js'],
    ['exported/f/a', 'node_modules/exported/features/a.js'],
    ['exported/f/secret', 'entry-missing'],
    ['exported/hidden.js', 'entry-missing'],
    ['exported/style.css', 'node_modules/exported/style.css'],
    ['exported/browser', 'node_modules/exported/b.js'],
    ['exported/fallen', 'node_modules/exported/b.js'],
    ['exported/kept', 'entry-missing'],
    ['exported/first', 'node_modules/exported/b.js'],
    ['exported/f/deep/a', 'node_modules/exported/f-a/a.js'],
    ['exported/f/a.js', 'node_modules/exported/features/a.js'],
    ['exported/f/', 'entry-missing'],
    ['exported/old/a.js', 'node_modules/exported/features/a.js'],
    ['exported/escaped', 'node_modules/exported/features/a.js'],
    ['knot.js', 'node_modules/knot.js/knot.mjs'],
    ['knot.js/knot.js', 'node_modules/knot.js/knot.js'],
    ['@harbour/kit', 'node_modules/@harbour/kit/kit.js'],
    ['twice', 'node_modules/twice/one.js'],
    ['ui', '/packages/ui/src/ui.ts'],
    ['events', 'node_modules/events/events.js'],
    ['fs', 'builtin'],
    ['node:events', 'builtin'],
    ['nobody', 'package-missing'],
    ['@nobody/there', 'package-missing'],
    ['./nowhere', 'file-missing'],
  ])('%s -> %s', (specifier, expected) => expect(found(specifier)).toBe(expected));
});

test('what a package requires differs from what it imports', () => {
  expect(found('moduled', '/quay/src/main.tsx', 'require')).toBe('node_modules/moduled/main.js');
  expect(found('exported', '/quay/src/main.tsx', 'require')).toBe('node_modules/exported/cjs.js');
  expect(found('exported/apart', '/quay/src/main.tsx', 'require')).toBe('node_modules/exported/cjs.js');
  expect(found('exported/bridge', '/quay/src/main.tsx', 'require')).toBe('node_modules/exported/bridge.js');
  expect(found('whole', '/quay/src/main.tsx', 'require')).toBe('node_modules/whole/main.js');
  // But one that has the same exports in both forms is there once.
  for (const use of ['import', 'require'] as const) {
    expect(found('once', '/quay/src/main.tsx', use)).toBe('node_modules/once/module.js');
    expect(found('exported/once', '/quay/src/main.tsx', use)).toBe('node_modules/exported/esm.js');
  }
});

test('a package finds its own copy of another, and its browser map counts only inside it', () => {
  expect(found('twice', '/quay/node_modules/plain/lib/main.js')).toBe('node_modules/plain/node_modules/twice/two.js');
  expect(found('fs', '/quay/node_modules/mapped/main.js')).toBe('empty');
  expect(found('other', '/quay/node_modules/mapped/main.js')).toBe('node_modules/mapped/shim.js');
});

test('nearly right names are pointed out, and wrong case is told apart', () => {
  const failure = (specifier: string) => {
    const resolution = resolver.resolve(specifier, '/quay/src/main.tsx', 'import');
    return 'failure' in resolution ? resolution.failure : undefined;
  };
  expect(failure('./bord')).toMatchObject({ similar: 'board.tsx' });
  expect(failure('./case')).toMatchObject({ similar: 'Case.ts', isCase: true });
});

test('an answer is forgotten when a file appears that was looked for', () => {
  const content: Record<string, string> = { '/quay/a/index.ts': '' };
  const fresh = new Resolver({
    mode: 'development',
    files: {
      kindOf: (path) => (path in content ? 'file' : path === '/quay/a' ? 'folder' : undefined),
      readText: () => undefined,
      realPath: (path) => path,
      list: () => [],
    },
    refusal: () => undefined,
    root: '/quay',
    alias: {},
    roots: [],
    conditions: [],
    frameworkConditions: () => [],
    mapped: () => [],
  });
  expect(fresh.resolve('./a', '/quay/main.ts', 'import')).toMatchObject({ found: '/quay/a/index.ts' });
  content['/quay/a.ts'] = '';
  expect(fresh.appeared('/quay/a.ts')).toEqual([{ folder: '/quay', specifier: './a' }]);
  expect(fresh.resolve('./a', '/quay/main.ts', 'import')).toMatchObject({ found: '/quay/a.ts' });
});
