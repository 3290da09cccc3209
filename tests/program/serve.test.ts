import { createServer } from 'node:http';
import { type AddressInfo, connect } from 'node:net';
import { networkInterfaces } from 'node:os';
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import WebSocket from 'ws';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const html =
  '<!doctype html><title>Quay</title><link rel="stylesheet" href="quay.css"><script type="module" src="src/main.ts"></script><body><h1>Quay</h1>';
const files = {
  'index.html': html,
  'quay.css': 'body { background: url("img/gull.svg"); }\n',
  'img/gull.svg': '<svg xmlns="http://www.w3.org/2000/svg"/>',
  'public/tides.txt': 'high at six',
  'src/main.ts': `import { berth } from './berth';\nconsole.log(berth);\n`,
  'src/berth.ts': 'export const berth: number = 4;\n',
  'src/secret.ts': 'export const secret = 1;\n',
  '.env': 'KEY=1',
};

let workspace: Workspace;
let program: Program;
beforeAll(async () => {
  workspace = Workspace.with(files);
  program = await Program.serve(workspace.root);
});
afterAll(async () => {
  await program.stop();
  workspace.dispose();
});

const get = (path: string, headers: Record<string, string> = {}) => fetch(new URL(path, program.url), { headers });

/** A request with a Host of our choice, which fetch doesn't let us set. */
function rawGet(path: string, host: string): Promise<string> {
  return new Promise((resolve, reject) => {
    const socket = connect(Number(new URL(program.url).port), 'localhost', () =>
      socket.write(`GET ${path} HTTP/1.1\r\nhost: ${host}\r\nconnection: close\r\n\r\n`),
    );
    let text = '';
    socket.on('data', (data) => {
      text += data;
    });
    socket.on('end', () => resolve(text));
    socket.on('error', reject);
  });
}

describe('pages', () => {
  test('are served with the client first and the modules as deferred pieces', async () => {
    const text = await (await get('/')).text();
    expect(text.indexOf('~spark/page.js')).toBeLessThan(text.indexOf('<link'));
    expect(text).toMatch(
      /<script defer src="\/~spark\/piece\/page\/index.html\/packages.js\?v=[\w-]+"><\/script><script defer src="\/~spark\/piece\/page\/index.html\/app.js\?v=[\w-]+">/,
    );
    expect(text).not.toContain('src/main.ts"');
  });

  test('answer deep links, but not paths that look like files', async () => {
    const deep = await get('/berths/4', { accept: 'text/html' });
    expect(deep.status).toBe(200);
    expect(await deep.text()).toContain('<h1>Quay</h1>');
    expect((await get('/berths/4.png', { accept: 'text/html' })).status).toBe(404);
  });
});

describe('pieces', () => {
  test('have strong ETags and are not sent twice', async () => {
    const path = '/~spark/piece/page/index.html/app.js';
    const first = await get(path);
    const etag = first.headers.get('etag')!;
    expect(etag).toMatch(/^"[0-9a-f-]+"$/);
    expect((await first.text()).includes('const berth')).toBe(true);
    const second = await get(path, { 'if-none-match': etag });
    expect(second.status).toBe(304);
    expect(await second.text()).toBe('');
  });

  test('name an index map with the sources at their project paths', async () => {
    const text = await (await get('/~spark/piece/page/index.html/app.js')).text();
    const url = /sourceMappingURL=(.*)/.exec(text)![1]!;
    const map = (await (await get(url)).json()) as { sections: { map: { sources: string[]; sourcesContent: string[] } }[] };
    expect(map.sections.map((section) => section.map.sources[0])).toEqual(['/src/berth.ts', '/src/main.ts']);
    expect(map.sections[0]!.map.sourcesContent[0]).toBe(files['src/berth.ts']);
  });
});

describe('files', () => {
  test('of the project, of verbatim folders and of style sheets are served', async () => {
    expect((await get('/img/gull.svg')).headers.get('content-type')).toBe('image/svg+xml');
    expect(await (await get('/tides.txt')).text()).toBe('high at six');
    const style = await (await get('/~spark/style/quay.css')).text();
    expect(style).toMatch(/url\("\/img\/gull\.svg\?v=[0-9a-f]+"\)/);
  });

  test.each([
    '/.env',
    '/src/secret.ts',
    '/package.json',
    '/%2e%2e/package.json',
    '/public/../.env',
    '/~spark/style/..%2f.env',
    '/~spark/piece/lazy/src/secret.ts.js',
  ])('%s is not', async (path) => {
    const text = await rawGet(path, 'localhost');
    expect(text).toMatch(/^HTTP\/1.1 404/);
  });

  test('that are missing give a page saying what was looked for and what there is', async () => {
    const reply = await get('/index.htm', { accept: 'text/html' });
    const text = await reply.text();
    expect(reply.status).toBe(404);
    expect(text).toContain('There is nothing at <code>/index.htm</code>');
    expect(text).toContain('Did you mean <a href="/index.html">');
    expect(text).toContain('a file in public');
  });
});

