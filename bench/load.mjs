// A page's load and its first map against the same code as one ready-made script, style sheet and map; and from a save to what
// Chromium shows against the barest chain of watching, reading, sending and applying.
import { readFileSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import { join } from 'node:path';
import { watch } from 'chokidar';
import { transform } from 'oxc-transform';
import { chromium } from 'playwright-core';
import { WebSocketServer } from 'ws';
import { median } from './figures.mjs';
import { serve } from './program.mjs';

const launch = () =>
  chromium.launch({
    executablePath: process.env.CHROMIUM ?? '/usr/bin/chromium',
    args: ['--headless', '--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking'],
  });

const textOf = async (url) => (await fetch(url)).text();

/** A server of ready-made answers by path; `close` ends it. */
async function readyMade(answers) {
  const types = { html: 'text/html', js: 'text/javascript', css: 'text/css', json: 'application/json' };
  const server = createServer(({ url }, response) => {
    const path = url.split('?')[0];
    const body = answers[path];
    response.writeHead(body === undefined ? 404 : 200, {
      'content-type': `${types[path.split('.').at(-1)] ?? 'text/html'}; charset=utf-8`,
      ...(path === '/' ? { 'cache-control': 'no-cache' } : { 'cache-control': 'max-age=3600' }),
    });
    response.end(body ?? '');
  });
  await new Promise((resolve) => server.listen(0, '127.0.0.1', resolve));
  return { url: `http://127.0.0.1:${server.address().port}/`, server };
}

/** The page that the program serves, with its scripts joined to one and its sheets to another file. */
async function joinedPage(url) {
  const html = await textOf(url);
  const settings = /data-spark="([^"]*)"/.exec(html)[1];
  const scripts = [...html.matchAll(/<script[^>]* src="([^"]+)"/g)].map(([, path]) => new URL(path, url));
  const texts = await Promise.all(scripts.map(textOf));
  const sheets = [...html.matchAll(/<style[^>]*>([\s\S]*?)<\/style>/g)].map(([, text]) => text.replace(/\/\*#[\s\S]*?\*\//g, ''));
  const plain = html.replace(/<style[\s\S]*?<\/style>/g, '').replace(/<script[^>]* src="[^"]*"[^>]*><\/script>/g, '');
  const head = `<link rel="stylesheet" href="/all.css"><script defer src="/all.js" data-spark="${settings}"></script>`;
  return readyMade({
    '/': plain.replace(/<\/head>|<body|<div/, (found) => head + found),
    '/all.js': texts.map((text) => text.replace(/\n\/\/# sourceMappingURL=.*/g, '')).join('\n'),
    '/all.css': sheets.join('\n'),
  });
}

/** Milliseconds until everything of a page has loaded and run. */
async function loadMs(page, url, isReload) {
  if (isReload) await page.reload();
  else await page.goto(url);
  return page.evaluate(() => performance.getEntriesByType('navigation')[0].loadEventEnd);
}

/** Medians in milliseconds of loads with an empty cache and of reloads, ours and ready-made, taken in turns. */
export async function measureLoad({ folder, rounds, args = [] }) {
  const program = await serve(folder, args);
  const joined = await joinedPage(program.url);
  const browser = await launch();
  const times = { ours: { empty: [], reload: [] }, joined: { empty: [], reload: [] } };
  for (let round = 0; round <= rounds; round++) {
    for (const [name, url] of [
      ['ours', program.url],
      ['joined', joined.url],
    ]) {
      const page = await browser.newPage();
      const empty = await loadMs(page, url, false);
      const reload = await loadMs(page, url, true);
      await page.context().close();
      // The first round warms everything up.
      if (round > 0) times[name].empty.push(empty);
      if (round > 0) times[name].reload.push(reload);
    }
  }
  await browser.close();
  joined.server.close();
  await program.stop();
  const mid = ({ empty, reload }) => ({ empty: median(empty), reload: median(reload) });
  return { ours: mid(times.ours), joined: mid(times.joined) };
}

/** The first map of a fresh start, asked for at once, and the same text ready-made; in milliseconds. */
export async function measureFirstMap({ folder, page, rounds }) {
  const [ours, ready] = [[], []];
  for (let round = 0; round < rounds; round++) {
    const program = await serve(folder, ['--no-cache'], page);
    const piece = `${program.url}~spark/piece/page/${page}/app.js`;
    const script = await textOf(piece);
    const url = new URL(/\n\/\/# sourceMappingURL=(.*)\s*$/.exec(script)[1], piece);
    let from = performance.now();
    const map = await textOf(url);
    ours.push(performance.now() - from);
    await program.stop();
    const other = await readyMade({ '/map.json': map });
    from = performance.now();
    await textOf(`${other.url}map.json`);
    ready.push(performance.now() - from);
    other.server.close();
  }
  return { ours: median(ours), ready: median(ready) };
}

const pause = () => new Promise((resolve) => setTimeout(resolve, 150 + Math.random() * 60));

/**
 * Medians in milliseconds from a save to its effect in Chromium: `bare` is chokidar, reading, translating scripts, one message, and a page
 * that evaluates it or puts it into a style element, and answers.
 */
export async function measureShown({ folder, app, saves }) {
  const style = join(folder, app.path(0).replace('.tsx', '.css'));
  const component = join(folder, app.path(1));
  const save = {
    style: (n) => writeFileSync(style, app.style(0, n)),
    module: (n) => writeFileSync(component, app.component(1, `s${n}`)),
  };
  const browser = await launch();
  const program = await serve(folder);
  const page = await browser.newPage();
  const joined = program.next('joined');
  await page.goto(program.url);
  await joined;
  const bare = await bareChain(folder, browser);
  const times = { ours: { style: [], module: [] }, bare: { style: [], module: [] } };
  for (let n = 0; n < saves; n++) {
    for (const kind of ['style', 'module']) {
      await pause();
      const from = performance.now();
      const both = [
        program.next('applied').then(() => times.ours[kind].push(performance.now() - from)),
        bare.next().then(() => times.bare[kind].push(performance.now() - from)),
      ];
      save[kind](n);
      await Promise.all(both);
    }
  }
  await browser.close();
  await bare.close();
  await program.stop();
  const mid = ({ style, module }) => ({ style: median(style), module: median(module) });
  return { ours: mid(times.ours), bare: mid(times.bare) };
}

async function bareChain(folder, browser) {
  const { url, server } = await readyMade({
    '/': `<!doctype html><style></style><script>
      const socket = new WebSocket(location.href.replace('http', 'ws'));
      socket.onmessage = ({ data }) => {
        const { css, code } = JSON.parse(data);
        if (css !== undefined) document.querySelector('style').textContent = css;
        else (0, eval)('(function () {' + code.replace(/^import .*/gm, '').replace(/^export (default )?/gm, '') + '})');
        socket.send('done');
      };</script>`,
  });
  const sockets = new WebSocketServer({ server });
  let arrived = () => {};
  const connected = new Promise((resolve) => {
    sockets.on('connection', (socket) => {
      socket.on('message', () => arrived());
      resolve();
    });
  });
  const page = await browser.newPage();
  await page.goto(url);
  await connected;
  const watcher = watch(join(folder, 'src'), { ignoreInitial: true });
  await new Promise((resolve) => watcher.once('ready', resolve));
  watcher.on('change', async (path) => {
    const text = readFileSync(path, 'utf8');
    const message = path.endsWith('.css')
      ? { css: text }
      : { code: (await transform(path, text, { jsx: { development: true } })).code };
    for (const client of sockets.clients) client.send(JSON.stringify(message));
  });
  const next = () =>
    new Promise((resolve) => {
      arrived = resolve;
    });
  return { next, close: () => Promise.all([server.close(), watcher.close()]) };
}
