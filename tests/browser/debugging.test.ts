import { join } from 'node:path';
import { describe, expect, test } from '@jest/globals';
import { encodedMap, FlattenMap, generatedPositionFor, TraceMap } from '@jridgewell/trace-mapping';
import { SourceMapConsumer } from 'source-map-js';
import { Debugger, type Pause } from '../support/debugger.js';
import { ServedPage } from '../support/served-page.js';
import { repository } from '../support/workspace.js';

const at = new ServedPage();
let tool: Debugger;
let texts: Record<string, string>;

async function start(files: Record<string, string>): Promise<void> {
  const html = '<!doctype html><div id="app"></div><button>sail</button><script type="module" src="main.tsx"></script>';
  texts = { 'index.html': html, ...files };
  await at.start(texts);
  tool = await Debugger.attach(at.page, new URL(at.program.url).origin);
}

/** Sets a breakpoint where a piece of text stands in a source. */
async function breakAt(file: string, text: string): Promise<void> {
  const lines = texts[file]!.split('\n');
  const line = lines.findIndex((content) => content.includes(text));
  await tool.breakAt({ source: `/${file}`, line: line + 1, column: lines[line]!.indexOf(text) });
}

const placeOf = ({ source, line }: Pause) => `${source.slice(1)}:${line}`;

async function click(): Promise<Pause> {
  void at.page.click('button').catch(() => undefined);
  return tool.nextPause();
}

test('ten kinds of names evaluate under their own names in a nested function, and `this` is right', async () => {
  await start({
    'main.tsx': `import quay, { berths, late as lateBy } from './names';
import * as tides from './names';
import { again, count, setCount } from './names';
import data from './data.json';
import { vessel } from './old.cjs';
import { Stage } from './stage';
import { Board } from './board';

class Desk {
  number = 7;
  sail() {
    const inner = () => {
      const local = berths + this.number - 6;
      document.title = String(local);
    };
    setCount(5);
    inner();
  }
}
const desk = new Desk();
const View = () => <Board />;
// TypeScript drops imports that nothing uses.
export const used = () => [quay, lateBy, tides, again, count, data, vessel, Stage.Sailed, View];
document.querySelector('button')!.onclick = () => desk.sail();
`,
    'names.ts': `export default 'quay';\nexport const berths = 4;\nexport const late = 10;\nexport let count = 0;\nexport const setCount = (to: number) => { count = to; };\nexport { again } from './again';\n`,
    'again.ts': `export const again = 'once more';\n`,
    'data.json': '{ "harbour": "Saltmarsh" }',
    'old.cjs': `exports.vessel = 'Curlew';\n`,
    'stage.ts': `export enum Stage { Boarding, Sailed }\n`,
    'board.tsx': `export function Board() { return null; }\n`,
    'tsconfig.json': '{ "compilerOptions": { "jsx": "react", "jsxFactory": "String" } }',
  });
  await breakAt('main.tsx', 'document.title = String(local)');
  const pause = await click();
  expect(placeOf(pause)).toBe('main.tsx:14');
  const names = {
    quay: 'quay',
    berths: 4,
    lateBy: 10,
    'tides.late': 10,
    again: 'once more',
    count: 5,
    'data.harbour': 'Saltmarsh',
    vessel: 'Curlew',
    'Stage.Sailed': 1,
    'Board.name': 'Board',
    local: 5,
    'View.name': 'View',
    'this.number': 7,
  };
  const seen: Record<string, unknown> = {};
  for (const name of Object.keys(names)) seen[name] = await tool.evaluate(pause, name);
  expect(seen).toEqual(names);
  await tool.resume();
});

test('stepping goes statement by statement, and into what is imported without anything in between', async () => {
  await start({
    'main.tsx': `import { delay } from './delay';
document.querySelector('button')!.onclick = () => {
  let minutes = 5;
  minutes += 1;
  if (minutes > 5) {
    minutes = delay(minutes);
  }
  for (const berth of [1, 2]) {
    minutes += berth;
  }
  document.title = String(minutes);
};
`,
    'delay.ts': `export function delay(by: number): number {\n  const more = by * 2;\n  return more;\n}\n`,
  });
  await breakAt('main.tsx', 'minutes = 5');
  const pauses = [await click()];
  for (const how of ['stepOver', 'stepOver', 'stepOver', 'stepInto', 'stepOver', 'stepOut'] as const)
    pauses.push(await tool.step(how));
  expect(pauses.map(placeOf)).toEqual([
    'main.tsx:3',
    'main.tsx:4',
    'main.tsx:5',
    'main.tsx:6',
    'delay.ts:2',
    'delay.ts:3',
    'main.tsx:8',
  ]);
  const rest: string[] = [];
  for (let pause = await tool.step('stepOver'); pause.line < 11; pause = await tool.step('stepOver')) rest.push(placeOf(pause));
  expect([...new Set(rest)].toSorted()).toEqual(['main.tsx:8', 'main.tsx:9']);
  await tool.resume();
});

