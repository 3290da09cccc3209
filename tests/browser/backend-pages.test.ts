import { type ChildProcess, spawn } from 'node:child_process';
import { readFileSync } from 'node:fs';
import * as zlib from 'node:zlib';
import { afterAll, afterEach, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { Backend, freePort } from '../support/backend.js';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program, runProgram } from '../support/program.js';
import { readMessage, sendRaw } from '../support/raw-http.js';
import { isLong } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

const berths = (heading: string) => `
import { useEffect, useState } from 'react';
import { createRoot } from 'react-dom/client';
import gull from './assets/gull.svg';
import './berths.css';
import { Berths } from './list';
createRoot(document.getElementById('board')!).render(<><h1>${heading}</h1><img src={gull} alt="" /><Berths /></>);
`;
const list = (word: string) => `
import { useEffect, useState } from 'react';
export function Berths() {
  const [held, hold] = useState(0);
  const [said, say] = useState('');
  useEffect(() => {
    const worker = new Worker(new URL('./tide.worker.ts', import.meta.url), { type: 'module' });
    worker.onmessage = async ({ data }) => say(data + ' ' + (await import('./late')).late);
    return () => worker.terminate();
  }, []);
  return <><button onClick={() => hold(held + 1)}>${word} {held}</button><p id="said">{said}</p></>;
}
`;
const files = {
  'src/berths.tsx': berths('Berths'),
  'src/list.tsx': list('held'),
  'src/berths.css': `h1 { color: rgb(31, 93, 58); background: url(./assets/gull.svg); }\n@font-face { font-family: Quay; src: url(./assets/quay.woff2); }\nbutton { font-family: Quay; }\n`,
  'src/late.ts': `import './late.css';\nexport const late = 'late';\n`,
  'src/late.css': '#said { color: rgb(217, 72, 43); }',
  'src/tide.worker.ts': `postMessage('tide');\n`,
  'src/assets/gull.svg':
    '<svg xmlns="http://www.w3.org/2000/svg" width="8" height="8"><rect width="8" height="8" fill="green"/></svg>',
  'src/assets/quay.woff2': 'no font, but a file that browsers ask for as one',
};
const settings = (value: object) => ({ 'vine-spark.config.json': JSON.stringify(value) });

let browser: Browser;
let workspace: Workspace;
let program: Program | undefined;
let backend: Backend | undefined;
let child: ChildProcess | undefined;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());
afterEach(async () => {
  child?.kill();
  await backend?.close();
  await program?.stop();
  workspace.dispose();
  [program, backend, child] = [undefined, undefined, undefined];
});

/** Runs a program of docs/backends.md on a free port. */
async function runExample(language: 'python' | 'js', port: number, env: Record<string, string> = {}): Promise<string> {
  const text = readFileSync(`${repository}/docs/backends.md`, 'utf8');
  const source = new RegExp(`\`\`\`${language}\n([\\s\\S]*?)\`\`\``).exec(text)![1]!.replace('8464', String(port));
  const file = language === 'js' ? 'backend.mjs' : 'backend.py';
  workspace.write({ [file]: source });
  const command = language === 'js' ? process.execPath : 'python3';
  const options = { cwd: workspace.root, stdio: 'ignore', env: { ...process.env, ...env } } as const;
  child = spawn(command, [file], options);
  const url = `http://localhost:${port}/`;
  for (let tries = 0; tries < 200 && !(await fetch(url).catch(() => undefined)); tries++)
    await new Promise((resolve) => setTimeout(resolve, 50));
  return url;
}

/** What the page shows when everything has come. */
async function seen({ page, errors }: Awaited<ReturnType<typeof openPage>>) {
  await page.locator('#said', { hasText: 'tide late' }).waitFor();
  // What a policy says of scripts counts for functions that wait in the page too.
  while ((await page.evaluate(`document.querySelector('h1 + img').naturalWidth`)) !== 8)
    await page.evaluate(`document.querySelector('h1 + img').decode()`);
  const style = (selector: string, name: string) =>
    page.evaluate(`getComputedStyle(document.querySelector('${selector}')).${name}`);
  return {
    heading: await style('h1', 'color'),
    late: await style('#said', 'color'),
    background: String(await style('h1', 'backgroundImage')),
    errors: errors.filter((text) => !/favicon/.test(text)),
  };
}

