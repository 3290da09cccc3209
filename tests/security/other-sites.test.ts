import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import WebSocket from 'ws';
import { Backend } from '../support/backend.js';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program } from '../support/program.js';
import { sendRaw } from '../support/raw-http.js';
import { Workspace } from '../support/workspace.js';

const secret = 'harbour-plan-77';
const files = {
  'index.html': `<!doctype html><title>Quay</title><script type="module" src="main.js"></script><script type="module" src="second.js"></script><!-- ${secret} -->`,
  'main.js': `import './page.css';\nconst worker = new Worker(new URL('./tide.js', import.meta.url), { type: 'module' });\nworker.onmessage = ({ data }) => { window.said = data; };\nexport const plan = '${secret}';\nexport const later = () => import('./later.js');\nwindow.later = later;\nimport.meta.live?.take();\n`,
  'second.js': `window.second = '${secret}';\n`,
  'later.js': `export const late = '${secret}';\n`,
  'tide.js': `postMessage('${secret}');\n`,
  'page.css': `b { --plan: '${secret}'; color: rgb(1, 2, 3); }\n`,
  'data/plan.json': `{ "plan": "${secret}" }`,
  'img/gull.svg': '<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"/>',
};

let workspace: Workspace;
let backend: Backend;
let program: Program;
let browser: Browser;
/** A page of somebody else's on another port. */
let elsewhere: Server;
let port: number;
beforeAll(async () => {
  browser = await launchBrowser();
  backend = await Backend.start((_, response) => response.end('{}'));
  backend.sockets.on('connection', (socket) => socket.send('backend'));
  workspace = Workspace.with({
    ...files,
    'vine-spark.config.json': JSON.stringify({
      forward: [
        { paths: ['/api'], to: backend.origin },
        { paths: ['/open'], to: backend.origin, origins: 'any' },
        { paths: ['/listed'], to: backend.origin, origins: ['http://pier.example'] },
      ],
      embed: { from: ['http://pier.example'] },
    }),
  });
  program = await Program.serve(workspace.root);
  elsewhere = createServer((_, response) =>
    response.setHeader('content-type', 'text/html').end('<!doctype html><title>Elsewhere</title><b>x</b>'),
  );
  await new Promise<void>((resolve) => elsewhere.listen(0, '127.0.0.1', resolve));
  port = (elsewhere.address() as AddressInfo).port;
});
afterAll(async () => {
  await browser.close();
  await program.stop();
  await backend.close();
  elsewhere.close();
  workspace.dispose();
});

const urls = [
  '',
  '~spark/page.js',
  '~spark/session',
  '~spark/piece/page/index.html/app.js',
  '~spark/piece/page/index.html/packages.js',
  '~spark/piece/page/index.html/start-1.js',
  '~spark/piece/lazy/later.js.js',
  '~spark/piece/worker/tide.js.js',
  '~spark/piece/update/1.js',
  '~spark/style/page.css',
  '~spark/map/page/index.html/app.json',
  'data/plan.json',
  'img/gull.svg',
  '.well-known/appspecific/com.chrome.devtools.json',
  'nothing/here',
];

test.each(urls)('what a browser asks for in the name of another site is refused: /%s', async (path) => {
  for (const site of ['cross-site', 'same-site']) {
    const answer = await fetch(new URL(path, program.url), {
      headers: { 'sec-fetch-site': site, 'sec-fetch-mode': 'no-cors', 'sec-fetch-dest': 'script' },
    });
    expect([answer.status, (await answer.text()).includes(secret)]).toEqual([403, false]);
  }
  const own = await fetch(new URL(path, program.url), { headers: { 'sec-fetch-site': 'same-origin' } });
  expect([own.status === 403, own.headers.get('cross-origin-resource-policy')]).toEqual([false, 'same-origin']);
  const embedded = await fetch(new URL(path, program.url), {
    headers: { 'sec-fetch-site': 'cross-site', origin: 'http://pier.example' },
  });
  expect([embedded.status === 403, embedded.headers.get('access-control-allow-origin')]).toEqual([false, 'http://pier.example']);
});