test('a breakpoint is hit on its line after three hot updates, and sources keep one name', async () => {
  const sail = (word: string, above: string) =>
    `${above}import.meta.live?.take();\ndocument.querySelector('button')!.onclick = () => {\n  document.title = '${word}';\n};\n`;
  await start({ 'main.tsx': sail('first', '') });
  for (const [n, word] of ['second', 'third', 'fourth'].entries()) {
    const after = at.program.mark;
    texts['main.tsx'] = sail(word, '// a line more\n'.repeat(n + 1));
    at.workspace.write({ 'main.tsx': texts['main.tsx'] });
    await at.program.next('applied', { after });
    await tool.updateWith('/main.tsx', n + 1);
  }
  await breakAt('main.tsx', `document.title = 'fourth'`);
  const pause = await click();
  expect(placeOf(pause)).toBe('main.tsx:6');
  await tool.resume();
});

test('an error three modules deep after an await is told with names and places of the source, and can be opened from the console', async () => {
  await start({
    'main.tsx': `import { load } from './load';\ndocument.querySelector('button')!.onclick = async function sail() {\n  await load(3);\n};\n`,
    'load.ts': `import { parse } from './parse';\n\nexport async function load(berth: number): Promise<void> {\n  await Promise.resolve();\n  parse({ berth });\n}\n`,
    'parse.ts': `interface Row { berth: number }\n\nexport function parse({ berth }: Row): never {\n  throw new RangeError('no berth ' + berth);\n}\n`,
  });
  const said = at.page.waitForEvent('console', (message) => message.text().includes('/~spark/open?'));
  await at.page.click('button');
  const { problem } = await at.program.next('error');
  expect(problem).toMatchObject({ message: 'RangeError: no berth 3', file: 'parse.ts', position: { line: 4, column: 8 } });
  expect(problem.chain).toEqual(['parse parse.ts:4:9', 'load load.ts:5:3', expect.stringMatching(/sail main\.tsx:3:3$/)]);
  expect((await said).text()).toMatch(/^Vine Spark: RangeError: no berth 3 at parse\.ts:4:9\n.*file=parse\.ts&line=4&column=9$/);
});

test('errors of workers and rejected imports are told at their places', async () => {
  await start({
    'main.tsx': `document.querySelector('button')!.onclick = async () => {\n  new Worker(new URL('./crane.ts', import.meta.url), { type: 'module' });\n  await import('./late');\n};\n`,
    'crane.ts': `import './lift';\n`,
    'calm.ts': 'await 0;\nexport {};\n',
    'lift.ts': `import './calm'; export function lift(tons: number): void {\n  if (tons > 5) throw new RangeError('too heavy');\n}\nlift(9 as number);\n`,
    'late.ts': `export const tide: string = 'high';\nthrow new TypeError('late ' + tide);\n`,
  });
  const after = at.program.mark;
  const told: string[] = [];
  at.page.on('pageerror', ({ message }) => told.push(message));
  const heard = at.page.waitForEvent('pageerror', ({ message }) => message === 'too heavy');
  await at.page.click('button');
  const worker = await at.program.next('error', { after, where: ({ page: from }) => from === 'crane.ts' });
  expect(worker.problem).toMatchObject({ message: 'RangeError: too heavy', file: 'lift.ts', position: { line: 2, column: 22 } });
  const late = await at.program.next('error', { after, where: ({ page: from }) => from === 'index.html' });
  expect(late.problem).toMatchObject({ message: 'TypeError: late high', file: 'late.ts', position: { line: 2 } });
  await heard;
  expect(told.filter((message) => message === 'too heavy')).toHaveLength(1);
});

