import { type ChildProcess, spawn } from 'node:child_process';
import { pathToFileURL } from 'node:url';
import { afterAll, afterEach, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import WebSocket from 'ws';
import { Backend, freePort } from '../support/backend.js';
import { launchBrowser, openPage } from '../support/browser.js';
import { runProgram } from '../support/program.js';
import { sendRaw } from '../support/raw-http.js';
import { isLong } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

const files = {
  'index.html': '<!doctype html><title>Quay</title><script type="module" src="src/main.tsx"></script><div id="app"></div>',
  'src/main.tsx': `import { createRoot } from 'react-dom/client';\nimport { Board } from './board';\nimport './board.css';\ncreateRoot(document.getElementById('app')!).render(<Board />);\n`,
  'src/board.tsx': board('held'),
  'src/board.css': 'button { color: rgb(31, 93, 58); }',
};
function board(word: string): string {
  return `import { useState } from 'react';\nexport function Board() { const [n, set] = useState(0); return <button onClick={() => set(n + 1)}>${word} {n}</button>; }\n`;
}

/** A server of the user's, with routes before and after the front end, and sockets of its own. */
const server = (kind: string, options: string) => `
import { createServer } from 'node:http';
import { createRequire } from 'node:module';
import { frontEnd } from ${JSON.stringify(pathToFileURL(`${repository}/dist/inside/front-end.js`).href)};
const require = createRequire(${JSON.stringify(`${repository}/package.json`)});
const { WebSocketServer } = require('ws');
const front = await frontEnd(${options});
const api = (request, response) => { response.setHeader('content-type', 'application/json'); response.end('{"tide":"high"}'); };
const page = (request, response) => {
  const { styles, scripts } = front.tags('src/main.tsx');
  response.setHeader('content-type', 'text/html');
  response.end('<!doctype html><title>Rendered</title>' + styles + '<div id="app"></div>' + scripts);
};
let listener;
if (${JSON.stringify(kind)} === 'express') {
  const app = require('express')();
  app.get('/api/tide', api);
  app.get('/rendered', page);
  app.use(front.handle);
  app.get('/after', api);
  listener = app;
} else listener = (request, response) => {
  if (request.url === '/api/tide') return api(request, response);
  if (request.url === '/rendered') return page(request, response);
  front.handle(request, response, ${JSON.stringify(kind)} === 'next' ? () => api(request, response) : undefined);
};
const server = createServer(listener).listen(Number(process.env.PORT), 'localhost', () => console.log('listening'));
server.on('upgrade', front.upgrade);
if (process.env.OWN) {
  const sockets = new WebSocketServer({ noServer: true });
  server.on('upgrade', (request, socket, head) => {
    if (request.url === '/own') sockets.handleUpgrade(request, socket, head, (ws) => ws.send('own'));
  });
}
process.on('SIGTERM', async () => { await front.close(); server.close(); server.closeAllConnections(); });
`;

let browser: Browser;
let workspace: Workspace;
let child: ChildProcess | undefined;
let port: number;
let backend: Backend | undefined;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());
afterEach(async () => {
  await stop();
  await backend?.close();
  backend = undefined;
  workspace.dispose();
});

/** Runs the server; settles when it listens, with what it printed. */
async function run(kind: string, options = '{}', env: Record<string, string> = {}): Promise<void> {
  workspace.write({ 'server.mjs': server(kind, options) });
  const started = spawn(process.execPath, ['server.mjs'], {
    cwd: workspace.root,
    env: { ...process.env, NODE_OPTIONS: '', NODE_ENV: '', PORT: String(port), ...env },
  });
  child = started;
  let printed = '';
  started.stdout.on('data', (data) => {
    printed += data;
  });
  started.stderr.on('data', (data) => {
    printed += data;
  });
  while (!printed.includes('listening\n')) {
    if (started.exitCode !== null) throw new Error(printed);
    await new Promise((resolve) => {
      started.stdout.once('data', resolve);
      started.once('exit', resolve);
    });
  }
}

async function stop(): Promise<number | null | undefined> {
  const running = child;
  child = undefined;
  if (!running || running.exitCode !== null) return running?.exitCode;
  const ended = new Promise((resolve) => running.once('exit', resolve));
  running.kill('SIGTERM');
  await ended;
  return running.exitCode;
}

const get = async (path: string, accept = 'text/html') => {
  const reply = await fetch(`http://localhost:${port}${path}`, { headers: { accept } });
  return `${reply.status} ${(await reply.text()).slice(0, 200)}`;
};
const message = (path: string) =>
  new Promise((resolve) => {
    const socket = new WebSocket(`ws://localhost:${port}${path}`, { origin: `http://localhost:${port}` });
    socket.on('message', (data) => {
      resolve(String(data));
      socket.terminate();
    });
    socket.on('error', (error) => resolve(error.message));
  });

