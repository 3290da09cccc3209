import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import { Program } from '../support/program.js';
import { RawBackend, type RawMessage, readMessage, sendRaw } from '../support/raw-http.js';
import { full } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

/** The same exchange made directly and through Vine Spark is the same, except for fields of one connection. */

let backend: RawBackend;
let workspace: Workspace;
let program: Program;
let port: number;
beforeAll(async () => {
  backend = await RawBackend.start();
  workspace = Workspace.with({ 'index.html': '<!doctype html><title>Quay</title>' });
  program = await Program.serve(workspace.root, [
    'index.html',
    '--forward',
    `/api=http://127.0.0.1:${backend.port}`,
    '--traffic',
  ]);
  port = Number(new URL(program.url).port);
});
afterAll(async () => {
  await program.stop();
  await backend.close();
  workspace.dispose();
});

const hop = new Set(['connection', 'keep-alive', 'transfer-encoding', 'proxy-connection', 'te', 'trailer', 'upgrade']);
const added = new Set(['x-forwarded-for', 'x-forwarded-host', 'x-forwarded-proto', 'host']);

const plain = ({ start, fields, body, trailers, isWhole }: RawMessage, without = hop) => ({
  start,
  fields: fields.filter(([name]) => !without.has(name.toLowerCase())),
  body,
  trailers,
  isWhole,
});

interface Exchange {
  method?: string;
  path?: string;
  fields?: string[];
  body?: string;
  answer: string;
}

const head = (status: string, ...fields: string[]) => [`HTTP/1.1 ${status}`, ...fields, '', ''].join('\r\n');
const ok = (...fields: string[]) => `${head('200 OK', 'Content-Length: 5', ...fields)}tides`;
const chunked = (...chunks: string[]) =>
  `${chunks.map((chunk) => `${chunk.length.toString(16)}\r\n${chunk}\r\n`).join('')}0\r\n\r\n`;

