// From a save to the update message, and to the applied update in Chromium, against the least that any tool has to do:
// watch, read, translate, send.
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { watch } from 'chokidar';
import { transform } from 'oxc-transform';
import { chromium } from 'playwright-core';
import { WebSocket, WebSocketServer } from 'ws';
import { quantile, row } from './figures.mjs';
import { makeApp } from './make-app.mjs';
import { serve } from './program.mjs';

const saves = Number(process.env.SAVES ?? 60);
const sizes = (process.env.SIZES ?? '100,1000').split(',').map(Number);

/** Saves come at odd moments and not faster than people save. */
const pause = () => new Promise((resolve) => setTimeout(resolve, 120 + Math.random() * 60));

/** Time from each save until `arrived` settles, in milliseconds. */
async function timesOf(save, arrived) {
  const times = [];
  for (let n = 0; n < saves; n++) {
    await pause();
    const waiting = arrived();
    const from = performance.now();
    save(n);
    await waiting;
    times.push(performance.now() - from);
  }
  return times;
}

/** Bare chokidar + read + translate + WebSocket. */
async function yardstick(folder, app) {
  const file = join(folder, app.path(1));
  const server = new WebSocketServer({ port: 0 });
  const socket = new WebSocket(`ws://localhost:${server.address().port}`);
  await new Promise((resolve) => socket.once('open', resolve));
  const watcher = watch(join(folder, 'src'), { ignoreInitial: true });
  await new Promise((resolve) => watcher.once('ready', resolve));
  watcher.on('change', async (path) => {
    const { code } = await transform(path, readFileSync(path, 'utf8'), { jsx: { development: true, refresh: {} } });
    for (const client of server.clients) client.send(code);
  });
  const times = await timesOf(
    (n) => writeFileSync(file, app.component(1, `bare${n}`)),
    () => new Promise((resolve) => socket.once('message', resolve)),
  );
  socket.close();
  server.close();
  await watcher.close();
  return times;
}

async function measure(size) {
  const folder = mkdtempSync(join(tmpdir(), 'vine-bench-'));
  const app = makeApp(folder, size);
  const bare = await yardstick(folder, app);
  const program = await serve(folder);
  const { key, session } = await (await fetch(`${program.url}~vine/session`)).json();
  const query = new URLSearchParams({ key, session, page: 'index.html', build: '0' });
  const socket = new WebSocket(`${program.url.replace('http', 'ws')}~vine/live?${query}`, 'vine-live.1');
  await new Promise((resolve) => socket.once('open', resolve));
  const message = () =>
    new Promise((resolve) => {
      const listen = (data) => {
        if (JSON.parse(String(data)).type !== 'update') return;
        socket.off('message', listen);
        resolve();
      };
      socket.on('message', listen);
    });
  const component = (n) => writeFileSync(join(folder, app.path(1)), app.component(1, `saved${n}`));
  const sent = await timesOf(component, message);
  socket.close();
  const browser = await chromium.launch({
    executablePath: process.env.CHROMIUM ?? '/usr/bin/chromium',
    args: ['--headless', '--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking'],
  });
  const page = await browser.newPage();
  const joined = program.next('joined');
  await page.goto(program.url);
  await joined;
  const applied = await timesOf(
    (n) => component(`a${n}`),
    () => program.next('applied'),
  );
  const styled = await timesOf(
    (n) => writeFileSync(join(folder, app.path(0).replace('.tsx', '.css')), app.style(0, n)),
    () => program.next('applied'),
  );
  await browser.close();
  await program.stop();
  rmSync(folder, { recursive: true });
  const base = quantile(bare, 0.5);
  row([`${size} modules: bare watch, read, translate, send`, bare, base]);
  row([`${size} modules: component save to update message`, sent, base]);
  row([`${size} modules: component save to applied in Chromium`, applied, base]);
  row([`${size} modules: style save to applied in Chromium`, styled, base]);
}

for (const size of sizes) await measure(size);
