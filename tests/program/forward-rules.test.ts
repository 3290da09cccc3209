import { spawn, spawnSync } from 'node:child_process';
import { once } from 'node:events';
import { readFileSync, writeFileSync } from 'node:fs';
import { createServer, request as httpRequest, type RequestListener, type Server } from 'node:http';
import { createServer as createSecureServer } from 'node:https';
import { type AddressInfo, connect } from 'node:net';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
// @ts-expect-error: it has no types of its own
import express from 'express';
import { WebSocket, WebSocketServer } from 'ws';
import { Program } from '../support/program.js';
import { randomNumbers } from '../support/random-program.js';
import { sendRaw } from '../support/raw-http.js';
import { full, longTest } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

/** Rules of forwarding, kinds of backends, sockets, sizes and numbers. */

let workspace: Workspace;
let program: Program;
const servers: Server[] = [];
const close: (() => void)[] = [];

/** Says what it was asked, and by whom. */
const echo =
  (name: string): RequestListener =>
  (request, response) =>
    response.end(JSON.stringify({ name, method: request.method, url: request.url, headers: request.headers }));

async function listen(server: Server, where: { port: number; host: string } | { path: string }): Promise<number> {
  servers.push(server);
  await new Promise<void>((resolve) => server.listen(where, resolve));
  return 'path' in where ? 0 : (server.address() as AddressInfo).port;
}
const local = { port: 0, host: '127.0.0.1' };

