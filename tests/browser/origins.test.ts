import { spawnSync } from 'node:child_process';
import { chmodSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { request } from 'node:https';
import { networkInterfaces } from 'node:os';
import { afterAll, afterEach, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import WebSocket from 'ws';
import { Backend, freePort } from '../support/backend.js';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program, runProgram } from '../support/program.js';
import { sendRaw } from '../support/raw-http.js';
import { Workspace } from '../support/workspace.js';

const page = (script: string) => ({
  'index.html': '<!doctype html><title>Quay</title><script type="module" src="src/main.ts"></script>',
  'src/main.ts': script,
});

let browser: Browser;
let workspace: Workspace;
let program: Program | undefined;
let backend: Backend | undefined;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());
afterEach(async () => {
  await program?.stop();
  await backend?.close();
  workspace.dispose();
  [program, backend] = [undefined, undefined];
});

test('a blocked call is told with its line and the rule that solves it; pasted, the rule works', async () => {
  backend = await Backend.start(
    (_, response) => void response.writeHead(200, { 'content-type': 'application/json' }).end('["Merganser"]'),
  );
  const call = (url: string) =>
    `const load = async () =>\n  (await fetch('${url}')).json();\nload().then((names) => { document.title = names[0]; }, () => { document.title = 'blocked'; });\n`;
  workspace = Workspace.with(page(call(`${backend.origin}/api/departures?tide=high`)));
  program = await Program.serve(workspace.root);
  const watched = await openPage(browser, program.url);
  const { warning } = await program.next('warning');
  const rule = `forward: [{ paths: ['/api'], to: '${backend.origin}' }]`;
  expect(warning).toMatchObject({
    code: 'call-blocked',
    file: 'src/main.ts',
    position: { line: 2 },
    message: expect.stringMatching(/^The browser blocked fetch\('http:.*another origin/),
    hint: `Ask for '/api/departures?tide=high' instead, and let the dev server forward it: ${rule}`,
  });
  while (!watched.console.some((text) => text.includes(rule))) await watched.page.waitForEvent('console');
  expect(watched.console.find((text) => text.includes(rule))).toMatch(/Vine Spark: The browser blocked.*src\/main\.ts:2:/);
  const after = program.mark;
  workspace.write({ 'vine-spark.config.js': `export default { ${rule} };` });
  await program.next('settings', { after });
  workspace.write({ 'src/main.ts': call('/api/departures?tide=high') });
  await watched.page.waitForFunction(`document.title === 'Merganser'`);
  await watched.page.context().close();
}, 60_000);

test('calls without cookies, by other means, and to nobody are told once; what the page gets is the same', async () => {
  const allowed = { 'access-control-allow-origin': '*', 'content-type': 'text/plain' };
  backend = await Backend.start((request, response) => {
    response.writeHead(200, request.url === '/free' ? allowed : {}).end('tide');
  });
  const at = backend.origin;
  workspace = Workspace.with(
    page(`
const said: string[] = [];
const xhr = (url: string) => new Promise((done) => { const r = new XMLHttpRequest(); r.onload = r.onerror = (e) => done(e.type + r.responseText); r.open('GET', url); r.send(); });
const say = async () => {
  for (let i = 0; i < 2; i++) said.push(await (await fetch('${at}/free')).text());
  said.push(String(await xhr('${at}/free')), String(await xhr('${at}/shut')));
  said.push(await fetch(new Request('http://127.0.0.1:9/')).then(String, (e) => e.constructor.name));
  said.push(await fetch('${at}/shut', { mode: 'no-cors' }).then((r) => r.type, String));
  said.push(await fetch('${at}/free', { signal: AbortSignal.abort() }).then(String, (e) => e.name));
  new EventSource('${at}/events').onerror = () => { document.title = said.join(); };
};
void say();
`),
  );
  program = await Program.serve(workspace.root);
  const watched = await openPage(browser, program.url);
  await watched.page.waitForFunction(`document.title !== 'Quay'`);
  expect(await watched.page.title()).toBe('tide,tide,loadtide,error,TypeError,opaque,AbortError');
  const wanted = [
    [/^fetch\('.*\/free'\) went without cookies/, `paths: ['/free']`],
    [/^The browser blocked XMLHttpRequest of '.*\/shut'/, `paths: ['/shut']`],
    [/^Nothing answers at http:\/\/127\.0\.0\.1:9 \(ECONNREFUSED\)/, `path: { drop: '/backend' }`],
    [/^The browser blocked EventSource of/, `paths: ['/events']`],
  ] as const;
  for (const [message, hint] of wanted)
    await program.next('warning', { where: ({ warning }) => message.test(warning.message) && warning.hint.includes(hint) });
  expect(program.events.filter(({ event }) => event === 'warning')).toHaveLength(wanted.length);
  await watched.page.context().close();
}, 60_000);

test('check finds origins of this machine that stand in sources, and says what to write instead', async () => {
  workspace = Workspace.with({
    ...page(`import('./late');\n// http://localhost:1/ in a comment\nexport const page = 'http://example.test/';\n`),
    // Whoever listens at the usual port would be one finding more.
    'vine-spark.config.json': `{ "listen": { "port": ${await freePort()} } }`,
    'src/late.tsx':
      'const at: string = "http://localhost:8464";\nfetch(`http://127.0.0.1:8464/api/${at}`);\nexport const live = "ws://localhost:8464/live";\n',
  });
  const { code, stdout } = await runProgram(workspace.root, ['check', 'index.html']);
  expect(code).toBe(1);
  expect(stdout.match(/src\/late\.tsx:\d+:\d+/g)).toEqual(['src/late.tsx:1:21', 'src/late.tsx:2:8', 'src/late.tsx:3:22']);
  expect(stdout).toMatch(/forward: \[\{ paths: \['\/api'\], to: 'http:\/\/127\.0\.0\.1:8464' \}\].*3 found in 2 modules/s);
  workspace.write({ 'src/late.tsx': '' });
  expect(await runProgram(workspace.root, ['check', 'index.html'])).toMatchObject({
    code: 0,
    stdout: expect.stringMatching(/^nothing found/),
  });
}, 60_000);

/** A program with its own folder for the user's data. */
async function serveSecurely(args: readonly string[] = []): Promise<void> {
  process.env.VINE_SPARK_DATA = workspace.path('data');
  program = await Program.serve(workspace.root, ['--https', ...args, 'index.html']);
  delete process.env.VINE_SPARK_DATA;
}

/** Status and fields, trusting the authority and nobody else. */
function getSecurely(url: string, options: object = {}): Promise<{ status: number; fields: Record<string, unknown> }> {
  return new Promise((resolve, reject) => {
    const ca = readFileSync(workspace.path('data/authority.pem'));
    request(url, { ca, ...options }, (answer) => {
      answer.resume();
      resolve({ status: answer.statusCode!, fields: answer.headers });
    })
      .on('error', reject)
      .end();
  });
}

test('HTTPS by an authority of the user: private, made once, trusted by the browser; secure socket, cookie and worker; HTTP is led there', async () => {
  backend = await Backend.start((request, response) => {
    response.writeHead(200, {
      'set-cookie': 'harbour=saltmarsh; Secure; Path=/',
      'x-proto': String(request.headers['x-forwarded-proto']),
    });
    response.end();
  });
  const script = `navigator.serviceWorker.register('/sw.js').then(async () => { await fetch('/api/x'); document.title = [isSecureContext, document.cookie].join(); });`;
  workspace = Workspace.with({
    ...page(script),
    'public/sw.js': '',
    'vine-spark.config.json': JSON.stringify({ forward: [{ paths: ['/api'], to: backend.origin }] }),
  });
  await serveSecurely();
  const url = program!.url;
  expect(url).toMatch(/^https:\/\/localhost:\d+\/$/);
  const notes = program!.events.filter(({ event }) => event === 'note').map(({ text }) => text);
  expect(notes[0]).toContain('authority.pem');
  for (const name of readdirSync(workspace.path('data')))
    expect([name, statSync(workspace.path(`data/${name}`)).mode & 0o077]).toEqual([name, 0]);
  expect(statSync(workspace.path('data')).mode & 0o077).toBe(0);
  // A home of its own, whose store trusts the authority.
  const home = workspace.path('home');
  mkdirSync(`${home}/.pki/nssdb`, { recursive: true });
  const nss = (...args: string[]) => spawnSync('certutil', ['-d', `sql:${home}/.pki/nssdb`, ...args], { encoding: 'utf8' });
  expect(nss('-N', '--empty-password').status).toBe(0);
  expect(nss('-A', '-t', 'C,,', '-n', 'harbour', '-i', workspace.path('data/authority.pem')).status).toBe(0);
  const trusting = await launchBrowser(home);
  const watched = await openPage(trusting, url);
  await watched.page.waitForFunction(`document.title.startsWith('true')`);
  expect(await watched.page.title()).toBe('true,harbour=saltmarsh');
  await program!.next('joined');
  const after = program!.mark;
  workspace.write({ 'src/main.ts': `${script}\n// again\n` });
  await program!.next('reloaded', { after });
  await trusting.close();
  // Nobody else does.
  await expect(openPage(browser, url)).rejects.toThrow('ERR_CERT_AUTHORITY_INVALID');
  expect((await getSecurely(`${url}api/x`)).fields).toMatchObject({ 'x-proto': 'https' });
  const port = Number(new URL(url).port);
  expect(await sendRaw(port, `GET /berths?x=1 HTTP/1.1\r\nhost: localhost:${port}\r\n\r\n`, 'localhost')).toMatch(
    new RegExp(`^HTTP/1.1 307 .*location: https://localhost:${port}/berths\\?x=1\r\n`, 's'),
  );
  for (const nonsense of ['GET / HTTP/1.1\r\nhost: a"b\r\n\r\n', 'nonsense\r\n\r\n', '\x16\x03\x01nonsense'])
    expect(await sendRaw(port, nonsense, 'localhost')).not.toContain('location: https://a');
  // The same authority the next time, without a word; names of its own, in the address too.
  const authority = readFileSync(workspace.path('data/authority.pem'), 'utf8');
  await program!.stop();
  workspace.write({ 'vine-spark.config.json': '{ "listen": { "names": ["harbour.test"] } }' });
  writeFileSync(workspace.path('data/0-junk.pem'), 'junk');
  await serveSecurely(['--host', '127.0.0.1']);
  expect(program!.events.filter(({ event }) => event === 'note')).toEqual([]);
  expect(readFileSync(workspace.path('data/authority.pem'), 'utf8')).toBe(authority);
  expect(await getSecurely(program!.url, { servername: 'harbour.test', headers: { host: 'harbour.test' } })).toMatchObject({
    status: 200,
  });
  // Damage costs a new one.
  await program!.stop();
  chmodSync(workspace.path('data'), 0o755);
  writeFileSync(workspace.path('data/authority-key.pem'), 'junk');
  await serveSecurely();
  expect(readFileSync(workspace.path('data/authority.pem'), 'utf8')).not.toBe(authority);
  expect(await getSecurely(program!.url)).toMatchObject({ status: 200 });
}, 90_000);

test('own certificates are used as they are; mistakes in them are told', async () => {
  workspace = Workspace.with(page(''));
  await serveSecurely();
  await program!.stop();
  const [name] = readdirSync(workspace.path('data')).filter((file) => /^[0-9a-f]{16}\.pem$/.test(file));
  const own = { key: `data/${name!.replace('.pem', '-key.pem')}`, certificate: `data/${name}` };
  workspace.write({ 'vine-spark.config.json': JSON.stringify({ listen: { https: own } }) });
  program = await Program.serve(workspace.root);
  expect(await getSecurely(program.url)).toMatchObject({ status: 200 });
  await program.stop();
  workspace.write({ 'vine-spark.config.json': JSON.stringify({ listen: { https: { ...own, key: 'none.pem' } } }) });
  expect(await runProgram(workspace.root, ['serve'])).toMatchObject({
    code: 2,
    stderr: expect.stringContaining('certificate-unusable'),
  });
}, 60_000);

test('every address of the machine: told once, with a code for phones; names and tunnels reach the live channel', async () => {
  workspace = Workspace.with({ ...page(''), 'vine-spark.config.json': '{ "listen": { "names": ["harbour.test"] } }' });
  program = await Program.serve(workspace.root, ['--host', '0.0.0.0', '--qr', 'index.html']);
  const ready = await program.next('ready');
  const [address] = Object.values(networkInterfaces())
    .flat()
    .filter((found) => found && !found.internal && found.family === 'IPv4');
  if (address) {
    expect(ready.networkUrls).toContain(program.url.replace('localhost', address.address));
    expect((await fetch(program.url.replace('localhost', address.address))).status).toBe(200);
    expect(ready.code.url).toBe(program.url.replace('localhost', address.address));
  }
  expect(ready.code.lines.length).toBeGreaterThan(10);
  const { port } = new URL(program.url);
  const session = (await (await fetch(`${program.url}~spark/session`)).json()) as { key: string };
  const join = (origin: string, host = `localhost:${port}`) =>
    new Promise((resolve) => {
      const headers = { host };
      const socket = new WebSocket(`ws://127.0.0.1:${port}/~spark/live?key=${session.key}&page=index.html`, 'spark-live', {
        origin,
        headers,
      });
      socket.on('open', () => resolve('open'));
      socket.on('error', (error) => resolve(error.message));
    });
  expect(await join('https://harbour.test')).toBe('open');
  expect(await join('https://harbour.test', 'harbour.test')).toBe('open');
  expect(await join('https://harbour.test:9999')).toContain('403');
  expect(await join('https://stranger.test')).toContain('403');
}, 60_000);
