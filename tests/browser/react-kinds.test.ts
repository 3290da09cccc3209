import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const counter = (name: string, word: string) =>
  `const [n, setN] = useState(0); return <button id="${name}" onClick={() => setN(n + 1)}>${word} {n}</button>;`;
const head = `import { Component, createContext, forwardRef, lazy, memo, useContext, useState } from 'react';\n`;

/** How components are written; each shows a button `#it` with a count. `keeps`: whether an edit of the word keeps the count. */
const kinds: Record<string, { text: (word: string) => string; use?: string; keeps?: boolean }> = {
  'a function': { text: (word) => `export function It() { ${counter('it', word)} }` },
  'an arrow': { text: (word) => `export const It = () => { ${counter('it', word)} };` },
  'a named default': { text: (word) => `export default function It() { ${counter('it', word)} }`, use: `import It from './it';` },
  'an anonymous default': {
    text: (word) => `export default function () { ${counter('it', word)} }`,
    use: `import It from './it';`,
  },
  'an anonymous default arrow': {
    text: (word) => `export default () => { ${counter('it', word)} };`,
    use: `import It from './it';`,
  },
  memo: { text: (word) => `export const It = memo(function Inner() { ${counter('it', word)} });` },
  'memo of an arrow, as default': {
    text: (word) => `export default memo(() => { ${counter('it', word)} });`,
    use: `import It from './it';`,
  },
  forwardRef: { text: (word) => `export const It = forwardRef((props, ref) => { ${counter('it', word)} });` },
  'a component that is not exported': {
    text: (word) => `function Inner() { ${counter('it', word)} }\nexport function It() { return <Inner />; }`,
  },
  'a custom hook beside it': {
    text: (word) =>
      `function useWord() { const [word] = useState('x'); return word && '${word}'; }\nexport function It() { const word = useWord(); const [n, setN] = useState(0); return <button id="it" onClick={() => setN(n + 1)}>{word} {n}</button>; }`,
  },
  'several in one file': {
    text: (word) => `export function Other() { return null; }\nexport function It() { ${counter('it', word)} }`,
  },
  'a context made beside it, which is another one then': {
    keeps: false,
    text: (word) =>
      `const Tide = createContext('low');\nfunction Inner() { useContext(Tide); const [n, setN] = useState(0); return <button id="it" onClick={() => setN(n + 1)}>{'${word}'} {n}</button>; }\nexport function It() { return <Tide.Provider value="high"><Inner /></Tide.Provider>; }`,
  },
  'a lazy component': {
    text: (word) => `export default function Late() { ${counter('it', word)} }`,
    use: `import { lazy, Suspense } from 'react';\nconst Late = lazy(() => import('./it'));\nconst It = () => <Suspense fallback="…"><Late /></Suspense>;`,
  },
  'a class, which starts anew': {
    text: (word) =>
      `export class It extends Component { state = { n: 0 }; render() { return <button id="it" onClick={() => this.setState({ n: this.state.n + 1 })}>${word} {this.state.n}</button>; } }`,
    keeps: false,
  },
  'a component with something beside it': {
    text: (word) => `export const limit = 3;\nexport function It() { ${counter('it', word)} }`,
  },
};

let browser: Browser;
let workspace: Workspace;
let program: Program;
beforeAll(async () => {
  browser = await launchBrowser();
  const files: Record<string, string> = {};
  for (const [index, { text, use }] of Object.values(kinds).entries()) {
    files[`k${index}.html`] = `<!doctype html><div id="root"></div><script type="module" src="k${index}/main.tsx"></script>`;
    files[`k${index}/main.tsx`] =
      `import { createRoot } from 'react-dom/client';\nimport { App } from './app';\ncreateRoot(document.getElementById('root')!).render(<App />);\n`;
    files[`k${index}/app.tsx`] =
      `import { useState } from 'react';\n${use ?? `import { It } from './it';`}\nexport function App() { ${counter('app', 'app').replace('return', 'const own =').replace(/;\s*$/, ';')} return <>{own}<It /></>; }\n`;
    files[`k${index}/it.tsx`] = head + text('before');
  }
  workspace = Workspace.with(files, { packages: true });
  program = await Program.serve(workspace.root, []);
});
afterAll(async () => {
  await browser.close();
  await program.stop();
  workspace.dispose();
});

async function openKind(index: number): Promise<{ page: Page; loads(): number }> {
  const after = program.mark;
  const watched = await openPage(browser, `${program.url}k${index}`);
  await program.next('joined', { after });
  await watched.page.locator('#it').waitFor();
  await watched.page.click('#it');
  await watched.page.click('#app');
  return watched;
}

test.each(Object.entries(kinds))('%s is updated in place', async (name, { text, keeps = true }) => {
  const index = Object.keys(kinds).indexOf(name);
  const { page, loads } = await openKind(index);
  const after = program.mark;
  workspace.write({ [`k${index}/it.tsx`]: head + text('after') });
  const { notes } = await program.next('applied', { after });
  await page.waitForFunction(`document.querySelector('#it')?.textContent.startsWith('after')`);
  expect(await page.textContent('#it')).toBe(keeps ? 'after 1' : 'after 0');
  expect(await page.textContent('#app')).toBe('app 1');
  expect(loads()).toBe(1);
  const mixed = `k${index}/it.tsx exports limit beside components, so its importers run again`;
  if (name.includes('something beside')) expect(notes).toEqual([mixed]);
  await page.context().close();
});

test('other hooks start just that component anew, and the terminal says so', async () => {
  const { page } = await openKind(0);
  const after = program.mark;
  workspace.write({
    'k0/it.tsx': `${head}export function It() { const [word] = useState('hooks'); const [n, setN] = useState(0); return <button id="it" onClick={() => setN(n + 1)}>{word} {n}</button>; }`,
  });
  const { reset } = await program.next('applied', { after });
  await page.waitForFunction(`document.querySelector('#it').textContent === 'hooks 0'`);
  expect(await page.textContent('#app')).toBe('app 1');
  expect(reset).toEqual(['It']);
  await page.context().close();
});

test('an error thrown while rendering an update is told, and the fix brings the page back', async () => {
  const { page } = await openKind(1);
  const after = program.mark;
  workspace.write({ 'k1/it.tsx': `${head}export const It = () => { throw new Error('aground'); };` });
  const { problem } = await program.next('error', { after });
  expect(problem).toMatchObject({ message: 'Error: aground', file: 'k1/it.tsx' });
  workspace.write({ 'k1/it.tsx': head + kinds['an arrow']!.text('mended') });
  await page.waitForFunction(`document.querySelector('#it')?.textContent === 'mended 0'`);
  await page.context().close();
});