describe('safety', () => {
  test('unknown Host names are refused with what to do', async () => {
    const text = await rawGet('/', 'rebound.example:8463');
    expect(text).toMatch(/^HTTP\/1.1 403/);
    expect(text).toContain('listen: { names: [');
    expect(await rawGet('/', 'quay.localhost')).toMatch(/^HTTP\/1.1 200/);
  });

  test('the live channel takes neither foreign origins nor a wrong key', async () => {
    const { key } = (await (await get('/~spark/session')).json()) as { key: string };
    const open = (query: string, origin: string) =>
      new Promise<string>((resolve) => {
        const socket = new WebSocket(`${program.url.replace('http', 'ws')}~spark/live?${query}`, 'spark-live', { origin });
        socket.on('message', (data) => {
          resolve(JSON.parse(String(data)).type);
          socket.close();
        });
        socket.on('error', (error) => resolve(error.message));
      });
    const own = new URL(program.url).origin;
    expect(await open(`key=${key}`, own)).toBe('hello');
    expect(await open('key=guessed', own)).toContain('403');
    expect(await open(`key=${key}`, 'http://rebound.example')).toContain('403');
    expect((await get('/~spark/session', { origin: 'http://rebound.example' })).status).toBe(403);
  });
});

describe('saving', () => {
  test('the same content is no update, and several files saved together are one', async () => {
    const after = program.mark;
    workspace.write({ 'src/berth.ts': files['src/berth.ts'] });
    program.atOnce(() =>
      workspace.write({
        'src/berth.ts': 'export const berth: number = 5;\n',
        'src/main.ts': `import { berth } from './berth';\nconsole.log(berth + 1);\n`,
      }),
    );
    const update = await program.next('update', { after });
    expect(update.changed.toSorted()).toEqual(['src/berth.ts', 'src/main.ts']);
    expect(program.events.slice(after).filter(({ event }) => event === 'update')).toHaveLength(1);
  });

  test('a file that is emptied before it is written is read once, whole', async () => {
    const after = program.mark;
    workspace.write({ 'src/berth.ts': '' });
    setImmediate(() => workspace.write({ 'src/berth.ts': 'export const berth: number = 6;\n' }));
    const update = await program.next('update', { after });
    expect(update.changed).toEqual(['src/berth.ts']);
    expect(program.events.slice(after).some(({ event }) => event === 'problems')).toBe(false);
    expect(await (await get('/~spark/piece/page/index.html/app.js')).text()).toContain('berth = 6');
  });
});

describe('ports', () => {
  test('a taken port gives the next free one, and an error with --exact-port', async () => {
    const holder = createServer();
    await new Promise<void>((resolve) => holder.listen(0, 'localhost', resolve));
    const { port } = holder.address() as AddressInfo;
    const next = await Program.serve(workspace.root, ['index.html', '--port', String(port)]);
    const ready = await next.next('ready');
    expect(ready.wantedPort).toBe(port);
    expect(ready.port).toBeGreaterThan(port);
    await next.stop();
    await expect(Program.serve(workspace.root, ['index.html', '--port', String(port), '--exact-port'])).rejects.toThrow(
      `Port ${port} is in use.`,
    );
    holder.close();
  });

  test('a port that a rule leads to is left to the backend, which may not be there yet', async () => {
    const holder = createServer();
    await new Promise<void>((resolve) => holder.listen(0, 'localhost', resolve));
    const { port } = holder.address() as AddressInfo;
    const forwards = [port + 1, port + 2].flatMap((at) => ['--forward', `/api${at}=http://localhost:${at}`]);
    const next = await Program.serve(workspace.root, ['index.html', '--port', String(port), ...forwards]);
    const ready = await next.next('ready');
    expect(ready.port).toBeGreaterThan(port + 2);
    await next.stop();
    holder.close();
    const other = await Program.serve(workspace.root, ['index.html', '--port', String(port + 1), ...forwards]);
    expect(await other.next('ready')).toMatchObject({ wantedPort: port + 1, isForBackend: true });
    await other.stop();
  });
});

test('one save in an application of 200 modules translates one module', async () => {
  const many = Object.fromEntries(
    Array.from({ length: 200 }, (_, index) => [
      `src/m${index}.ts`,
      `${index < 199 ? `import { sum as below } from './m${index + 1}';` : 'const below = 0;'}\nexport const sum: number = below + ${index};\n`,
    ]),
  );
  const large = Workspace.with({ 'index.html': '<script type="module" src="src/m0.ts"></script>', ...many });
  const server = await Program.serve(large.root);
  expect((await server.next('ready')).modules).toBe(200);
  large.write({ 'src/m150.ts': `import { sum as below } from './m151';\nexport const sum: number = below + 1;\n` });
  const update = await server.next('update');
  expect(update).toMatchObject({ translations: 1, changed: ['src/m150.ts'], removed: [] });
  await server.stop();
  large.dispose();
});

const hasIpv6 = Object.values(networkInterfaces()).some((addresses) => addresses?.some(({ address }) => address === '::1'));
(hasIpv6 ? test : test.skip)('an address of IPv6 is served, with its live channel', async () => {
  const other = await Program.serve(workspace.root, ['index.html', '--host', '::1']);
  expect(other.url).toMatch(/^http:\/\/\[::1\]:\d+\/$/);
  expect(await (await fetch(other.url)).text()).toContain('~spark/page.js');
  const { key } = (await (await fetch(`${other.url}~spark/session`)).json()) as { key: string };
  const socket = new WebSocket(`${other.url.replace('http', 'ws')}~spark/live?key=${key}&page=index.html`, 'spark-live');
  await new Promise((resolve, reject) => socket.on('message', resolve).on('error', reject));
  socket.terminate();
  await other.stop();
});