const green = 'rgb(31, 93, 58)';
const ember = 'rgb(217, 72, 43)';

test("a backend's page in Python with our tag: styles, files, updates that keep state, panel, its own cookie", async () => {
  const port = await freePort();
  const from = [`http://localhost:${port}`];
  workspace = Workspace.with({ ...files, ...settings({ embed: { from } }) }, { packages: true });
  program = await Program.serve(workspace.root, ['--port', '0']);
  const url = await runExample('python', port, { FRONT_END: program.url.replace(/\/$/, '') });
  const answered: [string, number][] = [];
  const context = await browser.newContext();
  const watched = await openPage({ newContext: async () => context } as unknown as Browser, 'about:blank');
  watched.page.on('response', (response) => void answered.push([new URL(response.url()).pathname, response.status()]));
  await watched.page.goto(url);
  const origin = new URL(program.url).origin;
  expect(await seen(watched)).toEqual({
    heading: green,
    late: ember,
    background: expect.stringContaining(`url("${origin}/src/assets/gull.svg`),
    errors: [],
  });
  expect(answered.find(([path]) => path.endsWith('quay.woff2'))).toEqual(['/src/assets/quay.woff2', 200]);
  expect(await context.cookies(url)).toMatchObject([{ name: 'harbour', value: 'saltmarsh' }]);
  const { page } = watched;
  await page.click('button');
  await page.click('button');
  let after = program.mark;
  workspace.write({ 'src/list.tsx': list('taken') });
  expect(await program.next('applied', { after })).toMatchObject({ boundaries: ['src/list.tsx'], reset: [] });
  expect(await page.textContent('button')).toBe('taken 2');
  after = program.mark;
  workspace.write({ 'src/berths.css': 'h1 { color: rgb(1, 2, 3); background: url(./assets/gull.svg); }' });
  await program.next('applied', { after });
  expect(await page.evaluate(`getComputedStyle(document.querySelector('h1')).color`)).toBe('rgb(1, 2, 3)');
  expect(await page.textContent('button')).toBe('taken 2');
  workspace.write({ 'src/list.tsx': 'export function Berths( {' });
  await page.waitForSelector('spark-panel', { state: 'attached' });
  expect(await page.evaluate(`document.querySelector('spark-panel').shadowRoot.textContent`)).toContain('src/list.tsx');
  after = program.mark;
  workspace.write({ 'src/list.tsx': `${list('free')}` });
  await program.next('applied', { after });
  expect(await page.textContent('button')).toBe('free 2');
  workspace.write({
    'src/list.tsx': list('free').replace('const [held', `if (location.hash) throw new Error('aground');\n  const [held`),
  });
  await page.evaluate(`location.hash = 'x'`);
  const { problem } = await program.next('error', { after });
  expect(problem).toMatchObject({ file: 'src/list.tsx', message: expect.stringContaining('aground') });
  await context.close();
}, 60_000);

test.each(isLong ? (['python', 'js'] as const) : (['js'] as const))(
  'the same backend of docs/backends.md in %s prints what was built',
  async (language) => {
    const port = await freePort();
    workspace = Workspace.with({ ...files, ...settings({ embed: { entries: ['src/berths.tsx'] } }) }, { packages: true });
    const built = await runProgram(workspace.root, [
      'build',
      '--no-cache',
      '--no-minify',
      '--base',
      '/static/',
      '--out',
      'static',
    ]);
    expect(built).toMatchObject({ code: 0, stderr: '' });
    const watched = await openPage(browser, await runExample(language, port));
    expect(await seen(watched)).toMatchObject({ heading: green, late: ember, errors: [] });
    await watched.page.context().close();
  },
  60_000,
);

const encodings: Record<string, (text: string) => Buffer> = {
  identity: (text) => Buffer.from(text),
  gzip: (text) => zlib.gzipSync(text),
  br: (text) => zlib.brotliCompressSync(text),
  deflate: (text) => zlib.deflateSync(text),
};

