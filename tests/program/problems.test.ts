import { expect, test } from '@jest/globals';
import { problemText } from '../../src/cli/report/problem-text.js';
import { formatCodeFrame } from '../../src/core/problem/code-frame.js';
import type { Problem } from '../../src/core/problem/problem.js';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const page = '<!doctype html>\n<script type="module" src="src/main.ts"></script>\n';
const main = (text: string, more: Record<string, string> = {}) => ({ 'index.html': page, 'src/main.ts': text, ...more });

const cases: Record<string, Record<string, string>> = {
  'a syntax error': main('export function tideAt(n: number) {\n  return n +;\n}\n'),
  'plain JavaScript': { 'index.html': '<script type="module" src="main.js"></script>', 'main.js': `export const tide = ;\n` },
  'CommonJS that does not parse': main(`import kit from './kit.cjs';\nkit();\n`, {
    'src/kit.cjs': 'module.exports = {\n  tide: 4\n  berth: 2\n};\n',
  }),
  'a file that is not there': main(`import './depature';\n`, { 'src/departure.ts': '' }),
  'a file in other case': main(`import { Board } from './board';\nBoard();\n`, { 'src/Board.ts': '' }),
  'a package that is not installed': main(`import kit from '@harbour/kit/deep';\nkit();\n`, { 'yarn.lock': '' }),
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
  'an assignment to an import': main(`import { tide } from './tide';\ntide = 4;\n`, { 'src/tide.ts': 'export let tide = 1;\n' }),
  'a style sheet': main(`import './quay.css';\n`, { 'src/quay.css': 'body {\n  color: red\n' }),
  'a Sass partial': main(`import './quay.scss';\n`, {
    'src/quay.scss': '@use "palette";\n.a { color: palette.$ember; }\n',
    'src/_palette.scss': '$ember: 1px + red-;\n$x: $y;\n',
  }),
  'a sheet that imports nothing': main(`import './quay.css';\n`, { 'src/quay.css': '@import "./tokens.css";\n' }),
  JSON: main(`import data from './data.json';\ndata();\n`, { 'src/data.json': '{\n  "high": 4,\n}\n' }),
  'a page that names nothing': {
    'index.html': '<!doctype html>\n<link rel="stylesheet" href="quay.css">\n<script type="module" src="src/mian.ts"></script>\n',
    'src/main.ts': '',
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

test.each(Object.entries(cases))('%s is explained', async (_name, files) => {
  const workspace = Workspace.with(files);
  const program = await Program.serve(workspace.root);
  const { problems } = await program.next('problems');
  expect((problems as Problem[]).map((problem) => problemText(problem)).join('\n\n')).toMatchSnapshot();
  await program.stop();
  workspace.dispose();
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
