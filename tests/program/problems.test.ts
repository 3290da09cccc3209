import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { problemText } from '../../src/cli/report/problem-text.js';
import { formatCodeFrame } from '../../src/core/problem/code-frame.js';
import type { Problem } from '../../src/core/problem/problem.js';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const page = '<!doctype html>\n<script type="module" src="src/main.ts"></script>\n';
const main = (text: string, more: Record<string, string | Buffer> = {}) => ({ 'index.html': page, 'src/main.ts': text, ...more });

const cases: Record<string, Record<string, string | Buffer>> = {
  'a syntax error': main('export function tideAt(n: number) {\n  return n +;\n}\n'),
  'plain JavaScript': { 'index.html': '<script type="module" src="main.js"></script>', 'main.js': `export const tide = ;\n` },
  'CommonJS that does not parse': main(`import kit from './kit.cjs';\nkit();\n`, {
    'src/kit.cjs': 'module.exports = {\n  tide: 4\n  berth: 2\n};\n',
  }),
  'what an engine refuses though it parses': main(
    `import './twice'; import './ends.js'; import './unknown.js'; import './tern';\n`,
    {
      'src/twice.ts': 'export default 1;\nexport default 2;\n',
      'src/ends.js': `import { tide } from './unknown.js';\nif (tide) {\n  return;\n}\n`,
      'src/unknown.js': `import { tide } from './tern';\nfunction tide() {\n  return arguments;\n}\nexport { tide };\n`,
      'src/tern.ts': 'export { tern };\n',
    },
  ),
  'a file that is not there': main(`import './depature';\n`, { 'src/departure.ts': '' }),
  'modules that import each other, and what is not there': main(`import './quay';\nimport './tide';\n`, {
    'src/quay.ts': `import './pier';\nimport './boats';\n`,
    'src/pier.ts': `import './quay';\nimport './main';\nimport './pier';\nimport './nets';\n`,
  }),
  'a file in other case': main(`import { Board } from './board';\nBoard();\n`, { 'src/Board.ts': '' }),
  'a package that is not installed': main(`import kit from '@harbour/kit/deep';\nkit();\n`),
  'packages that are listed, or that an import map leads elsewhere': {
    'package.json': '{ "devDependencies": { "kit": "^1.0.0" } }',
    'index.html': `<script type="importmap">{ "imports": { "charts": "https://files.example/charts.js" } }</script>${page}`,
    'src/main.ts': `import kit from 'kit';\nimport charts from 'charts';\nkit(charts);\n`,
  },
  'a path that a package does not offer': main(`import kit from 'kit/hidden';\nkit();\n`, {
    'node_modules/kit/package.json': '{ "name": "kit", "exports": "./kit.js" }',
    'node_modules/kit/kit.js': '',
  }),
  'a part of Node.js, deep down': main(`import './berth';\n`, {
    'src/berth.ts': `import { readFile } from 'node:fs/promises';\nreadFile('x');\n`,
  }),
  'a package that requires what is not there': main(`import kit from 'kit';\nkit();\n`, {
    'node_modules/kit/package.json': '{ "name": "kit" }',
    'node_modules/kit/index.js': `try { require('optional'); } catch {}\nfunction late() { require('fs'); }\nmodule.exports = require('gone').randomUUID;\n`,
  }),
  'a name that is not exported': main(`import { tideAt, hihgWater } from './tide';\ntideAt(hihgWater);\n`, {
    'src/tide.ts': 'export const tideAt = (n: number) => n;\nexport const highWater = 4;\n',
  }),
  'a default that is not exported': main(`import tide from './tide';\ntide();\n`, {
    'src/tide.ts': 'export const tideAt = 1;\n',
  }),
  'names that others fail to pass on, and types that they pass on': main(
    `import { high, Tide, low } from './kit';\nconst tide: Tide = high(low);\ntide();\n`,
    {
      'src/kit.ts': `export { highWater as high } from './tide';\nexport type { Tide } from './tide';\nexport { Pier } from './tide';\nexport { low } from './low';\n`,
      'src/tide.ts': 'export const highWatr = () => {};\nexport type Tide = () => void;\nexport interface Pier {}\n',
      'src/low.ts': `export * from './lower';\n`,
      'src/lower.ts': `export { low } from './kit';\n`,
    },
  ),
  'an assignment to an import': main(`import { tide } from './tide';\ntide = 4;\n`, { 'src/tide.ts': 'export let tide = 1;\n' }),
  'a require that an import stands for': main(`import { tide } from './tide';\nimport quay = require('./quay');\nquay(tide);\n`, {
    'src/tide.ts': 'export const tide = 1;\n',
    'src/quay.ts': 'export = (tide: number) => tide;\n',
  }),
  'paths in tsconfig.json that lead nowhere': main(`import 'quay';\n`, {
    'tsconfig.json': '{ "compilerOptions": { "paths": { "*": ["*", "./parts/*"] } } }\n',
    'src/quay.ts': '',
  }),
  'a style sheet': main(`import './quay.css';\n`, { 'src/quay.css': 'body {\n  color: red\n' }),
  'a value that another sheet does not have': main(`import './quay.module.css';\n`, {
    'src/quay.module.css': '@value deep from "./tide.css";\n.quay { margin: deep; }\n',
    'src/tide.css': '@value low: 1px;\n.high { color: red; }\n',
  }),
  'sheets that take names from each other': main(`import './quay.module.css';\n`, {
    'src/quay.module.css': '.quay { composes: pier from "./pier.module.css"; }\n',
    'src/pier.module.css': '.pier { composes: quay from "./quay.module.css"; }\n',
  }),
  'a Sass partial': main(`import './quay.scss';\n`, {
    'src/quay.scss': '@use "palette";\n.a { color: palette.$ember; }\n',
    'src/_palette.scss': '$ember: 1px + red-;\n$x: $y;\n',
  }),
  'a sheet that imports nothing': main(`import './quay.css';\n`, { 'src/quay.css': '@import "./tokens.css";\n' }),
  'a sheet that imports a script of a package': main(`import './quay.css';\n`, {
    'src/quay.css': '@import "kit";\n@import "./main.ts";\n',
    'node_modules/kit/package.json': '{ "name": "kit", "exports": "./kit.js" }',
    'node_modules/kit/kit.js': '',
  }),
  JSON: main(`import data from './data.json';\ndata();\n`, { 'src/data.json': '{\n  "high": 4,\n}\n' }),
  'a page that names nothing': {
    'index.html': '<!doctype html>\n<link rel="stylesheet" href="quay.css">\n<script type="module" src="src/mian.ts"></script>\n',
    'src/main.ts': '',
  },
  'a decorator that nobody runs': main(
    `/** @param a */\nfunction sail(a: unknown) { return a; }\nexport class Hull {\n  @sail mast = 1;\n}\n`,
  ),
  'a decorator beside elements in JavaScript': main(`import './sail.js';\n`, {
    'src/sail.js': `const sail = (hull) => hull;\n@sail class Hull {}\nexport const flag = <b>{Hull.name}</b>;\n`,
  }),
  'WebAssembly that asks for what is not there': main(`import { twice } from './gauge.wasm';\ntwice();\n`, {
    // The function `level` of the module `harbour-io`, and an export.
    'src/gauge.wasm': Buffer.from(
      '0061736d010000000105016000017f0214010a686172626f75722d696f056c6576656c00000709010574776963650000',
      'hex',
    ),
  }),
  'a component file': main(`import Board from './board.vue';\nBoard;\n`, { 'src/board.vue': '<template></template>' }),
  'a file of another language': main(`import Board from './board.elm';\nBoard;\n`, { 'src/board.elm': 'main = 1' }),
  'a part of Node.js in the application': main(`import fs from 'node:fs';\nfs;\n`),
  'a member of a JSON module': main(`import { tide } from './tide.json' with { type: 'json' };\ntide;\n`, {
    'src/tide.json': '{ "tide": 4 }',
  }),
  'JSON in which something is missing': main(`import './tide.json';\n`, { 'src/tide.json': '{\n  "high": 4\n  "low": 1\n}\n' }),
  'a file in UTF-16': { 'index.html': page, 'src/main.ts': Buffer.from('\ufeffexport const tide = 4;\n', 'utf16le') },
  'a path that tsconfig maps': main(`import { Board } from '@/components/board';\nBoard;\n`, {
    'tsconfig.json': '{ "compilerOptions": { "paths": { "@/*": ["./src/*"] } } }',
    'src/components/bord.ts': '',
  }),
  'a path that a package offers in other words': main(`import 'kit/hiden';\n`, {
    'node_modules/kit/package.json': '{ "exports": { ".": "./a.js", "./hidden": "./b.js" } }',
  }),
  'a file that a package lists and does not hold': main(`import 'kit/hidden';\n`, {
    'node_modules/kit/package.json': '{ "exports": { "./hidden": "./b.js" } }',
  }),
  'a mistake in a script of the page': {
    'index.html': '<!doctype html>\n<p>\n<script type="module">\n  let tide = ;\n</script>\n',
  },
  'all at once, most useful first': main(
    `import { tide } from './tide';\nimport './nowhere';\nimport data from './data.json';\ntide = data;\n`,
    {
      'src/tide.ts': `import { other } from './other';\nexport let tide = other;\n`,
      'src/other.ts': 'const = 1;\n',
      'src/data.json': '{',
    },
  ),
};

