// From a save to the update message, and to the applied update in Chromium, against the least that any tool has to do:
// watch, read, translate, send.
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { watch } from 'chokidar';
import { transform } from 'oxc-transform';
import { chromium } from 'playwright-core';
import { WebSocket, WebSocketServer } from 'ws';
import { median } from './figures.mjs';
import { updateSocket } from './program.mjs';

/** Saves come at odd moments and not faster than people save. */
const pause = () => new Promise((resolve) => setTimeout(resolve, 120 + Math.random() * 60));

/** Median time from each save until `arrived` settles, in milliseconds. */
async function timeOf({ saves, save, arrived }) {
  const times = [];
  for (let n = 0; n < saves; n++) {
    await pause();
    const waiting = arrived();
    const from = performance.now();
    save(n);
    await waiting;
    times.push(performance.now() - from);
  }
  return median(times);
}

/** Bare chokidar + read + translate + WebSocket. */
export async function bareSave({ folder, app, saves }) {
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
  const time = await timeOf({
    saves,
    save: (n) => writeFileSync(file, app.component(1, `bare${n}`)),
    arrived: () => new Promise((resolve) => socket.once('message', resolve)),
  });
  socket.close();
  server.close();
  await watcher.close();
  return time;
}

/** Medians in milliseconds for a served application: to the update message, and applied in Chromium, for components and styles. */
export async function measureSaves({ folder, app, program, saves }) {
  const component = (n) => writeFileSync(join(folder, app.path(1)), app.component(1, `saved${n}`));
  const socket = await updateSocket(program.url);
  const message = await timeOf({ saves, save: component, arrived: () => socket.changes(1) });
  socket.close();
  const browser = await chromium.launch({
    executablePath: process.env.CHROMIUM ?? '/usr/bin/chromium',
    args: ['--headless', '--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking'],
  });
  const page = await browser.newPage();
  const joined = program.next('joined');
  await page.goto(program.url);
  await joined;
  const arrived = () => program.next('applied');
  const applied = await timeOf({ saves, save: (n) => component(`a${n}`), arrived });
  const styled = await timeOf({
    saves,
    save: (n) => writeFileSync(join(folder, app.path(0).replace('.tsx', '.css')), app.style(0, n)),
    arrived,
  });
  await browser.close();
  return { message, applied, styled };
}
