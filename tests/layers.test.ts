import { readdirSync, readFileSync, statSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { expect, test } from '@jest/globals';
import { repository } from './support/workspace.js';

/** Which folders of `src` a folder may import from, beside itself. */
const mayImport: Record<string, string[]> = {
  core: [],
  settings: ['core', 'forward', 'project', 'run'],
  run: ['core'],
  types: ['core', 'run'],
  check: ['core', 'project'],
  create: ['core'],
  graph: ['core', 'project'],
  node: ['core'],
  frameworks: ['core'],
  project: ['core', 'frameworks'],
  forward: ['core'],
  server: ['core', 'project', 'forward'],
  browser: ['core'],
  build: ['core', 'project'],
  cli: ['core', 'project', 'build', 'server', 'forward', 'settings', 'run', 'check', 'create', 'graph', 'types'],
  inside: ['core', 'project', 'build', 'server', 'forward', 'settings', 'cli'],
  '.': ['core', 'settings'],
};
/** What the core must do without. */
const notInCore =
  /^(?:node:(?:net|http|https|http2|tls|dgram|child_process|worker_threads|process|readline|tty|fs)(?:\/|$)|chokidar$|ws$|picocolors$|commander$)/;

const source = join(repository, 'src');

function filesIn(folder: string): string[] {
  return readdirSync(folder).flatMap((name) => {
    const path = join(folder, name);
    return statSync(path).isDirectory() ? filesIn(path) : path.endsWith('.ts') ? [path] : [];
  });
}

const layerOf = (file: string) => {
  const inside = relative(source, file);
  return inside.includes('/') ? inside.split('/')[0]! : '.';
};
const importsOf = (file: string) =>
  [...readFileSync(file, 'utf8').matchAll(/^(?:import|export)\b[^'"]*?from '([^']+)'/gm)].map((match) => match[1]!);

test('dependencies point downwards only', () => {
  const wrong: string[] = [];
  for (const file of filesIn(source)) {
    for (const specifier of importsOf(file).filter((name) => name.startsWith('.'))) {
      const from = layerOf(file);
      const to = layerOf(join(dirname(file), specifier));
      if (to !== from && !mayImport[from]?.includes(to)) wrong.push(`${relative(source, file)} imports ${specifier}`);
    }
  }
  expect(wrong).toEqual([]);
});

/** Rooms from the ground up: a file may import from its own room and from those before it. `cli/main.ts` stands on top. */
const floors = [
  'core/text',
  'core',
  'core/problem',
  'core/resolve',
  'core/link',
  'core/maps',
  'core/translate',
  'core/documents',
  'core/components',
  'core/pieces',
  'core/graph',
  'core/bundle',
  'core/live',
  'forward',
  'run',
  'node',
  'types',
  'frameworks',
  'create',
  'project/options.ts',
  'project/files',
  'project/styles',
  'project/read',
  'project/pages',
  'project/kept',
  'project/live',
  'project',
  'check',
  'graph',
  'build',
  'settings',
  'server/http',
  'server/https',
  'server/pages',
  'server/pieces',
  'server/live',
  'server',
  'cli/report',
  'cli',
  'cli/commands',
  'inside',
  'cli/main.ts',
  'cli/start.ts',
];

/** What a file imports in any way, as paths in `src`. */
const targetsOf = (file: string) =>
  [...readFileSync(file, 'utf8').matchAll(/(?:\bfrom\s*|\bimport\s*\(\s*|\bimport\s+)'(\.[^']+)'/g)].map((match) =>
    relative(source, join(dirname(file), match[1]!)).replace(/\.js$/, '.ts'),
  );

test('no room reaches upwards', () => {
  const roomOf = (path: string) => (floors.includes(path) ? path : dirname(path));
  const wrong = filesIn(source).flatMap((file) => {
    const path = relative(source, file);
    const floor = floors.indexOf(roomOf(path));
    if (floor === -1) return /^(?:browser|index\.ts$)/.test(path) ? [] : [`${path} stands in no room`];
    return targetsOf(file)
      .filter((target) => floors.indexOf(roomOf(target)) > floor)
      .map((target) => `${path} imports ${target}`);
  });
  expect(wrong).toEqual([]);
});

test('no two files import each other, over however many others', () => {
  const targets = new Map(filesIn(source).map((file) => [relative(source, file), targetsOf(file)]));
  /** Files from which no way leads back, in the order in which that is found. */
  const done = new Set<string>();
  const circles: string[] = [];
  const visit = (path: string, way: string[]) => {
    if (way.includes(path)) circles.push([...way.slice(way.indexOf(path)), path].join(' → '));
    if (done.has(path) || way.includes(path)) return;
    for (const target of targets.get(path) ?? []) visit(target, [...way, path]);
    done.add(path);
  };
  for (const path of targets.keys()) visit(path, []);
  expect(circles).toEqual([]);
});

test('the core has no sockets, watching, terminal or processes', () => {
  const wrong = filesIn(join(source, 'core')).flatMap((file) =>
    importsOf(file)
      .filter((name) => notInCore.test(name))
      .map((name) => `${relative(source, file)}: ${name}`),
  );
  const process = filesIn(join(source, 'core')).filter((file) =>
    /(?<!['.`\w])process\.(?!env\.NODE_ENV)/.test(readFileSync(file, 'utf8').replace(/\/\*[\s\S]*?\*\/|\/\/.*/g, '')),
  );
  expect([...wrong, ...process]).toEqual([]);
});

test('a start loads few packages: each costs time, every time', () => {
  const joined = readFileSync(join(repository, 'dist/joined.js'), 'utf8');
  const loaded = new Set([...joined.matchAll(/^import .* from '([^'.][^']*)';$/gm)].map(([, name]) => name!));
  const few = [
    'commander',
    'es-module-lexer',
    'fastest-levenshtein',
    'fresh',
    'magic-string',
    'parse5',
    'picocolors',
    'picomatch',
  ];
  const allowed = new Set([...few, '@jridgewell/sourcemap-codec', 'srcset']);
  expect([...loaded].filter((name) => !name.startsWith('node:') && !allowed.has(name))).toEqual([]);
});