test('one process, one port: routes before and after, updates that keep state, restarts that pages live through, the built folder', async () => {
  workspace = Workspace.with(files, { packages: true });
  port = await freePort();
  await run('express', `{ embed: { entries: ['src/main.tsx'] } }`, { OWN: '1' });
  expect([await get('/api/tide'), await get('/after', '*/*')]).toEqual(['200 {"tide":"high"}', '200 {"tide":"high"}']);
  expect([await message('/own'), await get('/deep/link')]).toEqual(['own', expect.stringContaining('200 <!doctype html>')]);
  for (const path of isLong ? ['/', '/rendered'] : ['/rendered']) {
    const { page, loads, errors } = await openPage(browser, `http://localhost:${port}${path}`);
    await page.click('button');
    expect(await page.textContent('button')).toBe('held 1');
    expect(await page.evaluate(`getComputedStyle(document.querySelector('button')).color`)).toBe('rgb(31, 93, 58)');
    const again = page.waitForEvent('websocket');
    await stop();
    await run('express', `{ embed: { entries: ['src/main.tsx'] } }`);
    // The page has asked whether it's up to date, and was told.
    const channel = await again;
    for (let told = ''; !told.includes('"current"'); told = String((await channel.waitForEvent('framereceived')).payload));
    workspace.write({ 'src/board.tsx': board('taken') });
    await page.locator('button', { hasText: 'taken 1' }).waitFor();
    workspace.write({ 'src/board.tsx': board('held') });
    await page.locator('button', { hasText: 'held 1' }).waitFor();
    expect([loads(), errors.filter((text) => !/WebSocket|ERR_CONNECTION|404/.test(text))]).toEqual([1, []]);
    await page.context().close();
  }
  expect(await stop()).toBe(0);
  workspace.write({ 'vine-spark.config.json': `{ "embed": { "entries": ["src/main.tsx"] } }` });
  expect(await runProgram(workspace.root, ['build', '--no-cache', '--no-minify'])).toMatchObject({ code: 0 });
  await run('express', '{}', { NODE_ENV: 'production', OWN: '1' });
  expect([await get('/api/tide'), await get('/after', '*/*')]).toEqual(['200 {"tide":"high"}', '200 {"tide":"high"}']);
  // Whatever name it has in production.
  const published = await sendRaw(port, 'GET / HTTP/1.1\r\nhost: harbour.example\r\nconnection: close\r\n\r\n', 'localhost');
  expect(published).toMatch(/^HTTP\/1\.1 200 /);
  expect(published).not.toMatch(/cross-origin-resource-policy|frame-ancestors/i);
  for (const path of ['/deep/link', '/rendered']) {
    const { page, errors } = await openPage(browser, `http://localhost:${port}${path}`);
    await page.click('button');
    expect([await page.textContent('button'), errors.filter((text) => !/404/.test(text))]).toEqual(['held 1', []]);
    await page.context().close();
  }
}, 120_000);

test('plain node:http, with and without a next; forwards, a base path, sockets of nobody; mistakes are errors', async () => {
  backend = await Backend.start((request, response) => response.end(`backend ${request.url}`));
  backend.sockets.on('connection', (socket) => socket.send('backend'));
  workspace = Workspace.with({ ...files, 'src/main.tsx': 'document.title = import.meta.base;\n' });
  port = await freePort();
  const options = `{ base: '/shop/', pages: { '/': 'index.html' }, forward: [{ paths: ['/back'], to: '${backend.origin}' }], print: 'nothing' }`;
  await run('plain', options);
  expect(await Promise.all(['/api/tide', '/shop/', '/back/x', '/nothing'].map((path) => get(path)))).toEqual([
    '200 {"tide":"high"}',
    expect.stringMatching(/^200 <!doctype html>.*page\.js/),
    '200 backend /back/x',
    expect.stringMatching(/^404/),
  ]);
  expect([await message('/back/live'), await message('/nothing')]).toEqual(['backend', expect.stringContaining('404')]);
  const { page } = await openPage(browser, `http://localhost:${port}/shop/`);
  await page.waitForFunction(`document.title === '/shop/'`);
  await page.context().close();
  await stop();
  await run('next', options);
  expect(await get('/nothing')).toBe('200 {"tide":"high"}');
  await stop();
  await expect(run('plain', `{ bse: '/' }`)).rejects.toThrow(/no setting 'bse'|bse/);
  await expect(run('plain', '{}', { NODE_ENV: 'production' })).rejects.toThrow('There is no build in dist.');
}, 60_000);