test('a link from another site opens a page, and no frame holds one', async () => {
  const navigate = (dest: string) =>
    sendRaw(
      Number(new URL(program.url).port),
      `GET / HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\nSec-Fetch-Site: cross-site\r\nSec-Fetch-Mode: navigate\r\nSec-Fetch-Dest: ${dest}\r\n\r\n`,
    );
  expect(await navigate('document')).toMatch(
    /^HTTP\/1\.1 200 OK[\s\S]*content-security-policy: frame-ancestors 'self' http:\/\/pier\.example\r\n/,
  );
  expect(await navigate('iframe')).toMatch(/^HTTP\/1\.1 403/);
});

test('the key is for our own pages, and the live channel for those who know it', async () => {
  const session = (headers: Record<string, string>) => fetch(new URL('~spark/session', program.url), { headers });
  const { key } = (await (await session({ 'sec-fetch-site': 'same-origin' })).json()) as { key: string };
  for (const headers of [
    { origin: 'http://evil.example' },
    { origin: 'null' },
    { 'sec-fetch-site': 'same-site' },
    { 'sec-fetch-site': 'cross-site', origin: 'http://evil.example' },
  ] as Record<string, string>[])
    expect([headers, (await session(headers)).status]).toEqual([headers, 403]);
  const live = (query: string, origin?: string) => opened(`~spark/live?${query}&page=index.html&session=x&revision=0`, origin);
  expect(await live(`key=${key}`)).toBe(true);
  expect(await live('key=guessed')).toBe(false);
  expect(await live(`key=${key}`, 'http://evil.example')).toBe(false);
});

/** Whether a socket opens. */
function opened(path: string, origin?: string): Promise<boolean> {
  return new Promise((resolve) => {
    const socket = new WebSocket(new URL(path, program.url.replace('http', 'ws')), {
      ...(origin === undefined ? {} : { origin }),
    });
    socket.on('open', () => {
      resolve(true);
      socket.close();
    });
    socket.on('error', () => resolve(false));
  });
}

test.each<[path: string, origin: string | undefined, isOpen: boolean]>([
  ['api/socket', undefined, true],
  ['api/socket', 'own', true],
  ['api/socket', 'http://evil.example', false],
  ['api/socket', 'null', false],
  ['api/socket', 'http://pier.example', true],
  ['open/socket', 'http://evil.example', true],
  ['listed/socket', 'http://pier.example', true],
  ['listed/socket', 'http://evil.example', false],
])('a socket to a backend, %s from %s: %s', async (path, origin, isOpen) => {
  expect(await opened(path, origin === 'own' ? new URL(program.url).origin : origin)).toBe(isOpen);
});

/** What a hostile page does to get at what a piece hands over: each leaves what it got in `window.got`. */
const traps: [name: string, script: string][] = [
  [
    'a hook that takes everything',
    `window['~spark'] = new Proxy({}, { get: (_, name) => (...all) => { got.push(String(name), ...all.map(String)); } });`,
  ],
  [
    'a hook whose key is whatever is wanted',
    `window['~spark'] = { get key() { return { [Symbol.toPrimitive]: () => 'x', valueOf: () => 'x' }; }, add: (...all) => got.push(...all.map(String)), piece() {}, start() {} };`,
  ],
  [
    'a getter that looks at its callers',
    `Object.defineProperty(window, '~spark', { get() { let at = arguments.callee; for (let n = 0; n < 9 && at; n++) { got.push(String(at)); at = at.caller; } return { get key() { let at = Object.getOwnPropertyDescriptor(this, 'key').get; try { for (let n = 0; n < 9 && at; n++) { got.push(String(at)); at = at.caller; } } catch (error) {} return 'x'; } }; } });`,
  ],
  [
    'frames of the stack',
    `Error.prepareStackTrace = (error, frames) => { for (const frame of frames) got.push(String(frame.getFunction() ?? ''), String(frame.getThis?.() ?? '')); return ''; };\nObject.defineProperty(window, '~spark', { get() { new Error().stack; return { get key() { new Error().stack; return 'x'; } }; } });`,
  ],
  [
    'changed builtins',
    `for (const name of ['defineProperty', 'create', 'assign', 'freeze']) { const own = Object[name]; Object[name] = (...all) => { got.push(...all.map((one) => { try { return String(one) + JSON.stringify(one); } catch { return ''; } })); return own(...all); }; }\nFunction.prototype.call = function (...all) { got.push(String(this)); return Reflect.apply(this, all[0], all.slice(1)); };\nMap.prototype.set = function (key, value) { got.push(String(key), String(value?.factory ?? value)); return this; };`,
  ],
];

