import { on } from 'node:events';
import { closeSync, openSync, renameSync, writeSync } from 'node:fs';
import { expect, test } from '@jest/globals';
import { WebSocket } from 'ws';
import { liveProtocol } from '../../src/core/live/messages.js';
import { randomNumbers } from '../support/random-program.js';
import { ServedPage } from '../support/served-page.js';
import { full, longTest } from '../support/sizes.js';

/** How editors save, and when: none of it may be missed, and none may come twice. */

const main = `import.meta.live?.take();\nimport { tide } from './tide.js';\ndocument.title = tide;\nwindow.runs = (window.runs ?? 0) + 1;\n`;
const tide = (word: string | number) => `export const tide = '${word}';\n`;

const many = full(6, 20);
const rapid = full(120, 2000);
const instances = full(120, 1000);

const at = new ServedPage();
function start(files: Record<string, string> = {}): Promise<void> {
  const page = '<!doctype html><script type="module" src="main.js"></script>';
  return at.start({ 'index.html': page, 'main.js': main, 'tide.js': tide('one'), ...files });
}

const shows = (word: string | number, page = at.page) => page.waitForFunction(`document.title === '${word}'`);
const updates = (after: number) => at.program.events.slice(after).filter(({ event }) => event === 'update');

test('a save by renaming, with a backup and a temporary file beside it, is one update', async () => {
  await start();
  const after = at.program.mark;
  for (const [n, word] of ['two', 'three', 'four'].entries()) {
    const mark = at.program.mark;
    at.workspace.write({ 'tide.js~': tide('backup'), '.tide.js.swp': 'x', '4913': '', [`tide.js.${n}.tmp`]: tide(word) });
    renameSync(at.workspace.path(`tide.js.${n}.tmp`), at.workspace.path('tide.js'));
    await shows(word);
    await at.program.next('applied', { after: mark });
  }
  expect(updates(after).map(({ changed }) => changed)).toEqual([['tide.js'], ['tide.js'], ['tide.js']]);
  expect(at.loads()).toBe(1);
});

test('a file that is emptied before it is written is not read in between', async () => {
  await start();
  const after = at.program.mark;
  const file = openSync(at.workspace.path('tide.js'), 'w');
  // The watcher sees the empty file before this timer runs.
  await new Promise((resolve) => setTimeout(resolve, 60));
  writeSync(file, tide('two'));
  closeSync(file);
  await shows('two');
  expect(at.program.events.slice(after).filter(({ event }) => event === 'problems')).toEqual([]);
});