/** One server serves a page for each case, in a folder of its own. */
const folders = Object.entries(cases).map(([name, files], number) => ({ name, files, folder: `case-${number}` }));
let workspace: Workspace;
let program: Program;
let problems: Problem[];
beforeAll(async () => {
  const pages = Object.fromEntries(folders.map(({ folder }) => [`/${folder}/`, `${folder}/index.html`]));
  workspace = Workspace.with({ 'yarn.lock': '', 'vine-spark.config.json': JSON.stringify({ pages }) });
  for (const { folder, files } of folders)
    workspace.write(Object.fromEntries(Object.entries(files).map(([path, text]) => [`${folder}/${path}`, text])));
  program = await Program.serve(workspace.root, []);
  ({ problems } = await program.next('problems'));
});
afterAll(async () => {
  await program.stop();
  workspace.dispose();
});

test.each(folders)('$name is explained', ({ folder }) => {
  const own = problems.filter(({ file }) => file!.startsWith(`${folder}/`));
  const text = own.map((problem) => problemText(problem)).join('\n\n');
  expect(text.replaceAll(`${folder}/`, '')).toMatchSnapshot();
});

test('code is cut to the width of the terminal, with its mark in sight', () => {
  const frame = [
    { line: 9, text: `const first = ${'a + '.repeat(30)}1;` },
    { line: 10, text: `const second = ${'b + '.repeat(30)}here;`, mark: { from: 135, to: 139 } },
  ];
  for (const columns of [40, 60, 100]) {
    const rows = formatCodeFrame(frame, columns).split('\n');
    expect(rows.every((row) => row.length <= columns)).toBe(true);
    expect(rows[0]).toMatch(/^ 9 │ const first = .*…$/);
    const at = rows[2]!.indexOf('^');
    expect([rows[1]!.slice(at, at + 4), rows[2]!.slice(at)]).toEqual(['here', '^^^^']);
  }
  expect(formatCodeFrame(frame).split('\n')[1]).toBe(`10 │ ${frame[1]!.text}`);
});
