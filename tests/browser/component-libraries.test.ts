import { cpSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program } from '../support/program.js';
import { full } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

/** Components of an earlier React and of Preact keep their state too. */

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

const page = '<!doctype html><div id="app"></div><script type="module" src="main.jsx"></script>';

/** A component with a count, another hook if asked for, and a child in a file of its own. */
const board = (from: string, word: string, { hook = '', fails = false } = {}) => `import { useState } from '${from}';
import { Berth } from './berth';
export function Board() {
  const [held, setHeld] = useState(0); ${hook}
  ${fails ? `throw new RangeError('aground');` : ''}
  return <main><h1>${word}</h1><button onClick={() => setHeld(held + 1)}>held {held}</button><Berth /></main>;
}`;
const berth = (from: string, word: string) =>
  `import { Component } from '${from}';\nexport class Berth extends Component { render() { return <p>${word}</p>; } }\n`;

interface Library {
  packages: [from: string, to: string][];
  hooks: string;
  core: string;
  main: string;
  tsconfig?: string;
}

const libraries: Record<string, Library> = {
  'React 18': {
    packages: ['react', 'react-dom', 'scheduler'].map((name) => [`tests/support/react-18/node_modules/${name}`, name]),
    hooks: 'react',
    core: 'react',
    main: `import { createRoot } from 'react-dom/client';\nimport { Board } from './board';\ncreateRoot(document.getElementById('app')).render(<Board />);\n`,
  },
  Preact: {
    packages: [['node_modules/preact', 'preact']],
    hooks: 'preact/hooks',
    core: 'preact',
    main: `import { render } from 'preact';\nimport { Board } from './board';\nrender(<Board />, document.getElementById('app'));\n`,
    tsconfig: '{ "compilerOptions": { "jsx": "react-jsx", "jsxImportSource": "preact" } }',
  },
};

test.each(Object.entries(libraries).slice(full(1, 0)))('%s', async (_, { packages, hooks, core, main, tsconfig }) => {
  const workspace = Workspace.with({
    'index.html': page,
    'main.jsx': main,
    'board.jsx': board(hooks, 'one'),
    'berth.jsx': berth(core, 'berth one'),
    ...(tsconfig ? { 'tsconfig.json': tsconfig } : {}),
  });
  for (const [from, to] of packages)
    cpSync(join(repository, from), workspace.path(`node_modules/${to}`), { recursive: true, dereference: true });
  const program = await Program.serve(workspace.root);
  const at = await openPage(browser, program.url);
  await program.next('joined');
  const shows = (selector: string, text: string) =>
    at.page.waitForFunction(`document.querySelector('${selector}')?.textContent === '${text}'`);
  const save = async (files: Record<string, string>) => {
    const after = program.mark;
    workspace.write(files);
    return program.next('applied', { after });
  };
  await at.page.click('button');
  await shows('button', 'held 1');

  await save({ 'board.jsx': board(hooks, 'two') });
  await shows('h1', 'two');
  await shows('button', 'held 1');

  await save({ 'berth.jsx': berth(core, 'berth two') });
  await shows('p', 'berth two');
  await shows('button', 'held 1');

  const reset = await save({ 'board.jsx': board(hooks, 'three', { hook: 'useState(3);' }) });
  expect(reset.reset).toEqual(['Board']);
  await shows('h1', 'three');
  await shows('button', 'held 0');

  const failed = program.mark;
  await save({ 'board.jsx': board(hooks, 'three', { hook: 'useState(3);', fails: true }) });
  const { problem } = await program.next('error', { after: failed });
  expect(problem).toMatchObject({ message: 'RangeError: aground', file: 'board.jsx', position: { line: 5 } });
  await at.page.locator('spark-panel section').waitFor();
  await save({ 'board.jsx': board(hooks, 'four', { hook: 'useState(3);' }) });
  await shows('h1', 'four');
  await at.page.locator('spark-panel section').waitFor({ state: 'detached' });
  expect(at.loads()).toBe(1);

  await program.stop();
  await at.page.context().close();
  workspace.dispose();
});