test('fifty saves in a second: the last one shows, without a reload', async () => {
  await start();
  for (let n = 0; n < 50; n++) {
    at.workspace.write({ 'tide.js': tide(n) });
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
  await shows(49);
  expect(at.loads()).toBe(1);
});

test('a save while the page is still loading reaches it', async () => {
  await start();
  let release!: () => void;
  const held = new Promise<void>((resolve) => {
    release = resolve;
  });
  const page = await (await at.browser.newContext()).newPage();
  await page.route('**/app.js', async (route) => {
    const response = await route.fetch();
    await held;
    await route.fulfill({ response });
  });
  const after = at.program.mark;
  const loading = page.goto(at.program.url);
  await at.program.next('joined', { after });
  at.workspace.write({ 'tide.js': tide('while loading') });
  await at.program.next('update', { after });
  release();
  await loading;
  await shows('while loading', page);
  await page.context().close();
});

test('a save that comes while the last one is still being built is sent with it or after it, in order', async () => {
  const many = Array.from({ length: 150 }, (_, n) => [`lib/b${n}.ts`, `export const b: number = ${n};`] as const);
  const imports = many.map(([file], n) => `import { b as b${n} } from './${file}';`).join('\n');
  await start({ ...Object.fromEntries(many), 'main.js': `${imports}\n${main}` });
  const after = at.program.mark;
  at.workspace.write(Object.fromEntries(many.map(([file], n) => [file, `export const b: number = ${n + 1};`])));
  for (let n = 0; n < 20; n++) {
    at.workspace.write({ 'tide.js': tide(`during ${n}`) });
    await new Promise((resolve) => setImmediate(resolve));
  }
  await shows('during 19');
  expect(at.loads()).toBe(1);
  expect(updates(after).length).toBeLessThan(10);
});

test('a page that slept, in the background or with its machine, shows what was saved meanwhile', async () => {
  await start();
  const session = await at.page.context().newCDPSession(at.page);
  await session.send('Page.setWebLifecycleState', { state: 'frozen' });
  at.workspace.write({ 'tide.js': tide('asleep') });
  await at.program.next('update');
  await session.send('Page.setWebLifecycleState', { state: 'active' });
  await shows('asleep');
  expect(at.loads()).toBe(1);
});

longTest('many open pages are all updated by one save', async () => {
  await start();
  const context = await at.browser.newContext();
  const pages = await Promise.all(
    Array.from({ length: many }, async () => {
      const page = await context.newPage();
      await page.goto(at.program.url);
      return page;
    }),
  );
  while (at.program.events.filter(({ event }) => event === 'joined').length <= many)
    await at.program.next('joined', { after: at.program.mark });
  at.workspace.write({ 'tide.js': tide('everywhere') });
  await Promise.all(pages.map((page) => shows('everywhere', page)));
  await shows('everywhere');
  await context.close();
});

test('a page of another version of the tool is told to reload', async () => {
  await start();
  const { key } = (await (await fetch(`${at.program.url}~spark/session`)).json()) as { key: string };
  const url = `${at.program.url.replace('http', 'ws')}~spark/live?key=${key}&page=index.html&session=x&revision=0`;
  const socket = new WebSocket(url, 'vine-live.0');
  const message = await new Promise<string>((resolve) => socket.on('message', (data) => resolve(String(data))));
  expect(JSON.parse(message)).toEqual({ type: 'reload', reason: 'the page was made by another version of Vine Spark' });
  socket.close();
});

test('a page of an earlier run is compared only when it holds what it was sent', async () => {
  await start();
  const { key } = (await (await fetch(`${at.program.url}~spark/session`)).json()) as { key: string };
  const url = `${at.program.url.replace('http', 'ws')}~spark/live?key=${key}&page=index.html&session=earlier&revision=7`;
  const socket = new WebSocket(url, liveProtocol);
  const messages = on(socket, 'message');
  const next = async () => JSON.parse(String((await messages.next()).value[0]));
  const { revision } = await next();
  at.workspace.write({ 'tide.js': tide('in between') });
  const { id } = await next();
  const html = /&quot;html&quot;:&quot;(.*?)&quot;/.exec(await (await fetch(at.program.url)).text())![1];
  const held = { type: 'resume', page: 'index.html', digest: 1, pieces: [], styles: {}, html, files: [], loadedAt: Date.now() };
  socket.send(JSON.stringify({ ...held, revision }));
  expect(await next()).toEqual({ type: 'again' });
  socket.send(JSON.stringify({ ...held, revision: id }));
  expect(await next()).toMatchObject({ type: 'reload' });
  socket.close();
});

test(`${rapid} rapid saves in bursts: none is missed`, async () => {
  const files = Array.from({ length: 20 }, (_, n) => `lib/b${n}.js`);
  const imports = files.map((file, n) => `import { b as b${n} } from './${file}';`).join('\n');
  const values = files.map(() => 0);
  const text = (n: number) => `export const b = ${values[n]};\n`;
  await start({
    ...Object.fromEntries(files.map((file, n) => [file, text(n)])),
    'main.js': `import.meta.live?.take();\n${imports}\ndocument.title = [${files.map((_, n) => `b${n}`).join()}].join();\n`,
  });
  const random = randomNumbers(5);
  for (let saves = 0; saves < rapid; ) {
    for (let left = 1 + random(60); left > 0 && saves < rapid; left--, saves++) {
      const n = random(files.length);
      values[n] = saves;
      at.workspace.write({ [files[n]!]: text(n) });
      // Some land in the middle of a build.
      if (random(4) === 0) await new Promise((resolve) => setImmediate(resolve));
    }
    await shows(values.join());
  }
  expect(at.loads()).toBe(1);
});

test(`${instances} updates leave nothing behind: what the page holds does not grow`, async () => {
  const files = Array.from({ length: 25 }, (_, n) => `lib/b${n}.js`);
  // Sizes that would show: every instance holds 20 kB.
  const text = (n: number, word: number) =>
    `import.meta.live?.take();\nimport.meta.live?.cleanup(() => { held.length = 0; });\nconst held = Array.from({ length: 2500 }, (_, n) => n + ${word});\nexport const b${n} = () => held.length;\n`;
  await start({
    ...Object.fromEntries(files.map((file, n) => [file, text(n, 0)])),
    'main.js': files.map((file) => `import './${file}';`).join('\n'),
  });
  const session = await at.page.context().newCDPSession(at.page);
  const heap = async () => {
    await session.send('HeapProfiler.collectGarbage');
    return (await session.send('Runtime.getHeapUsage')).usedSize;
  };
  let count = 0;
  const round = async () => {
    const after = at.program.mark;
    count += files.length;
    at.workspace.write(Object.fromEntries(files.map((file, n) => [file, text(n, count)])));
    let ran = 0;
    for (let mark = after; ran < files.length; ) {
      const applied = await at.program.next('applied', { after: mark });
      mark = at.program.events.indexOf(applied) + 1;
      ran += applied.ran.length;
    }
  };
  while (count < 100) await round();
  const before = await heap();
  while (count < instances) await round();
  const growth = (await heap()) - before;
  // 300 instances that stayed would hold 6 MB.
  expect(growth).toBeLessThan(2_000_000);
  expect(at.loads()).toBe(1);
});