describe('maps', () => {
  const mapOf = async (piece: string) => {
    const code = await (await fetch(`${at.program.url}~spark/piece/page/index.html/${piece}.js`)).text();
    const url = new URL(/\n\/\/# sourceMappingURL=(.*)\s*$/.exec(code)![1]!, at.program.url);
    return (await (await fetch(url)).json()) as { version: 3; file: string; sections: never[] };
  };

  test('an index map says the same to an independent reader as flattened', async () => {
    await start({
      'main.tsx': `import { a } from './a';\nconst shown: string = a('x');\ndocument.title = shown;\n`,
      'a.ts': `export const a = (word: string): string => \`\${word} \${[1, 2].map((n: number) => n * 2).join()}\`;\n`,
    });
    const index = await mapOf('app');
    const flat = FlattenMap(index as never);
    const reader = new SourceMapConsumer(index as never);
    let compared = 0;
    const independent = new SourceMapConsumer(encodedMap(flat) as never);
    independent.eachMapping(({ generatedLine, generatedColumn, source, originalLine, originalColumn }) => {
      const found = reader.originalPositionFor({ line: generatedLine, column: generatedColumn });
      expect([found.source, found.line, found.column]).toEqual([source, originalLine, originalColumn]);
      compared++;
    });
    expect(compared).toBeGreaterThan(25);
  });

  test("an adapter's output is mapped to its file, word by word", async () => {
    const source = '# the quay\nlevel = high + low\nhigh = 3\n';
    await start({
      'main.tsx': `import { level } from './tides.tide';\ndocument.title = String(level);\n`,
      'tides.tide': source,
      'vine-spark.config.mjs': `import MagicString from '${join(repository, 'node_modules/magic-string/dist/index.mjs')}';
        export default { adapters: [{ name: 'tides', files: /\\.tide$/, translate(source) {
          const text = new MagicString(source);
          text.overwrite(0, source.indexOf('\\n'), 'const low = 1;');
          text.prependLeft(source.indexOf('level'), 'export var ');
          text.prependLeft(source.indexOf('high = '), 'export var ');
          return { code: text.toString(), map: text.generateMap({ hires: 'boundary', includeContent: true }) };
        } }] };`,
    });
    const map = new TraceMap(FlattenMap((await mapOf('app')) as never));
    const code = (await (await fetch(`${at.program.url}~spark/piece/page/index.html/app.js`)).text()).split('\n');
    for (const [word, line, column] of [
      ['level', 2, 0],
      ['high', 2, 8],
      ['low', 2, 15],
      ['high', 3, 0],
    ] as const) {
      const place = generatedPositionFor(map, { source: '/tides.tide', line, column });
      expect(code[place.line! - 1]!.slice(place.column!)).toMatch(new RegExp(`^${word}\\b`));
    }
  });

  test('packages that ship maps show what their authors wrote; broken maps are ignored with a note', async () => {
    const shipped = (sources: string[], contents: string[]) =>
      JSON.stringify({ version: 3, sources, sourcesContent: contents, names: [], mappings: 'AAAA,OAAO,MAAM' });
    await start({
      'main.tsx': `import { rope } from 'ropes';\nimport { knot } from 'knots';\nimport { sail } from 'sails';\ndocument.title = rope + knot + sail;\n`,
      'node_modules/ropes/package.json': '{ "type": "module", "main": "dist/index.js" }',
      'node_modules/ropes/dist/index.js': 'export const rope = 1;\n//# sourceMappingURL=index.js.map\n',
      'node_modules/ropes/dist/index.js.map': shipped(['../src/rope.ts'], ['export const rope: number = 1;\n']),
      'node_modules/knots/package.json': '{ "type": "module", "main": "index.js" }',
      'node_modules/knots/index.js': 'export const knot = 2;\n//# sourceMappingURL=index.js.map\n',
      'node_modules/knots/index.js.map': '{ "version": 3, "sources": [',
      'node_modules/sails/package.json': '{ "type": "module", "main": "index.js" }',
      'node_modules/sails/index.js': 'export const sail = 3;\n//# sourceMappingURL=gone.js.map\n',
    });
    const map = new TraceMap(FlattenMap((await mapOf('packages')) as never));
    const sources = map.sources.map((source) => String(source));
    expect(sources).toEqual(
      expect.arrayContaining(['/node_modules/ropes/src/rope.ts', '/node_modules/knots/index.js', '/node_modules/sails/index.js']),
    );
    expect(map.sourcesContent?.[sources.indexOf('/node_modules/ropes/src/rope.ts')]).toContain('rope: number');
    const place = generatedPositionFor(map, { source: '/node_modules/ropes/src/rope.ts', line: 1, column: 7 });
    expect(place.line).not.toBeNull();
    const notes = at.program.events.filter(({ event }) => event === 'note').map(({ text }) => text);
    expect(notes).toEqual([
      expect.stringContaining('the source map of node_modules/knots/index.js is not used:'),
      expect.stringContaining('the source map of node_modules/sails/index.js is not used:'),
    ]);
  });
});

test('the workspace folder is told to debuggers on this machine only', async () => {
  await start({ 'main.tsx': '' });
  const path = '.well-known/appspecific/com.chrome.devtools.json';
  const { workspace: described } = (await (await fetch(at.program.url + path)).json()) as {
    workspace: { root: string; uuid: string };
  };
  expect(described.root).toBe(at.workspace.root);
  expect(described.uuid).toMatch(/^[\da-f]{8}(?:-[\da-f]{4}){3}-[\da-f]{12}$/);
  const { request } = await import('node:http');
  const status = await new Promise((resolve) => {
    // As a browser elsewhere would ask: by an address of this machine that is not a loopback one.
    const { port } = new URL(at.program.url);
    request({ port, path: `/${path}`, headers: { host: `192.0.2.7:${port}` } }, (answer) => resolve(answer.statusCode)).end();
  });
  expect(status).toBe(404);
});