const statuses = [
  '200 OK',
  '201 Made',
  '202 ',
  '203 X',
  '206 Partial Content',
  '226 IM Used',
  '299 Quay',
  '300 Many',
  '301 Moved',
  '302 Found',
  '303 See',
  '307 Temp',
  '308 Perm',
  '400 Bad',
  '401 Who',
  '402 Pay',
  '403 No',
  '404 Gone fishing',
  '405 Not so',
  '409 Conflict',
  '410 Gone',
  '412 If',
  '413 Big',
  '416 Range',
  '418 Teapot',
  '422 Odd',
  '429 Slow',
  '451 Law',
  '500 Oops',
  '501 No',
  '502 Bad',
  '503 Later',
  '504 Late',
  '511 Net',
  '599 End',
];
const methods = ['GET', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS', 'PROPFIND', 'REPORT', 'SEARCH', 'LINK', 'PURGE', 'MKCOL'];

const exchanges: Record<string, Exchange> = {
  ...Object.fromEntries(
    statuses.map((status) => [`status ${status}`, { answer: `${head(status, 'Content-Length: 4', 'X-Tide: high')}tide` }]),
  ),
  ...Object.fromEntries(methods.map((method) => [`method ${method}`, { method, answer: ok() }])),
  'a HEAD': { method: 'HEAD', answer: head('200 OK', 'Content-Length: 99', 'ETag: "x"') },
  'no content': { answer: head('204 No Content', 'X-A: 1') },
  'not modified': { fields: ['If-None-Match: "x"'], answer: head('304 Not Modified', 'ETag: "x"') },
  'several cookies in order': {
    answer: ok('Set-Cookie: a=1; Path=/', 'X-Between: 1', 'Set-Cookie: b=2; HttpOnly', 'set-cookie: c=3'),
  },
  'fields of one name in order': {
    answer: ok('Link: <a>', 'Vary: x', 'Link: <b>', 'VARY: y', 'WWW-Authenticate: A', 'WWW-Authenticate: B'),
  },
  'spelling of names': { answer: ok('x-lower: 1', 'X-UPPER: 2', 'X-miXed: 3') },
  'values with odd characters': { answer: ok('X-Latin: caf\u00e9', 'X-Empty:', 'X-Tab: a\tb', 'X-Quote: "a, b"; c=\'d\'') },
  'a long field': { answer: ok(`X-Long: ${'x'.repeat(12_000)}`) },
  'a hundred fields': { answer: ok(...Array.from({ length: 100 }, (_, n) => `X-F${n}: ${n}`)) },
  'a chunked body': { answer: `${head('200 OK', 'Transfer-Encoding: chunked')}${chunked('high ', 'tide', ' at noon')}` },
  'an empty chunked body': { answer: `${head('200 OK', 'Transfer-Encoding: chunked')}${chunked()}` },
  trailers: {
    answer: `${head('200 OK', 'Transfer-Encoding: chunked', 'Trailer: X-Sum, X-Two')}4\r\ntide\r\n0\r\nX-Sum: 42\r\nX-Two: b\r\n\r\n`,
  },
  'a body until the end of the connection': { answer: `${head('200 OK', 'Connection: close')}until the end` },
  'an empty body': { answer: head('200 OK', 'Content-Length: 0') },
  'a compressed body, untouched': {
    answer: `${head('200 OK', 'Content-Encoding: gzip', 'Content-Length: 6')}\x1f\x8b\x08\x00\xff\x00`,
  },
  'bytes of every value': {
    answer: `${head('200 OK', 'Content-Length: 256')}${String.fromCharCode(...Array.from({ length: 256 }, (_, n) => n))}`,
  },
  'a range': {
    fields: ['Range: bytes=0-1'],
    answer: `${head('206 Partial Content', 'Content-Range: bytes 0-1/5', 'Content-Length: 2')}ti`,
  },
  'a date of the backend': { answer: ok('Date: Tue, 03 Mar 2026 10:00:00 GMT', 'Server: Harbour') },
  'fields that Connection names': { fields: ['Connection: close, X-Hop', 'X-Hop: 1'], answer: ok('X-A: 1') },
  'an event stream': {
    fields: ['Accept: text/event-stream'],
    answer: `${head('200 OK', 'Content-Type: text/event-stream')}data: high\n\nid: 2\ndata: low\n\n`,
  },
  'a query with odd characters': { path: "/api/x?a=1&b=%20+%2F&c[]=d'e|f", answer: ok() },
  'a path with escapes': { path: '/api/caf%C3%A9/%E2%9C%93%20x', answer: ok() },
  'a path with double slashes': { path: '/api//x///y', answer: ok() },
  'a path that ends in a slash': { path: '/api/', answer: ok() },
  'a query on the prefix itself': { path: '/api?x=1', answer: ok() },
  'an absolute request-target': { path: 'http://localhost/api/x?y=1', answer: ok() },
  'a long path': { path: `/api/${'x'.repeat(6000)}`, answer: ok() },
  'a body with a length': { method: 'POST', fields: ['Content-Type: text/plain'], body: 'mayday', answer: ok() },
  'an empty body with a length': { method: 'POST', fields: ['Content-Length: 0'], answer: ok() },
  'a chunked request': { method: 'POST', fields: ['Transfer-Encoding: chunked'], body: chunked('may', 'day'), answer: ok() },
  'a chunked request with trailers': {
    method: 'POST',
    fields: ['Transfer-Encoding: chunked', 'Trailer: X-Sum'],
    body: chunked('may', 'day').replace(/\r\n$/, 'X-Sum: 42\r\n\r\n'),
    answer: ok(),
  },
  'a body on DELETE': { method: 'DELETE', body: 'why', answer: ok() },
  'a body on GET': { method: 'GET', body: 'odd', answer: ok() },
  'cookies, authorization and other fields of the browser': {
    fields: [
      'Cookie: a=1; b=2',
      'Authorization: Bearer x',
      'Accept-Encoding: gzip, br',
      'Accept-Language: de',
      'DNT: 1',
      'Origin: http://localhost',
    ],
    answer: ok(),
  },
  'fields of the browser more than once': { fields: ['X-A: 1', 'X-B: 2', 'x-a: 3', 'Accept: a', 'Accept: b'], answer: ok() },
  'an informational answer first': { answer: `HTTP/1.1 103 Early Hints\r\nLink: </a.css>; rel=preload\r\n\r\n${ok()}` },
};

function requestOf({ method = 'GET', path = '/api/x', fields = [], body = '' }: Exchange, host: string): string {
  const length = body && !fields.some((field) => /^transfer-encoding/i.test(field)) ? [`Content-Length: ${body.length}`] : [];
  const close = fields.some((field) => /^connection/i.test(field)) ? [] : ['Connection: close'];
  return `${[`${method} ${path} HTTP/1.1`, `Host: ${host}`, ...close, ...fields, ...length].join('\r\n')}\r\n\r\n${body}`;
}

test(`there are at least 80 exchanges`, () => expect(Object.keys(exchanges).length).toBeGreaterThanOrEqual(80));

test.each(Object.entries(exchanges))('%s', async (_, exchange) => {
  backend.answer = exchange.answer;
  const isHead = exchange.method === 'HEAD';
  const direct = readMessage(await sendRaw(backend.port, requestOf(exchange, `127.0.0.1:${backend.port}`)), isHead);
  const forwarded = readMessage(await sendRaw(port, requestOf(exchange, `localhost:${port}`)), isHead);
  const normal = (message: RawMessage) => {
    const { start, ...rest } = plain(message);
    // Node.js adds the space that a status line without reason lacks.
    return { start: start.trim(), ...rest };
  };
  expect(normal(forwarded)).toEqual(normal(direct));
  const [sent, arrived] = backend.received.splice(0).map((text) => readMessage(text));
  const without = new Set([...hop, ...added, 'x-hop', 'content-length']);
  expect({ ...plain(arrived!, without), start: '' }).toEqual({ ...plain(sent!, without), start: '' });
  // A server is asked by path, whatever form the browser's request had.
  expect(arrived!.start).toBe(sent!.start.replace('http://localhost', ''));
});

test.each(['103 Early Hints\r\nLink: </a.css>; rel=preload', '102 Processing'])(
  '%j is passed on before the answer',
  async (early) => {
    backend.answer = `HTTP/1.1 ${early}\r\n\r\n${ok()}`;
    const answer = await sendRaw(port, requestOf({ answer: '' }, `localhost:${port}`));
    expect(answer.startsWith(`HTTP/1.1 ${early}\r\n\r\nHTTP/1.1 200 OK`)).toBe(true);
  },
);

test('fields that are no ASCII arrive as they are where Node.js would write them in another way', async () => {
  const disposition = 'attachment; filename="caf\u00e9.txt"';
  backend.answer = `${head('200 OK', 'Content-Length: 4', `Content-Disposition: ${disposition}`)}tide`;
  const file = readMessage(await sendRaw(port, requestOf({ answer: '' }, `localhost:${port}`)));
  expect([Object.fromEntries(file.fields)['Content-Disposition'], file.body]).toEqual([disposition, 'tide']);
  backend.answer = ok();
  backend.received.length = 0;
  const fields = ['Expect: 100-continue', 'X-Latin: caf\u00e9'];
  const answer = await sendRaw(port, requestOf({ method: 'POST', fields, body: 'mayday', answer: '' }, `localhost:${port}`));
  expect(answer).toMatch(/^HTTP\/1\.1 100 Continue\r\n\r\nHTTP\/1\.1 200 OK/);
  const { fields: arrived, body } = readMessage(backend.received.splice(0)[0]!);
  expect([arrived.find(([name]) => name === 'X-Latin')?.[1], body]).toEqual(['caf\u00e9', 'mayday']);
});

test('a browser that waits for 100 Continue sends its body when the backend says so', async () => {
  backend.onRequest = undefined;
  const { connect } = await import('node:net');
  const waiting = new Promise<string>((resolve) => {
    const socket = connect(port, '127.0.0.1', () =>
      socket.write(
        'POST /api/x HTTP/1.1\r\nHost: localhost\r\nExpect: 100-continue\r\nContent-Length: 6\r\nConnection: close\r\n\r\n',
      ),
    );
    let seen = '';
    socket.on('data', (data) => {
      seen += data;
      if (seen.endsWith('100 Continue\r\n\r\n')) socket.write('mayday');
    });
    socket.on('close', () => resolve(seen));
  });
  backend.server.once('connection', (socket) => {
    let seen = '';
    socket.removeAllListeners('data');
    socket.on('data', (data) => {
      if (seen === '') socket.write('HTTP/1.1 100 Continue\r\n\r\n');
      seen += data;
      if (seen.endsWith('mayday')) socket.end('HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nheard');
    });
  });
  expect(await waiting).toMatch(/^HTTP\/1\.1 100 Continue\r\n\r\nHTTP\/1\.1 200 OK\r\n[\s\S]*heard$/);
});

test('a backend that knows no 100 Continue gets the body of a browser that stops waiting', async () => {
  backend.answer = ok();
  backend.received.length = 0;
  const { connect } = await import('node:net');
  const answer = await new Promise<string>((resolve) => {
    let seen = '';
    const socket = connect(port, '127.0.0.1', () => {
      socket.write(
        'POST /api/x HTTP/1.1\r\nHost: localhost\r\nExpect: 100-continue\r\nContent-Length: 6\r\nConnection: close\r\n\r\n',
      );
      backend.server.once('connection', () => socket.write('mayday'));
    });
    socket.on('data', (data) => {
      seen += data;
    });
    socket.on('close', () => resolve(seen));
  });
  expect(answer).toMatch(/^HTTP\/1\.1 200 OK[\s\S]*tides$/);
  expect(readMessage(backend.received[0]!).body).toBe('mayday');
});

test('a change to any other protocol joins both ends', async () => {
  backend.onRequest = (socket) => {
    socket.write('HTTP/1.1 101 Switching Protocols\r\nConnection: upgrade\r\nUpgrade: tide/2\r\nX-Berth: 4\r\n\r\nhello ');
    socket.removeAllListeners('data');
    socket.on('data', (data) => socket.end(`heard ${data}`));
  };
  const { connect } = await import('node:net');
  const answer = await new Promise<string>((resolve) => {
    const socket = connect(port, '127.0.0.1', () =>
      socket.write('GET /api/radio HTTP/1.1\r\nHost: localhost\r\nConnection: Upgrade\r\nUpgrade: tide/2\r\n\r\n'),
    );
    let seen = '';
    socket.on('data', (data) => {
      seen += data;
      if (seen.endsWith('hello ')) socket.write('mayday');
    });
    socket.on('close', () => resolve(seen));
  });
  expect(answer).toMatch(/^HTTP\/1\.1 101 Switching Protocols\r\n[\s\S]*X-Berth: 4\r\n\r\nhello heard mayday$/);
  expect(backend.received.at(-1)).toMatch(/\r\nUpgrade: tide\/2\r\n/);
  const told = await program.next('exchange', { where: ({ method }) => method === 'UPGRADE' });
  expect(told).toMatchObject({ rule: '/api', target: '/api/radio', status: 101, ms: expect.any(Number) });
  backend.onRequest = undefined;
});

test('the newest exchanges can be looked at, with the key only', async () => {
  backend.answer = ok();
  await sendRaw(port, requestOf({ path: '/api/looked-at', answer: '' }, `localhost:${port}`));
  const { key } = (await (await fetch(`${program.url}~spark/session`)).json()) as { key: string };
  const { exchanges: recent } = (await (await fetch(`${program.url}~spark/traffic?key=${key}`)).json()) as any;
  expect(recent.at(-1)).toMatchObject({ rule: '/api', method: 'GET', target: '/api/looked-at', status: 200, size: 5 });
  expect((await fetch(`${program.url}~spark/traffic?key=x`)).status).toBe(403);
});

test('the backend learns who asked', async () => {
  backend.answer = ok();
  backend.received.length = 0;
  await sendRaw(port, requestOf({ fields: ['X-Forwarded-For: 192.0.2.1'], answer: '' }, `localhost:${port}`));
  const { fields } = readMessage(backend.received[0]!);
  const get = (name: string) => fields.filter(([field]) => field === name).map(([, value]) => value);
  expect(get('host')).toEqual([`127.0.0.1:${backend.port}`]);
  expect(get('x-forwarded-for')).toEqual([expect.stringMatching(/^192\.0\.2\.1, (?:::ffff:)?127\.0\.0\.1$/)]);
  expect(get('x-forwarded-host')).toEqual([`localhost:${port}`]);
  expect(get('x-forwarded-proto')).toEqual(['http']);
});

describe('connections that go wrong', () => {
  test('a backend that dies in the middle of a body is an error, never a short success', async () => {
    for (const start of [
      `${head('200 OK', 'Content-Length: 100')}half`,
      `${head('200 OK', 'Transfer-Encoding: chunked')}4\r\nhalf\r\n`,
    ]) {
      backend.onRequest = (socket) => socket.write(start, 'latin1', () => socket.resetAndDestroy());
      const answer = readMessage(await sendRaw(port, requestOf({ answer: '' }, `localhost:${port}`)));
      expect(answer.isWhole).toBe(false);
    }
    backend.onRequest = undefined;
  });

  test('a browser that goes away ends the request to the backend', async () => {
    const closed = new Promise<void>((resolve) => {
      backend.onRequest = (socket) => socket.once('close', () => resolve());
    });
    const controller = new AbortController();
    const asking = fetch(`${program.url}api/slow`, { signal: controller.signal }).catch(() => 'gone');
    await new Promise<void>((resolve) => {
      const before = backend.received.length;
      const look = setInterval(() => {
        if (backend.received.length > before) {
          clearInterval(look);
          resolve();
        }
      }, 2);
    });
    controller.abort();
    await closed;
    expect(await asking).toBe('gone');
    backend.onRequest = undefined;
  });

  test(`${full(240, 1000)} requests to a backend that closes idle connections after 5 ms: not one fails`, async () => {
    backend.onRequest = (socket) => {
      socket.write('HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: keep-alive\r\n\r\nok');
      setTimeout(() => socket.destroy(), 5);
    };
    let failed = 0;
    const worker = async (count: number) => {
      for (let n = 0; n < count; n++) {
        const method = n % 4 === 0 ? 'POST' : 'GET';
        const answer = await fetch(`${program.url}api/${n}`, { method, ...(method === 'POST' ? { body: 'x' } : {}) });
        if (answer.status !== 200 || (await answer.text()) !== 'ok') failed++;
        if (n % 3 === 0) await new Promise((resolve) => setTimeout(resolve, n % 7));
      }
    };
    await Promise.all(Array.from({ length: 8 }, () => worker(full(30, 125))));
    expect(failed).toBe(0);
    backend.onRequest = undefined;
  });
});