test('its pages through a rule for what is missing: encoded, with a nonce policy, several entries, templates', async () => {
  let policy = `default-src 'none'; script-src 'nonce-tide'; style-src 'nonce-tide'; img-src 'self'; font-src 'self'; connect-src 'self'; worker-src 'self'`;
  let encoding = 'gzip';
  let word = 'one';
  const asked: Record<string, unknown>[] = [];
  backend = await Backend.start((request, response) => {
    if (request.url === '/favicon.ico') return void response.writeHead(204).end();
    asked.push(request.headers);
    const fragment = request.url === '/part';
    const body = encodings[encoding]!(
      fragment
        ? `<li>${word}</li>`
        : `<!DOCTYPE html><html><head><title>${word}</title></head><body><div id="board"></div></body></html>`,
    );
    response.writeHead(200, {
      'content-type': 'text/html; charset=utf-8',
      'content-encoding': encoding,
      'content-length': body.length,
      etag: '"as-it-was"',
      'content-security-policy': policy,
      'set-cookie': 'harbour=saltmarsh; HttpOnly',
    });
    response.end(body);
  });
  const rule = { paths: ['/**'], to: backend.origin, when: 'missing', entries: ['src/berths.tsx', 'src/second.ts'] };
  workspace = Workspace.with(
    {
      ...files,
      'src/second.ts': `document.documentElement.dataset.second = import.meta.base;\n`,
      'templates/board.txt': 'one',
      ...settings({ forward: [rule], embed: { watch: ['templates/**'] } }),
    },
    { packages: true },
  );
  program = await Program.serve(workspace.root, ['--port', '0']);
  const watched = await openPage(browser, `${program.url}harbour`);
  const { page } = watched;
  expect(await seen(watched)).toMatchObject({ heading: green, late: ember, errors: [] });
  expect(await page.evaluate('document.documentElement.dataset.second')).toBe('/');
  await page.click('button');
  let after = program.mark;
  workspace.write({ 'src/list.tsx': list('taken') });
  await program.next('applied', { after });
  expect(await page.textContent('button')).toBe('taken 1');
  after = program.mark;
  [word, encoding, policy] = ['two', 'br', `script-src 'self' 'unsafe-eval'`];
  workspace.write({ 'templates/board.txt': 'two' });
  expect(await program.next('templates', { after })).toMatchObject({ files: ['templates/board.txt'], pages: 1 });
  await page.waitForFunction(`document.title === 'two'`);
  expect(asked.at(-1)).not.toHaveProperty('if-none-match');
  for (encoding of Object.keys(encodings)) {
    const get = async (path: string, headers: Record<string, string>) => {
      const reply = await fetch(`${program!.url}${path}`, { headers });
      return { text: await reply.text(), etag: reply.headers.get('etag'), length: reply.headers.get('content-length') };
    };
    const whole = await get('harbour', { accept: 'text/html', 'if-none-match': '"as-it-was"' });
    expect(whole.text).toMatch(
      /^<!DOCTYPE html><html><head><script src="[^"]*page\.js".*<title>two<\/title><link.*<\/head><body><div/s,
    );
    expect([whole.etag, whole.length]).toEqual([null, null]);
    // Parts of pages, and what is asked for as data, stay as they are.
    const part = await get('part', { accept: 'text/html' });
    expect([encoding, part.text, part.etag]).toEqual([encoding, '<li>two</li>', '"as-it-was"']);
    expect((await get('harbour', { accept: '*/*' })).text).not.toContain('~spark');
  }
  await page.context().close();
  await program.stop();
  // Built, the same rule gives the same pages.
  [encoding, policy] = ['gzip', `default-src 'self'; script-src 'nonce-tide'; style-src 'nonce-tide'; worker-src 'self'`];
  expect(await runProgram(workspace.root, ['build', '--no-cache', '--no-minify'])).toMatchObject({ code: 0 });
  program = await Program.serve(workspace.root, ['--built', '--port', '0']);
  const built = await openPage(browser, `${program.url}harbour`);
  expect(await seen(built)).toMatchObject({ heading: green, late: ember, errors: [] });
  await built.page.context().close();
}, 90_000);

