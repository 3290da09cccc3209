import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { Backend } from '../support/backend.js';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

let browser: Browser;
let backend: Backend;
let workspace: Workspace;
let program: Program;
beforeAll(async () => {
  browser = await launchBrowser();
  backend = await Backend.start((request, response) => {
    if (request.url === '/api/sign-on') {
      response.writeHead(
        200,
        [
          ['set-cookie', 'officer=ada; Path=/; HttpOnly'],
          ['set-cookie', 'watch=dog; Path=/'],
        ].flat(),
      );
      response.end('{}');
    } else if (request.url === '/api/tides') {
      response.writeHead(200, { 'content-type': 'text/event-stream' });
      response.write('data: high\n\n');
      // The second event waits for the reader's answer to the first: a buffering proxy would hang here.
      acknowledged.then(() => response.end('data: low\n\n'));
    } else if (request.url === '/api/seen') {
      acknowledge();
      response.end('{}');
    } else
      response.end(
        JSON.stringify({
          cookie: request.headers.cookie ?? null,
          host: request.headers.host,
          forwardedHost: request.headers['x-forwarded-host'],
        }),
      );
  });
  backend.sockets.on('connection', (socket) => socket.on('message', (data) => socket.send(`heard ${data}`)));
  workspace = Workspace.with({ 'index.html': '<!doctype html><title>Quay</title><h1>Quay</h1>' });
  program = await Program.serve(workspace.root, ['index.html', '--forward', `/api=${backend.origin}`]);
});
let acknowledge!: () => void;
const acknowledged = new Promise<void>((resolve) => {
  acknowledge = resolve;
});
afterAll(async () => {
  await browser.close();
  await program.stop();
  await backend.close();
  workspace.dispose();
});

test('a cookie that the backend sets comes back on the next call of the page', async () => {
  const { page, errors } = await openPage(browser, program.url);
  const answer = (await page.evaluate(
    `fetch('/api/sign-on').then(() => fetch('/api/who')).then((reply) => reply.json())`,
  )) as Record<string, string>;
  expect(answer.cookie).toBe('officer=ada; watch=dog');
  expect(answer.host).toBe(new URL(backend.origin).host);
  expect(answer.forwardedHost).toBe(new URL(program.url).host);
  expect(errors).toEqual([]);
});

test('server-sent events arrive one by one', async () => {
  const { page } = await openPage(browser, program.url);
  const events = await page.evaluate(`new Promise((resolve) => {
    const seen = [];
    const stream = new EventSource('/api/tides');
    stream.onmessage = ({ data }) => {
      seen.push(data);
      if (data === 'high') fetch('/api/seen');
      else { stream.close(); resolve(seen); }
    };
  })`);
  expect(events).toEqual(['high', 'low']);
});

test('a WebSocket reaches the backend', async () => {
  const { page } = await openPage(browser, program.url);
  const heard = await page.evaluate(`new Promise((resolve) => {
    const socket = new WebSocket('/api/radio');
    socket.onopen = () => socket.send('mayday');
    socket.onmessage = ({ data }) => { socket.close(); resolve(data); };
  })`);
  expect(heard).toBe('heard mayday');
});

test('a backend that is down gives a page that names rule and address, and JSON to programs', async () => {
  const down = await Backend.start(() => {});
  await down.close();
  const other = await Program.serve(workspace.root, ['index.html', '--forward', `/api=${down.origin}`]);
  const { page } = await openPage(browser, `${other.url}api/departures`);
  const text = await page.textContent('main');
  expect(text).toContain('The backend does not answer');
  expect(text).toContain(`/api is forwarded to ${down.origin}`);
  const reply = await fetch(`${other.url}api/departures`, { headers: { accept: 'application/json' } });
  expect(reply.status).toBe(502);
  expect(await reply.json()).toMatchObject({
    error: { code: 'backend-unreachable', backend: down.origin, rule: '/api', cause: 'ECONNREFUSED' },
  });
  await other.stop();
});

test('a page that was asked for while the backend was away goes on by itself, and the terminal says so', async () => {
  const first = await Backend.start(() => {});
  const port = Number(new URL(first.origin).port);
  await first.close();
  const other = await Program.serve(workspace.root, ['index.html', '--forward', `/api=${first.origin}`]);
  await other.next('backend', { where: ({ isUp }) => !isUp });
  const { page } = await openPage(browser, `${other.url}api/board`);
  expect(await page.textContent('h1')).toBe('The backend does not answer');
  const after = other.mark;
  const second = await Backend.start((_, response) => {
    response.setHeader('content-type', 'text/html');
    response.end('<h1>Departures</h1>');
  }, port);
  await page.waitForFunction(`document.querySelector('h1')?.textContent === 'Departures'`);
  const back = await other.next('backend', { after, where: ({ isUp }) => isUp });
  expect(back).toMatchObject({ backend: first.origin, awayMs: expect.any(Number) });
  await other.stop();
  await second.close();
});