let plainPort: number;
let redirecting: number;
let goOn = () => {};
let neverAnswered = 0;
beforeAll(async () => {
  workspace = Workspace.with({ 'index.html': '<!doctype html><title>Quay</title>', 'public/mark.svg': '<svg/>' });
  plainPort = await listen(createServer(echo('plain')), local);
  const ipv6Port = await listen(createServer(echo('ipv6')), { port: 0, host: '::1' });
  await listen(createServer(echo('socket')), { path: workspace.path('backend.sock') });
  const key = workspace.path('key.pem');
  const certificate = workspace.path('cert.pem');
  spawnSync('openssl', [
    'req',
    '-x509',
    '-newkey',
    'rsa:2048',
    '-nodes',
    '-keyout',
    key,
    '-out',
    certificate,
    '-days',
    '2',
    '-subj',
    '/CN=harbour.test',
  ]);
  const securePort = await listen(
    createSecureServer({ key: readFileSync(key), cert: readFileSync(certificate) }, echo('secure')) as unknown as Server,
    local,
  );
  redirecting = await listen(
    createServer((request, response) => {
      const locations: Record<string, string> = {
        '/v1/absolute': `http://${request.headers.host}/v1/next?x=1`,
        '/v1/path': '/v1/next',
        '/v1/elsewhere': 'https://elsewhere.example/v1/next',
      };
      const cookies = ['berth=4; Domain=harbour.test; Path=/v1; Secure; SameSite=None', 'tide=high; HttpOnly'];
      response.writeHead(302, {
        location: locations[request.url!] ?? '/',
        'set-cookie': cookies,
        'x-drop': '1',
        'x-change': 'old',
      });
      response.end();
    }),
    local,
  );
  const app = express();
  app.use(express.json());
  app.post('/express/departures', (request: any, response: any) => {
    response.status(201).json({ got: request.body, ip: request.get('x-forwarded-host') });
  });
  app.get('/express/file', (_: unknown, response: any) => response.sendFile(join(workspace.root, 'index.html')));
  const expressPort = await listen(createServer(app), local);
  const python = spawn('python3', ['-u', '-m', 'http.server', '0', '--bind', '127.0.0.1'], { cwd: workspace.root });
  close.push(() => python.kill());
  const pythonPort = await new Promise<string>((resolve) =>
    python.stdout.on('data', (data) => {
      const port = /port (\d+)/.exec(String(data))?.[1];
      if (port) resolve(port);
    }),
  );
  const rule = (to: string, more: string) => `{ to: '${to}', ${more} }`;
  const plain = `http://127.0.0.1:${plainPort}`;
  workspace.write({
    'vine-spark.config.ts': `export default { forward: [
      ${rule(plain, `paths: ['/api']`)},
      ${rule(`http://[::1]:${ipv6Port}`, `paths: ['/api/v6', '/*/v6']`)},
      ${rule(`unix:${workspace.path('backend.sock')}`, `paths: ['/api/socket']`)},
      ${rule(`https://127.0.0.1:${securePort}`, `paths: ['/api/secure'], selfSigned: true`)},
      ${rule(`https://127.0.0.1:${securePort}`, `paths: ['/api/unsure']`)},
      ${rule(`http://127.0.0.1:${redirecting}`, `paths: ['/old'], path: { drop: '/old', add: '/v1' }, cookies: { domain: null, path: '/', secure: false, sameSite: 'Lax' }, responseHeaders: { 'x-drop': null, 'x-change': 'new', 'x-add': 'more' }`)},
      ${rule(plain, `paths: ['/host'], host: 'harbour.test', forwarded: true, requestHeaders: { 'x-version': '2', cookie: null }`)},
      ${rule(plain, `paths: ['/browser'], host: 'browser', path: (path) => path.toUpperCase(), requestHeaders: (headers) => ({ 'x-was': headers.accept ?? 'none' })`)},
      ${rule(`http://127.0.0.1:${expressPort}`, `paths: ['/express']`)},
      ${rule(`http://127.0.0.1:${pythonPort}`, `paths: ['/files'], path: { drop: '/files' }`)},
      ${rule(plain, `paths: ['/api'], methods: ['delete'], requestHeaders: { 'x-rule': 'delete' }`)},
      ${rule(plain, `paths: ['/api'], headers: { accept: 'text/csv' }, requestHeaders: { 'x-rule': 'csv' }`)},
      ${rule('http://127.0.0.1:9', `paths: ['/down']`)},
      ${rule(plain, `paths: ['/slow'], timeouts: { answerMs: 60 }, path: () => '/never'`)},
      ${rule(plain, `paths: ['/busy'], timeouts: { connectMs: 3000 }, requestHeaders: { 'x-rule': 'busy' }`)},
      ${rule(plain, `paths: ['/**'], when: 'missing', requestHeaders: { 'x-rule': 'missing' }`)},
    ] };`,
  });
  servers[0]!.removeAllListeners('request');
  servers[0]!.on('request', (request, response) => {
    if (request.url === '/api/stream') {
      response.write('first');
      goOn = () => response.end('second');
    } else if (request.headers['x-rule'] === 'busy') neverAnswered++;
    else if (request.url !== '/never') echo('plain')(request, response);
    if (request.url === '/api/more') goOn();
  });
  program = await Program.serve(workspace.root, ['index.html', '--traffic']);
});
afterAll(async () => {
  await program.stop();
  for (const work of close) work();
  for (const server of servers) {
    server.closeAllConnections();
    server.close();
  }
  workspace.dispose();
});

async function ask(path: string, options: RequestInit = {}) {
  const answer = await fetch(program.url + path, { redirect: 'manual', ...options });
  const text = await answer.text();
  return { status: answer.status, headers: answer.headers, text, json: () => JSON.parse(text) as any };
}

describe('rules', () => {
  test('the most specific one wins: by path, then by conditions', async () => {
    expect((await ask('api/x')).json().name).toBe('plain');
    expect((await ask('api/v6/x')).json().name).toBe('ipv6');
    expect((await ask('other/v6')).json().name).toBe('ipv6');
    expect((await ask('api/socket')).json().name).toBe('socket');
    expect((await ask('api/x', { method: 'DELETE' })).json().headers['x-rule']).toBe('delete');
    expect((await ask('api/x', { headers: { accept: 'text/csv' } })).json().headers['x-rule']).toBe('csv');
    expect((await ask('apiary', { headers: { accept: 'application/json' } })).json().headers['x-rule']).toBe('missing');
  });

  test('what only the front end lacks goes to the backend', async () => {
    expect((await ask('mark.svg')).text).toBe('<svg/>');
    expect((await ask('', { headers: { accept: 'text/html' } })).text).toContain('<title>Quay</title>');
    expect((await ask('else.json', { headers: { accept: 'application/json' } })).json().url).toBe('/else.json');
  });

  test('host, fields and path are changed as a rule says', async () => {
    const host = (await ask('host/x', { headers: { cookie: 'a=1', 'x-version': '1' } })).json().headers;
    expect(host).toMatchObject({ host: 'harbour.test', 'x-version': '2' });
    expect(host.cookie).toBeUndefined();
    expect(host.forwarded).toMatch(/^for="\[?[\da-f.:]+\]?";host="localhost:\d+";proto=http$/);
    const browser = (await ask('browser/x?y=1', { headers: { accept: 'a/b' } })).json();
    expect(browser).toMatchObject({ url: '/BROWSER/X?Y=1', headers: { host: new URL(program.url).host, 'x-was': 'a/b' } });
  });

  test('redirects to the backend come back here, cookies and fields are changed', async () => {
    const absolute = await ask('old/absolute');
    expect(absolute.headers.get('location')).toBe(`${program.url}old/next?x=1`);
    expect((await ask('old/path')).headers.get('location')).toBe('/old/next');
    expect((await ask('old/elsewhere')).headers.get('location')).toBe('https://elsewhere.example/v1/next');
    expect(absolute.headers.getSetCookie()).toEqual([
      'berth=4; Path=/; SameSite=Lax',
      'tide=high; HttpOnly; Path=/; SameSite=Lax',
    ]);
    expect([absolute.headers.get('x-drop'), absolute.headers.get('x-change'), absolute.headers.get('x-add')]).toEqual([
      null,
      'new',
      'more',
    ]);
  });

  test('an https backend with a certificate of its own needs to be allowed', async () => {
    expect((await ask('api/secure')).json().name).toBe('secure');
    const refused = await ask('api/unsure');
    expect(refused.status).toBe(502);
    expect(refused.json().error).toMatchObject({
      cause: 'DEPTH_ZERO_SELF_SIGNED_CERT',
      message: expect.stringContaining('selfSigned: true'),
    });
  });

  test('one that is too slow gives 504, one that is away gives 502, and both say what to do', async () => {
    const slow = await ask('slow');
    expect([slow.status, slow.json().error.cause]).toEqual([504, 'ANSWER_TIMEOUT']);
    expect((await ask('down')).status).toBe(502);
    await program.next('backend', { where: ({ backend, isUp }) => backend === 'http://127.0.0.1:9' && !isUp });
  });

  longTest('where all connections are taken, the next request says so and does not wait for ever', async () => {
    const controller = new AbortController();
    const taken: Promise<unknown>[] = [];
    // Not all at once: the operating system turns connections away that come faster than they are accepted.
    while (taken.length < 512) {
      const group = Array.from({ length: 32 }, () => fetch(`${program.url}busy`, { signal: controller.signal }));
      taken.push(...group);
      const anyEnd = Promise.race(group).then(async (answer) => expect(await answer.text()).toBe('no answer'));
      while (neverAnswered < taken.length) await Promise.race([once(servers[0]!, 'request'), anyEnd]);
      anyEnd.catch(() => {});
    }
    const refused = await ask('busy');
    expect([refused.status, refused.json().error.cause]).toEqual([504, 'CONNECTIONS_TAKEN']);
    controller.abort();
    expect((await Promise.allSettled(taken)).map(({ status }) => status)).toEqual(taken.map(() => 'rejected'));
  });

  test('a change of rules applies at once, and open streams and pages stay', async () => {
    const file = workspace.path('vine-spark.config.ts');
    const text = readFileSync(file, 'utf8');
    const { key } = (await ask('~spark/session')).json() as { key: string };
    const page = new WebSocket(`${program.url.replace('http', 'ws')}~spark/live?page=index.html&key=${key}`, 'spark-live');
    const said: string[] = [];
    page.on('message', (data) => said.push(JSON.parse(String(data)).type));
    await new Promise((resolve) => page.once('message', resolve));
    const stream = (await fetch(`${program.url}api/stream`)).body!.getReader();
    const read = async () => new TextDecoder().decode((await stream.read()).value);
    expect(await read()).toBe('first');
    const after = program.mark;
    writeFileSync(
      file,
      text.replace(
        `forward: [`,
        `forward: [\n{ to: 'http://127.0.0.1:${plainPort}', paths: ['/fresh'], requestHeaders: { 'x-rule': 'fresh' } },`,
      ),
    );
    await program.next('settings', { after });
    expect((await ask('fresh')).json().headers['x-rule']).toBe('fresh');
    await ask('api/more');
    expect(await read()).toBe('second');
    expect(said).toEqual(['hello']);
    page.close();
  });
});

describe('backends', () => {
  test('Express', async () => {
    const made = await ask('express/departures', {
      method: 'POST',
      body: '{"berth":4}',
      headers: { 'content-type': 'application/json' },
    });
    expect([made.status, made.json().got]).toEqual([201, { berth: 4 }]);
    const file = await ask('express/file', { headers: { range: 'bytes=0-8' } });
    expect([file.status, file.text]).toEqual([206, '<!doctype']);
    const tag = (await ask('express/file')).headers.get('etag')!;
    expect((await ask('express/file', { headers: { 'if-none-match': tag, 'cache-control': 'max-age=9' } })).status).toBe(304);
  });

  test("Python's http.server", async () => {
    expect((await ask('files/public/mark.svg')).text).toBe('<svg/>');
    expect((await ask('files/missing')).status).toBe(404);
    expect((await ask('files/public')).headers.get('location')).toBe('/files/public/');
  });
});

describe('trust', () => {
  const port = () => Number(new URL(program.url).port);

  test('what two servers could read differently is refused', async () => {
    const shapes = [
      'POST /api HTTP/1.1\r\nHost: localhost\r\nContent-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n',
      'POST /api HTTP/1.1\r\nHost: localhost\r\nContent-Length: 3\r\nContent-Length: 4\r\n\r\nabcd',
      'POST /api HTTP/1.1\r\nHost: localhost\r\nTransfer-Encoding: xchunked\r\n\r\n0\r\n\r\n',
      'GET /api HTTP/1.1\r\nHost : localhost\r\n\r\n',
      'GET /api HTTP/1.1\r\nHost: localhost\r\nX-A: b\nX-B: c\r\n\r\n\0',
      'GET /api HTTP/1.1\r\n\r\n',
      'POST /api HTTP/1.1\r\nHost: localhost\r\nContent-Length: -1\r\n\r\n',
      'POST /api HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1e2\r\n\r\nx',
      'GET /api HTTP/9.9\r\nHost: localhost\r\n\r\n',
      'GET /api/..%2fadmin HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n',
      'GET /old/..%5cadmin HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n',
    ];
    for (const shape of shapes) expect((await sendRaw(port(), shape)).split('\r\n')[0]).toMatch(/^HTTP\/1\.1 40[03] /);
    const long = `GET /api HTTP/1.1\r\nHost: localhost\r\nX-Long: ${'x'.repeat(80_000)}\r\n\r\n`;
    expect(await sendRaw(port(), long)).toMatch(/^HTTP\/1\.1 431 [\s\S]*longer than 64 kB/);
  });

  test('no spelling of a path slips past a rule', async () => {
    for (const path of ['/%61pi/x', '/x/../api/x', '//api///x', '/./api/x', '/api/%2e/x']) {
      const answer = await sendRaw(port(), `DELETE ${path} HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n`);
      expect(answer).toContain('"x-rule":"delete"');
    }
    const escaped = await sendRaw(port(), 'DELETE /api/../admin HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n');
    expect(escaped).toContain('"x-rule":"missing"');
  });

  test('a rule that leads back here is explained', async () => {
    workspace.write({ 'loop.json': JSON.stringify({ forward: [{ paths: ['/api'], to: 'http://localhost:18463' }] }) });
    const loop = await Program.serve(workspace.root, [
      'index.html',
      '--settings',
      'loop.json',
      '--port',
      '18463',
      '--exact-port',
    ]);
    const answer = await fetch(`${loop.url}api/x`);
    expect([answer.status, await answer.text()]).toEqual([508, expect.stringContaining('sends requests back to this server')]);
    await loop.stop();
  });

  test('fuzzed requests never bring it down', async () => {
    const random = randomNumbers(77);
    const pieces = [
      'GET ',
      'POST ',
      '/api',
      '/%2e%2e',
      '/~spark/live',
      ' HTTP/1.1',
      '\r\n',
      '\n',
      'Host: localhost',
      'Host: evil.example',
      'Content-Length: 5',
      'Transfer-Encoding: chunked',
      'Connection: upgrade',
      'Upgrade: websocket',
      ': ',
      '\0',
      '\xff',
      'Expect: 100-continue',
      'x'.repeat(300),
      '0\r\n\r\n',
      'Range: bytes=0-',
      '?a=%',
      '[::1]',
    ];
    const shots = Array.from({ length: 600 }, () => {
      let text = random(3) > 0 ? 'GET /api HTTP/1.1\r\nHost: localhost\r\n' : '';
      for (let n = 0; n < 1 + random(12); n++) text += pieces[random(pieces.length)]!;
      return `${text}\r\n\r\n`;
    });
    const shoot = (text: string) =>
      new Promise<void>((resolve) => {
        const socket = connect(port(), '127.0.0.1', () => socket.end(text, 'latin1'));
        socket.on('error', () => resolve());
        socket.on('close', () => resolve());
        socket.resume();
      });
    for (let at = 0; at < shots.length; at += 50) await Promise.all(shots.slice(at, at + 50).map(shoot));
    expect((await ask('api/still')).status).toBe(200);
    expect(program.child.exitCode).toBeNull();
  });
});

describe('much and many', () => {
  let big: Program;
  let server: Server;
  const whole = full(1 << 27, 1 << 30);
  beforeAll(async () => {
    const block = Buffer.alloc(1 << 20, 'tide');
    server = createServer((request, response) => {
      if (request.url === '/api/down') {
        response.writeHead(200, { 'content-length': whole });
        let left = whole / block.length;
        const write = () => {
          while (left-- > 0) if (!response.write(block)) return void response.once('drain', write);
          response.end();
        };
        write();
      } else if (request.url === '/api/events') {
        response.writeHead(200, { 'content-type': 'text/event-stream' });
        response.write('data: first\n\n');
        streams.push(() => response.write('data: second\n\n'));
      } else {
        let size = 0;
        request.on('data', (chunk: Buffer) => {
          size += chunk.length;
        });
        request.on('end', () => response.end(String(size)));
      }
    });
    const sockets = new WebSocketServer({ server, perMessageDeflate: true });
    sockets.on('connection', (socket, request) => {
      socket.on('message', (data, isBinary) =>
        socket.send(isBinary ? data : `${request.headers.cookie ?? ''} ${socket.protocol} ${data}`, { binary: isBinary }),
      );
      socket.on('ping', () => socket.send('pinged'));
      if (request.url === '/api/leave') socket.close(4321, 'the tide turned');
    });
    const port = await listen(server, local);
    big = await Program.serve(workspace.root, [
      'index.html',
      '--settings',
      'loop.json',
      '--forward',
      `/api=http://127.0.0.1:${port}`,
    ]);
  });
  const streams: (() => void)[] = [];
  afterAll(() => big.stop());

  const memory = () => Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${big.child.pid}/status`, 'utf8'))![1]) / 1024;

  test('a gibibyte down and up, in the long run: the process stays small', async () => {
    await fetch(`${big.url}api/small`, { method: 'POST', body: 'x' });
    const before = memory();
    let most = 0;
    const watch = setInterval(() => {
      most = Math.max(most, memory());
    }, 50);
    let got = 0;
    for await (const chunk of (await fetch(`${big.url}api/down`)).body!) got += (chunk as Uint8Array).length;
    expect(got).toBe(whole);
    const block = Buffer.alloc(1 << 20);
    const sent = await new Promise<string>((resolve) => {
      const request = httpRequest(`${big.url}api/up`, { method: 'POST', headers: { 'content-length': whole } }, (answer) => {
        answer.setEncoding('utf8');
        answer.on('data', resolve);
      });
      let left = whole / block.length;
      const write = () => {
        while (left-- > 0) if (!request.write(block)) return void request.once('drain', write);
        request.end();
      };
      write();
    });
    clearInterval(watch);
    expect(sent).toBe(String(whole));
    expect(most - before).toBeLessThan(100);
  }, 120_000);

  test(`${full(50, 200)} event streams and ${full(120, 500)} sockets at once`, async () => {
    const readers = await Promise.all(
      Array.from({ length: full(50, 200) }, async () => {
        const reader = (await fetch(`${big.url}api/events`)).body!.getReader();
        expect(new TextDecoder().decode((await reader.read()).value)).toBe('data: first\n\n');
        return reader;
      }),
    );
    const url = big.url.replace('http', 'ws');
    const open = await Promise.all(
      Array.from(
        { length: full(120, 500) },
        (_, n) =>
          new Promise<WebSocket>((resolve, reject) => {
            const socket = new WebSocket(`${url}api/radio`, ['marine'], { headers: { cookie: `n=${n}` } });
            socket.once('open', () => resolve(socket));
            socket.once('error', reject);
          }),
      ),
    );
    const heard = await Promise.all(
      open.map(
        (socket) =>
          new Promise<string>((resolve) => {
            socket.once('message', (data) => resolve(String(data)));
            socket.send('over');
          }),
      ),
    );
    expect(heard).toEqual(open.map((_, n) => `n=${n} marine over`));
    for (const stream of streams) stream();
    const second = await Promise.all(readers.map(async (reader) => new TextDecoder().decode((await reader.read()).value)));
    expect(new Set(second)).toEqual(new Set(['data: second\n\n']));
    for (const socket of open) socket.terminate();
    await Promise.all(readers.map((reader) => reader.cancel()));
  }, 60_000);

  test('sockets pass on everything: binary, fragments, pings, compression, close codes, refusals', async () => {
    const url = big.url.replace('http', 'ws');
    const socket = new WebSocket(`${url}api/radio`, { perMessageDeflate: true });
    await new Promise((resolve) => socket.once('open', resolve));
    expect(socket.extensions).toBe('permessage-deflate');
    const next = () => new Promise<Buffer>((resolve) => socket.once('message', (data) => resolve(data as Buffer)));
    const bytes = Buffer.from(Array.from({ length: 70_000 }, (_, n) => n % 256));
    const binary = next();
    socket.send(bytes);
    expect(await binary).toEqual(bytes);
    const whole = next();
    socket.send('may', { fin: false });
    socket.send('day', { fin: true });
    expect(String(await whole)).toBe('  mayday');
    const pinged = next();
    const pong = new Promise((resolve) => socket.once('pong', (data) => resolve(String(data))));
    socket.ping('tide');
    expect([String(await pinged), await pong]).toEqual(['pinged', 'tide']);
    socket.close();
    const leaving = new WebSocket(`${url}api/leave`);
    const closed = await new Promise((resolve) => leaving.once('close', (code, reason) => resolve([code, String(reason)])));
    expect(closed).toEqual([4321, 'the tide turned']);
    // A backend that knows no sockets refuses, in its own words.
    const refused = await new Promise<[number | undefined, string]>((resolve) => {
      const other = new WebSocket(`${program.url.replace('http', 'ws')}express/radio`);
      other.on('error', () => undefined);
      other.on('unexpected-response', (_, answer) => {
        let text = '';
        answer.on('data', (data) => {
          text += data;
        });
        answer.on('end', () => resolve([answer.statusCode, text]));
      });
    });
    expect([refused[0], refused[1]]).toEqual([404, expect.stringContaining('Cannot GET /express/radio')]);
  });
});
