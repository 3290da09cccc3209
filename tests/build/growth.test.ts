import { mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { expect, test } from '@jest/globals';
import { runProgram } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const list = (count: number, of: (n: number) => string, between = '\n') =>
  Array.from({ length: count }, (_, n) => of(n)).join(between);
const files = (count: number, path: (n: number) => string, of: (n: number) => string) =>
  Object.fromEntries(Array.from({ length: count }, (_, n) => [path(n), of(n)]));

/** A project in which there is much of everything that a generator or a large library writes. */
function harbour(n: number): Record<string, string> {
  const parts: Record<string, string> = {
    'exports.js': `${list(n, (at) => `export const berth${at} = () => [${at}, help];`)}\nfunction help() {}`,
    'stars.js': list(n, (at) => `export * from './stars/${at}.js';`),
    'asked.js': `import { ${list(n, (at) => `star${at}`, ', ')} } from './stars.js'; export const all = [${list(n, (at) => `star${at}`, ', ')}];`,
    'named.js': `${list(n, (at) => `import c${at} from './named/${at}.js';`)} export const all = [${list(n, (at) => `c${at}`, ',')}];`,
    'urls.js': `export const all = [${list(n, (at) => `new URL('./urls/${at}.svg', import.meta.url)`, ', ')}];`,
    'dead.js': list(
      n,
      (at) => `export const dead${at} = () => { if (process.env.NODE_ENV !== 'production') console.log(${at}); };`,
    ),
    'old.js': `export function Crane() {}\n${list(n, (at) => `Crane.prototype.lift${at} = function () { return ${at}; };`)}`,
    'again.js': list(n, (at) => `var tide = ${at};`),
    'board.json': `{ ${list(n, (at) => `"row${at}": [${at}]`, ', ')} }`,
    'chain.js': `export { level } from './chain/0.js';`,
    'line.jsx': `/** @jsxRuntime classic @jsx h */ const h = (...all) => all; export const rows = <p>${list(n, (at) => `<b class={'a' in ${at} ? ${at} : /* */ h}>${at}</b>`)}</p>;`,
    'late.js': `export const all = [${list(n, (at) => `() => import('./late/${at}.js')`, ', ')}];`,
    'sheets.js': `import names from './sheets/0.module.css'; export { names };`,
    'workers.js': `export const start = () => new Worker(new URL('./workers/0.js', import.meta.url), { type: 'module' });`,
    'names.module.css': list(n, (at) => `.row${at} { order: ${at} }`),
  };
  const names = Object.keys(parts);
  return {
    'index.html': '<!doctype html><script type="module" src="main.js"></script>',
    'main.js': `${names.map((name, at) => `import * as part${at} from './${name}';`).join('\n')}\nwindow.all = [${names.map((_, at) => `part${at}`)}];`,
    ...parts,
    ...files(
      n,
      (at) => `stars/${at}.js`,
      (at) => `export const star${at} = [${at}];`,
    ),
    ...files(
      n,
      (at) => `named/${at}.js`,
      (at) => `export default class Component { static at = ${at}; }`,
    ),
    ...files(
      n,
      (at) => `urls/${at}.svg`,
      (at) => `<svg xmlns="http://www.w3.org/2000/svg" id="a${at}"/>`,
    ),
    ...files(
      n,
      (at) => `late/${at}.js`,
      (at) => `export const late = ${at};`,
    ),
    ...files(
      n / 4,
      (at) => `sheets/${at}.module.css`,
      (at) => `.row { ${at + 1 < n / 4 ? `composes: row from './${at + 1}.module.css';` : ''} order: ${at} }`,
    ),
    ...files(
      n / 12,
      (at) => `workers/${at}.js`,
      (at) =>
        at + 1 < n / 12 ? `new Worker(new URL('./${at + 1}.js', import.meta.url), { type: 'module' });` : 'postMessage(1);',
    ),
    ...files(
      n,
      (at) => `chain/${at}.js`,
      (at) =>
        at + 1 < n
          ? `import { level as below } from './${at + 1}.js'; export const level = below + 1;`
          : 'export const level = 0;',
    ),
  };
}

interface Coverage {
  result: { url: string; functions: { functionName: string; ranges: { startOffset: number; count: number }[] }[] }[];
}

/** How often each part of the program runs when a project is built: its place -> the count. */
async function countsOf(n: number): Promise<Map<string, number>> {
  const workspace = Workspace.with(harbour(n));
  const coverage = mkdtempSync(join(tmpdir(), 'vine-counts-'));
  const { code, stderr } = await runProgram(workspace.root, ['build', '--no-cache', '--json'], {
    NODE_V8_COVERAGE: coverage,
  });
  expect({ code, stderr }).toMatchObject({ code: 0 });
  const counts = new Map<string, number>();
  for (const name of readdirSync(coverage)) {
    const { result } = JSON.parse(readFileSync(join(coverage, name), 'utf8')) as Coverage;
    for (const { url, functions } of result) {
      if (!url.includes('/dist/')) continue;
      for (const { functionName, ranges } of functions)
        for (const { startOffset, count } of ranges) {
          const place = `${url.split('/dist/')[1]}:${startOffset} ${functionName}`;
          if (count > 0) counts.set(place, Math.max(counts.get(place) ?? 0, count));
        }
    }
  }
  rmSync(coverage, { recursive: true });
  workspace.dispose();
  return counts;
}

test('four times as much of anything takes no part of a build more than some six times as often', async () => {
  const [few, many] = [await countsOf(60), await countsOf(240)];
  const grown = [...many].filter(
    ([place, count]) => few.has(place) && count > 20_000 && count > 6.5 * Math.max(few.get(place)!, 3000),
  );
  expect(grown).toEqual([]);
}, 120_000);