describe('a page of another site in a browser', () => {
  /** Opens a hostile page; `strips` lets the browser be one that says nothing of where a request comes from, and asks for no policy. */
  async function hostile(script: string, strips: boolean): Promise<Page> {
    const { page } = await openPage(browser, `http://127.0.0.1:${port}/`);
    if (strips)
      await page.route(`${program.url}**`, async (route) => {
        const headers = { ...route.request().headers() };
        for (const name of Object.keys(headers))
          if (name.startsWith('sec-fetch') || name === 'referer' || name === 'origin') delete headers[name];
        const answer = await fetch(route.request().url(), { headers });
        const kept = Object.fromEntries(
          [...answer.headers].filter(([name]) => !/^cross-origin|^content-(?:security|encoding|length)|^x-/.test(name)),
        );
        await route.fulfill({ status: answer.status, headers: kept, body: Buffer.from(await answer.arrayBuffer()) });
      });
    await page.evaluate(`window.got = [];\n${script}\n0`);
    return page;
  }

  const load = (path: string) =>
    `new Promise((resolve) => { const script = document.createElement('script'); script.src = ${JSON.stringify(`${'{url}'}${path}`)}; script.onload = () => resolve('ran'); script.onerror = () => resolve('refused'); document.head.append(script); })`;

  test.each(traps)('gets nothing of pieces as scripts: %s', async (_, script) => {
    for (const strips of [false, true]) {
      const page = await hostile(script, strips);
      for (const path of urls.filter((url) => url.endsWith('.js') && !url.endsWith('page.js'))) {
        const how = await page.evaluate(load(path).replace('{url}', program.url));
        if (!strips) expect([path, how]).toEqual([path, 'refused']);
      }
      expect(JSON.stringify(await page.evaluate('got'))).not.toContain(secret);
      await page.context().close();
    }
  });

  test('gets nothing by fetch, sheets, frames and workers', async () => {
    const page = await hostile('', false);
    const result = await page.evaluate(`(async () => {
      const said = [];
      for (const path of ${JSON.stringify(urls)}) {
        for (const mode of ['cors', 'no-cors']) said.push(await fetch('${program.url}' + path, { mode }).then((answer) => answer.type === 'opaque' ? 'opaque' : answer.text(), () => 'failed'));
      }
      const link = Object.assign(document.createElement('link'), { rel: 'stylesheet', href: '${program.url}~spark/style/page.css' });
      await new Promise((resolve) => { link.onload = link.onerror = resolve; document.head.append(link); });
      said.push(getComputedStyle(document.querySelector('b')).color);
      const frame = Object.assign(document.createElement('iframe'), { src: '${program.url}' });
      await new Promise((resolve) => { frame.onload = resolve; document.body.append(frame); });
      try { said.push(frame.contentDocument.body.innerHTML); } catch (error) { said.push(error.name); }
      const worker = new Worker(URL.createObjectURL(new Blob(['try { importScripts("${program.url}~spark/piece/worker/tide.js.js"); postMessage("ran"); } catch (error) { postMessage(error.name); }'])));
      said.push(await new Promise((resolve) => { worker.onmessage = ({ data }) => resolve(data); }));
      const image = new Image(); image.src = '${program.url}img/gull.svg';
      await new Promise((resolve) => { image.onload = image.onerror = resolve; });
      said.push(image.naturalWidth);
      return said;
    })()`);
    expect(JSON.stringify(result)).not.toContain(secret);
    expect(result).not.toContain('rgb(1, 2, 3)');
    expect((result as unknown[]).slice(-2)).toEqual(['NetworkError', 0]);
    expect(new Set((result as string[]).slice(0, urls.length * 2))).toEqual(new Set(['failed']));
    await page.context().close();
  });

  test('is not in the way of our own: modules, sheets, late pieces, workers', async () => {
    const { page, errors } = await openPage(browser, program.url);
    await page.waitForFunction('window.said && window.second');
    expect(await page.evaluate('later().then(({ late }) => late)')).toBe(secret);
    expect(await page.evaluate('said')).toBe(secret);
    expect(errors).toEqual([]);
    await page.context().close();
  });
});
