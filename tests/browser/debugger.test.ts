import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser } from '../support/browser.js';
import { Debugger } from '../support/debugger.js';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const row = (word: string) => `import { useState } from 'react';
import { formatClock } from './format';
import type { Departure } from './types';
import * as tide from './tide';

interface RowProps {
  departure: Departure;
}

export function Row({ departure }: RowProps): JSX.Element {
  const [open, setOpen] = useState<boolean>(false);

  const shown: string = formatClock(departure.at) + tide.mark;
  return <button onClick={() => setOpen(!open)}>${word} {shown}</button>;
}
`;

const files = {
  'index.html': '<!doctype html><body><div id="app"></div><script type="module" src="src/main.tsx"></script>',
  'src/main.tsx': `import { createRoot } from 'react-dom/client';\nimport { Row } from './row';\ncreateRoot(document.getElementById('app')!).render(<Row departure={{ at: 545 }} />);\n`,
  'src/row.tsx': row('departs'),
  'src/format.ts': 'export const formatClock = (minutes: number): string => `${Math.floor(minutes / 60)}:${minutes % 60}`;\n',
  'src/types.ts': 'export interface Departure { at: number }\n',
  'src/tide.ts': `export const mark = '~';\n`,
};

let browser: Browser;
let workspace: Workspace;
let program: Program;
beforeAll(async () => {
  browser = await launchBrowser();
  workspace = Workspace.with(files, { packages: true });
  program = await Program.serve(workspace.root);
});
afterAll(async () => {
  await browser.close();
  await program.stop();
  workspace.dispose();
});

/** The place of a piece of text in a source. */
function placeOf(source: string, text: string): { source: string; line: number; column: number } {
  const lines = workspaceText(source).split('\n');
  const line = lines.findIndex((content) => content.includes(text));
  return { source: `/${source}`, line: line + 1, column: lines[line]!.indexOf(text) };
}

let current: Record<string, string> = files;
function workspaceText(source: string): string {
  return current[source]!;
}

test('a breakpoint in TSX stops at its line and column, and names evaluate as they are written', async () => {
  const page = await (await browser.newContext()).newPage();
  await page.goto(program.url);
  const origin = new URL(program.url).origin;
  const tool = await Debugger.attach(page, origin);
  const place = placeOf('src/row.tsx', 'formatClock(departure.at)');
  await tool.breakAt(place);
  const click = page.click('button');
  const pause = await tool.nextPause();
  expect({ source: pause.source, line: pause.line, column: pause.column }).toEqual(place);
  expect(pause.functionName).toBe('Row');
  expect(await tool.evaluate(pause, 'formatClock(61)')).toBe('1:1');
  expect(await tool.evaluate(pause, 'typeof useState')).toBe('function');
  expect(await tool.evaluate(pause, 'tide.mark')).toBe('~');
  expect(await tool.evaluate(pause, 'departure.at')).toBe(545);
  expect(await tool.evaluate(pause, 'open')).toBe(true);
  await tool.resume();
  await click;
  await page.context().close();
});

test('after a hot update breakpoints stop at the new lines', async () => {
  const page = await (await browser.newContext()).newPage();
  const after = program.mark;
  await page.goto(program.url);
  await program.next('joined', { after });
  const tool = await Debugger.attach(page, new URL(program.url).origin);
  const text = `// one more line\n${row('leaves at')}`;
  current = { ...files, 'src/row.tsx': text };
  workspace.write({ 'src/row.tsx': text });
  await program.next('applied', { after });
  await tool.updateWith('/src/row.tsx');
  const place = placeOf('src/row.tsx', 'formatClock(departure.at)');
  expect(place.line).toBe(14);
  await tool.breakAt(place);
  const click = page.click('button');
  const pause = await tool.nextPause();
  expect({ source: pause.source, line: pause.line, column: pause.column }).toEqual(place);
  expect(await tool.evaluate(pause, 'formatClock(61)')).toBe('1:1');
  await tool.resume();
  await click;
  await page.context().close();
});
