import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser, openPage, type WatchedPage } from '../support/browser.js';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const png = Buffer.from('iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAIAAACQd1PeAAAADElEQVR4nGOQj7UCAAFVALd54nSwAAAAAElFTkSuQmCC', 'base64');
const wasm = Buffer.from('0061736d0100000001070160027f7f017f030201000707010373756d00000a09010700200020016a0b', 'hex');

const files: Record<string, string> = {
  'package.json': '{ "name": "quay", "dependencies": { "react": "*" }, "imports": { "#tide": "./src/tide.mts" } }',
  'tsconfig.json': `{
  // comments and trailing commas are allowed
  "extends": "./tsconfig.base.json",
  "compilerOptions": { "paths": { "@berths/*": ["./src/berths/*"] }, },
}`,
  'tsconfig.base.json': '{ "compilerOptions": { "experimentalDecorators": true, "target": "es2022" } }',
  'index.html': `<!doctype html><html><head><title>Quay</title>
<script type="importmap">{ "imports": { "harbour": "/src/harbour.js", "docks/": "./src/docks/" } }</script>
<link rel="icon" href="img/dot.png"><link rel="modulepreload" href="src/main.ts">
<link rel="stylesheet" href="page.css"><script src="classic.js"></script><script defer src="old.js"></script><script src="typed.ts"></script></head>
<body><img id="dot" src="img/dot.png" srcset="img/dot.png 1x, img/gull.png 3x"><div id="app"></div>
<script type="module">import { berth } from './src/berths/one.ts'; said.inline = berth;</script>
<script type="module" src="src/main.ts"></script></body></html>`,
  'classic.js': 'var said = {};',
  'typed.ts': 'said.typed = 5 as number;',
  'old.js': `import { high } from './src/tide.mts';\nsaid.old = high;`,
  'page.css': '@import "./src/layered.css" layer(base) supports(display: grid);\nbody { margin: 7px; }',
  'src/layered.css': 'body { padding: 3px; background: url(../img/dot.png); }',
  'src/tide.mts': 'export const high: number = 4;',
  'src/common.cts': 'exports.made = (1 as number) + 1;',
  'src/harbour.js': 'export const harbour = "Saltmarsh";',
  'src/docks/east.js': 'export default "east";',
  'src/berths/one.ts': 'export const berth = 1;',
  'src/berths/two.ts': 'export const berth = 2;',
  'src/data.json': '{ "ferries": 3, "default-berth": 4, "class": "small" }',
  'src/notes.txt': 'low water',
  'src/board.module.scss': `@use "./palette" as *;\n@use "@berths/marks";\n.board { color: $ember; &:hover { color: blue; } .row { margin: marks.$gap; } }\n.big { composes: board; composes: wide from "./wide.module.css"; font-size: 30px; }`,
  'src/berths/_marks.scss': '$gap: 2px;',
  'src/_palette.scss': '$ember: rgb(217, 72, 43);',
  'src/wide.module.css': '.wide { width: 300px; }',
  'src/plain.sass': '.plain\n  color: rgb(1, 2, 3)\n',
  'src/sheet.css': '.constructed { color: rgb(9, 8, 7); }',
  'src/jsx-in-js.js': `export const Sign = () => <b id="sign">Quay</b>;`,
  'src/classic-jsx.jsx': `export const Flag = () => <i>flag</i>;`,
  'src/worker.ts': `import { high } from './tide.mts';\nself.onmessage = ({ data }: MessageEvent<number>) => self.postMessage(data + high);`,
  'src/shared.js': `import { high } from './tide.mts';\nonconnect = ({ ports: [port] }) => port.postMessage('shared ' + high);`,
  'src/decorated.ts': `function tag(target: any) { target.tagged = true; }\n@tag export class Buoy { size!: number; kind: string = 'green'; }\nexport enum Side { Port, Starboard = 'S' }\nexport namespace Light { export const colour = 'red'; }\nexport interface Shape { a: 1 }`,
  'src/types.ts': `export type { Shape } from './decorated';\nexport { Shape as Form } from './decorated';`,
  'src/main.ts': `import { createElement } from 'react';
import { renderToStaticMarkup } from 'react-dom/server';
import { high } from '#tide';
import { made } from './common.cts';
import { harbour } from 'harbour';
import east from 'docks/east.js';
import { berth } from '@berths/two';
import data from './data.json' with { type: 'json' };
import { ferries } from './data.json';
import notes from './notes.txt' with { type: 'text' };
import bytes from './notes.txt' with { type: 'bytes' };
import sheet from './sheet.css' with { type: 'css' };
import classes, { big } from './board.module.scss';
import './plain.sass';
import dot from '../img/dot.png';
import odd from './chart.tide';
import wasmUrl from '../sum.wasm';
import { Sign } from './jsx-in-js.js';
import { Flag } from './classic-jsx.jsx';
import { Buoy, Light, Side } from './decorated.js';
import './types';

Object.assign(said, { high, made, harbour, east, berth, ferries, data: data['default-berth'], notes, bytes: bytes.length });
document.adoptedStyleSheets.push(sheet);
document.getElementById('app').innerHTML = renderToStaticMarkup(createElement(Sign)) + renderToStaticMarkup(createElement(Flag))
  + '<p id="board" class="' + big + '">board</p><p class="plain">plain</p><p class="constructed">sheet</p>';
said.classes = [Object.keys(classes).sort().join(), classes.board === big.split(' ').find((name) => name.startsWith('board'))];
said.decorated = [Buoy.tagged, Side.Starboard, Side[0], Light.colour, Object.keys(new Buoy()).join()];
said.urls = await Promise.all([dot, odd, wasmUrl, new URL('../img/dot.png', import.meta.url), new URL('./notes.txt', import.meta.url), new URL('./tide.mts', import.meta.url)].map(async (url) => (await fetch(url)).status));
said.sum = (await WebAssembly.instantiateStreaming(fetch(wasmUrl))).instance.exports.sum(2, 3);
const worker = new Worker(new URL('./worker.ts', import.meta.url), { type: 'module' });
said.worker = await new Promise((resolve) => { worker.onmessage = ({ data }) => resolve(data); worker.postMessage(10); });
const shared = new SharedWorker(new URL('./shared.js', import.meta.url));
said.shared = await new Promise((resolve) => { shared.port.onmessage = ({ data }) => resolve(data); });
said.env = [process.env.NODE_ENV, process.env.HARBOUR_NAME, process.env.SECRET, process.browser];
said.lazy = (await import('./late.ts')).late;
said.done = true;
`,
  'src/late.ts': `import './late.css';\nexport const late = getComputedStyle(document.body).borderTopWidth;`,
  'src/late.css': 'body { border: 5px solid; }',
  'src/chart.tide': '~~~',
  '.env': 'HARBOUR_NAME=Saltmarsh\nSECRET=hidden\nQUAY=East',
  '.env.development': 'HARBOUR_NAME=$QUAY Quay',
  'vine-spark.config.json': '{ "expose": ["HARBOUR_NAME"], "pages": { "/": "index.html", "/deep/**": "index.html" } }',
  'postcss.config.cjs': `module.exports = { plugins: [{ postcssPlugin: 'shift', Declaration(node) { if (node.prop === 'margin' && node.value === '7px') node.value = '8px'; } }] };`,
};