test('whatever a page of the backend leaves out, it gets what is put in once, and keeps the rest', async () => {
  const pages = [
    '<!doctype html><title>tide</title><p>ebb',
    '<!doctype html><html><head><style></style>ebb',
    '<!doctype html><html><!-- -->ebb',
    '<!doctype html><head><meta name="a"></body></html>',
    '<!doctype html></body>',
    '<html>\r\n<script>"</head>"</script>',
  ];
  backend = await Backend.start((request, response) => {
    response.writeHead(200, { 'content-type': 'text/html' });
    response.end(pages[Number(request.url?.slice(1))]);
  });
  const rule = { paths: ['/**'], to: backend.origin, when: 'missing', entries: ['src/second.ts'] };
  workspace = Workspace.with({ 'src/second.ts': '', ...settings({ forward: [rule] }) });
  program = await Program.serve(workspace.root, ['--port', '0']);
  const port = Number(new URL(program.url).port);
  const told: string[] = [];
  for (const at of pages.keys()) {
    const asked = `GET /${at} HTTP/1.1\r\nHost: localhost:${port}\r\nSec-Fetch-Dest: document\r\nConnection: close\r\n\r\n`;
    told.push(readMessage(await sendRaw(port, asked)).body);
  }
  const putIn = /<(?:script|link|style)[^>]*~spark[^>]*>(?:<\/script>|<\/style>)?\n?/g;
  expect(new Set(told.map((html) => html.match(putIn)!.length)).size).toBe(1);
  expect(told.map((html) => html.replaceAll(putIn, ''))).toEqual(pages);
});

test('a template keeps its own paths, which stand for sources', async () => {
  backend = await Backend.start((request, response) => {
    if (request.url !== '/') return void response.writeHead(204).end();
    response.writeHead(200, { 'content-type': 'text/html' });
    response.end(
      `<html><head><link rel="stylesheet" href="/static/app.css"><script src="/static/app.js"></script></head><body><img id="own" src="/static/gull.svg"><div id="board"></div></body></html>`,
    );
  });
  const urls = {
    '/static/app.js': 'src/berths.tsx',
    '/static/app.css': 'src/page.css',
    '/static/gull.svg': 'src/assets/gull.svg',
  };
  const forward = [{ paths: ['/**'], to: backend.origin, when: 'missing' }];
  workspace = Workspace.with(
    { ...files, 'src/page.css': 'body { margin: 7px; }', ...settings({ embed: { urls }, forward }) },
    { packages: true },
  );
  program = await Program.serve(workspace.root, ['--port', '0']);
  const watched = await openPage(browser, program.url);
  expect(await seen(watched)).toMatchObject({ heading: green, late: ember, errors: [] });
  expect(await watched.page.evaluate(`getComputedStyle(document.body).margin`)).toBe('7px');
  expect(await watched.page.evaluate(`document.querySelector('#own').naturalWidth`)).toBe(8);
  await watched.page.click('button');
  const after = program.mark;
  workspace.write({ 'src/list.tsx': list('taken') });
  await program.next('applied', { after });
  expect(await watched.page.textContent('button')).toBe('taken 1');
  await watched.page.context().close();
}, 60_000);

test('a page of an origin that is not listed gets a sentence, and nothing else', async () => {
  const said = {
    start: `<!doctype html><title>Other</title><script src="`,
    end: `~spark/embed.js" data-entry="src/berths.tsx"></script>`,
  };
  backend = await Backend.start((_, response) => {
    response.writeHead(200, { 'content-type': 'text/html' });
    response.end(said.start + program!.url + said.end);
  });
  workspace = Workspace.with({ ...files, 'index.html': '<title>Quay</title>' }, { packages: true });
  program = await Program.serve(workspace.root);
  const { page, console: lines } = await openPage(browser, backend.origin);
  const sentence = `embed: { from: ['${backend.origin}'] }`;
  expect(lines.find((text) => text.startsWith('Vine Spark:'))).toContain(sentence);
  expect((await program.next('note')).text).toContain(sentence);
  expect(await page.evaluate(`'~spark' in self`)).toBe(false);
  await page.context().close();
}, 60_000);
