import { readFileSync } from 'node:fs';
import { gzipSync } from 'node:zlib';
import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { Backend } from '../support/backend.js';
import { Program, runProgram } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

let backend: Backend;
let workspace: Workspace;
let count = 0;
beforeAll(async () => {
  backend = await Backend.start((request, response) => {
    if (request.url === '/api/count') response.end(String(++count));
    else if (request.url === '/api/zipped') {
      response.writeHead(200, { 'content-type': 'text/plain', 'content-encoding': 'gzip' });
      response.end(gzipSync('high water'));
    } else if (request.url === '/api/bytes') response.end(Buffer.from([0, 255, 128, 7]));
    else if (request.url === '/api/long') response.end(Buffer.alloc(9 << 20));
    else if (request.url === '/api/empty') response.writeHead(204).end();
    else {
      response.writeHead(201, { 'content-type': 'application/json', 'set-cookie': 'watch=dog', 'x-tide': 'high' });
      response.end('{"berth":4}');
    }
  });
  workspace = Workspace.with({ 'index.html': '<!doctype html><title>Quay</title>' });
});
afterAll(async () => {
  await backend.close();
  workspace.dispose();
});

const har = () => JSON.parse(readFileSync(workspace.path('tides.har'), 'utf8'));
const serve = (...args: string[]) =>
  Program.serve(workspace.root, ['index.html', '--traffic', '--forward', `/api=${backend.origin}`, ...args]);

test('exchanges are recorded as HAR 1.2 without secrets, and replayed when the backend is away', async () => {
  const recording = await serve('--record', 'tides.har');
  await fetch(`${recording.url}api/hold?berth=4`, {
    method: 'POST',
    body: '{"minutes":5}',
    headers: { 'content-type': 'application/json', cookie: 'secret=1', authorization: 'Bearer x' },
  });
  for (const path of ['count', 'count', 'zipped', 'bytes', 'empty', 'long'])
    await (await fetch(`${recording.url}api/${path}`)).arrayBuffer();
  const told = await recording.next('exchange', { where: ({ target }) => target.startsWith('/api/hold') });
  expect(told).toMatchObject({ rule: '/api', method: 'POST', status: 201, size: 11 });
  await recording.stop();
  const { log } = har();
  expect(log).toMatchObject({ version: '1.2', creator: { name: 'Vine Spark' } });
  expect(log.entries).toHaveLength(7);
  expect(log.entries.at(-1).response.content).toMatchObject({ comment: 'left out: longer than 8 MB', text: '' });
  const [hold] = log.entries;
  expect(hold.request).toMatchObject({
    method: 'POST',
    url: `${backend.origin}/api/hold?berth=4`,
    queryString: [{ name: 'berth', value: '4' }],
    postData: { mimeType: 'application/json', text: '{"minutes":5}' },
  });
  expect(hold.response).toMatchObject({ status: 201, content: { mimeType: 'application/json', text: '{"berth":4}', size: 11 } });
  expect(JSON.stringify(log)).not.toMatch(/secret=1|Bearer x|watch=dog/);

  await backend.close();
  const replaying = await serve('--replay', 'tides.har');
  const post = await fetch(`${replaying.url}api/hold?berth=4`, { method: 'POST', body: '{}' });
  expect([post.status, await post.text(), post.headers.get('x-tide')]).toEqual([201, '{"berth":4}', 'high']);
  const texts: string[] = [];
  for (const path of ['count', 'count', 'count', 'zipped']) texts.push(await (await fetch(`${replaying.url}api/${path}`)).text());
  expect(texts).toEqual(['1', '2', '2', 'high water']);
  expect([...new Uint8Array(await (await fetch(`${replaying.url}api/bytes`)).arrayBuffer())]).toEqual([0, 255, 128, 7]);
  expect((await fetch(`${replaying.url}api/empty`)).status).toBe(204);
  const other = await fetch(`${replaying.url}api/else`);
  expect([other.status, ((await other.json()) as any).error.code]).toEqual([502, 'backend-unreachable']);
  await replaying.stop();

  const only = await serve('--replay', 'tides.har', '--replay-only', '--replay-delays');
  const missing = (await (await fetch(`${only.url}api/coun`)).json()) as any;
  expect(missing.error).toMatchObject({
    code: 'not-recorded',
    message: expect.stringContaining('It has one to GET /api/count.'),
  });
  expect((await fetch(`${only.url}api/long`)).status).toBe(502);
  expect(await (await fetch(`${only.url}api/count`)).text()).toBe('1');
  expect(only.events.filter(({ event }) => event === 'backend')).toEqual([]);
  await only.stop();
});

test('a recording that is none is told before anything starts', async () => {
  workspace.write({ 'broken.har': '{ "log": { "entries": [{}] } }' });
  const broken = await runProgram(workspace.root, ['serve', 'index.html', '--replay', 'broken.har']);
  expect([broken.code, broken.stderr]).toEqual([
    2,
    expect.stringContaining('The recording broken.har cannot be used: log.entries.0.'),
  ]);
  const alone = await runProgram(workspace.root, ['serve', 'index.html', '--replay-only']);
  expect(alone.stderr).toContain('it needs --replay <file>');
});

test('entries that nobody could be answered with are left out and named', async () => {
  const entry = (url: string, response: object) => ({
    startedDateTime: '2026-01-01T00:00:00Z',
    time: 1,
    request: { method: 'GET', url: `http://harbour.example${url}`, headers: [] },
    response: { status: 200, statusText: 'OK', headers: [], content: { mimeType: 'text/plain', text: 'high' }, ...response },
  });
  const entries = [
    entry('/api/tide', {}),
    entry('/api/low', { status: 42 }),
    entry('/api/line', { headers: [{ name: 'x', value: 'a\r\nb: c' }] }),
    entry('/api/name', { headers: [{ name: 'x y', value: 'a' }] }),
    'nonsense',
  ];
  workspace.write({ 'index.html': '<!doctype html>', 'odd.har': JSON.stringify({ log: { entries } }) });
  const program = await Program.serve(workspace.root, [
    'index.html',
    '--forward',
    '/api=http://127.0.0.1:9',
    '--replay',
    'odd.har',
    '--replay-only',
  ]);
  const notes = program.events.filter(({ event }) => event === 'note').map(({ text }) => String(text));
  expect(notes).toEqual([1, 2, 3, 4].map((at) => expect.stringContaining(`log.entries.${at}.`)));
  expect(await (await fetch(`${program.url}api/tide`)).text()).toBe('high');
  expect((await fetch(`${program.url}api/line`)).status).toBe(502);
  await program.stop();
});