let browser: Browser;
let workspace: Workspace;
let program: Program;
let watched: WatchedPage;
beforeAll(async () => {
  browser = await launchBrowser();
  workspace = Workspace.with(files, { packages: true });
  workspace.write({ 'img/dot.png': png, 'sum.wasm': wasm });
  program = await Program.serve(workspace.root, []);
  watched = await openPage(browser, `${program.url}deep/down`);
  await watched.page.waitForFunction('said.done', undefined, { timeout: 8000 }).catch(() => undefined);
});
afterAll(async () => {
  await browser.close();
  await program.stop();
  workspace.dispose();
});

const said = () => watched.page.evaluate('said') as Promise<Record<string, unknown>>;
const style = (selector: string, property: string) =>
  watched.page.evaluate(`getComputedStyle(document.querySelector('${selector}')).${property}`);

describe('every kind of file', () => {
  test('comes without an error or a problem', async () => {
    expect(program.events.filter(({ event }) => event === 'problems')).toEqual([]);
    expect(watched.errors).toEqual([]);
    expect((await said()).done).toBe(true);
  });

  test('scripts of every extension, found by path, import map, tsconfig paths and package imports', async () => {
    expect(await said()).toMatchObject({ high: 4, made: 2, harbour: 'Saltmarsh', east: 'east', berth: 2, inline: 1 });
    expect(await watched.page.textContent('#sign')).toBe('Quay');
  });

  test('a classic script that holds imports or types is run as a module, and a note says so', async () => {
    expect(await said()).toMatchObject({ old: 4, typed: 5 });
    expect(program.events.find(({ event }) => event === 'ready')!.notes).toEqual([
      'old.js holds imports, so index.html runs it as a module; write <script type="module"> to say so',
      'typed.ts is no plain JavaScript, so index.html runs it as a module; write <script type="module"> to say so',
    ]);
  });

  test('data by extension and by attribute', async () => {
    expect(await said()).toMatchObject({ ferries: 3, data: 4, notes: 'low water', bytes: 9 });
  });

  test('files by import and by new URL, WebAssembly among them', async () => {
    expect((await said()).urls).toEqual([200, 200, 200, 200, 200, 200]);
    expect((await said()).sum).toBe(5);
    expect(
      await watched.page.evaluate('[document.getElementById("dot").srcset, document.getElementById("dot").naturalWidth].join()'),
    ).toBe('/img/dot.png 1x, /img/gull.png 3x,1');
  });

  test('workers, module and classic, with modules of their own', async () => {
    expect(await said()).toMatchObject({ worker: 14, shared: 'shared 4' });
  });

  test('styles: imports with layers, PostCSS, Sass, CSS modules, constructed sheets', async () => {
    expect(await style('body', 'marginTop')).toBe('8px');
    expect(await style('body', 'paddingTop')).toBe('3px');
    expect(await style('#board', 'color')).toBe('rgb(217, 72, 43)');
    expect(await style('#board', 'width')).toBe('300px');
    expect(await style('#board', 'fontSize')).toBe('30px');
    expect(await style('.plain', 'color')).toBe('rgb(1, 2, 3)');
    expect(await style('.constructed', 'color')).toBe('rgb(9, 8, 7)');
    expect((await said()).classes).toEqual(['big,board,row', true]);
  });

  test('sheets of a dynamic import apply before its module runs', async () => {
    expect((await said()).lazy).toBe('5px');
  });

  test('TypeScript as tsconfig.json says', async () => {
    expect((await said()).decorated).toEqual([true, 'S', 'Port', 'red', 'size,kind']);
  });

  test('only exposed environment variables', async () => {
    expect((await said()).env).toEqual(['development', 'East Quay', undefined, true]);
  });
});

describe('a save', () => {
  test('of a Sass partial restyles every sheet that uses it', async () => {
    const after = program.mark;
    workspace.write({ 'src/_palette.scss': '$ember: rgb(0, 0, 9);' });
    await program.next('applied', { after });
    expect(await style('#board', 'color')).toBe('rgb(0, 0, 9)');
  });

  test('of what a worker imports changes the worker', async () => {
    const after = program.mark;
    workspace.write({ 'src/tide.mts': 'export const high: number = 5;' });
    const reloaded = await program.next('reloaded', { after });
    expect(reloaded.reason).toBe('no module on the way to the page takes the update');
    await watched.page.waitForFunction('window.said && said.worker === 15');
  });
});
