import { existsSync, readFileSync, rmSync } from 'node:fs';
import { afterEach, expect, test } from '@jest/globals';
import { Program, runProgram } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

let workspace: Workspace;
afterEach(() => workspace.dispose());

const adopt = (...args: string[]) => runProgram(workspace.root, ['new', '.', '--adopt', ...args]);
const description = () => JSON.parse(readFileSync(workspace.path('package.json'), 'utf8'));

test('a project that needs no settings gets scripts only, and all of it can be taken back', async () => {
  const before = '{\n    "name": "quay",\n    "scripts": { "build": "make" }\n}\n';
  workspace = Workspace.with({
    'package.json': before,
    'index.html': '<script type="module" src="src/main.js"></script>',
    'src/main.js': '',
  });
  const asked = await adopt();
  expect([asked.code, asked.stderr, readFileSync(workspace.path('package.json'), 'utf8')]).toEqual([
    2,
    expect.stringContaining('Nothing was written.'),
    before,
  ]);
  const { code, stdout } = await adopt('--yes');
  expect([code, stdout]).toEqual([0, expect.stringContaining('No settings are needed.')]);
  expect(description().scripts).toEqual({ build: 'make', serve: 'vine-spark serve', 'spark:build': 'vine-spark build' });
  expect(readFileSync(workspace.path('package.json'), 'utf8')).toContain('\n    "name"');
  expect((await adopt('--yes')).stdout).toContain('Nothing needs to be written.');
  expect((await adopt('--undo')).code).toBe(0);
  expect(readFileSync(workspace.path('package.json'), 'utf8')).toBe(before);
});

test('a server that answers whatever it is asked is there for what the sources call, and what nobody answers is told', async () => {
  const sources = {
    'src/main.js': `fetch('/api/tides'); new EventSource("/live/berths"); fetch('/charts/north.json'); new Map().get('/quay/3');`,
    'public/charts/north.json': '{}',
  };
  workspace = Workspace.with({
    'package.json': '{ "name": "quay" }',
    'index.html': '<script type="module" src="src/main.js"></script>',
    'tsconfig.json': '{}',
    ...sources,
  });
  const told = await adopt('--yes');
  expect(told.stdout).toContain('src/main.js calls /api, which nothing here answers');
  expect(told.stdout).toContain('tsconfig.json are read as they are');
  workspace.write({ 'backend.cjs': `require('http').createServer((request, response) => response.end('any')).listen(18967);` });
  const { stdout } = await adopt('--yes');
  expect(stdout).toContain('backend.cjs listens on 18967 and may be what answers /api, /live');
  const settings = readFileSync(workspace.path('vine-spark.config.js'), 'utf8');
  expect(settings).toContain(`{ paths: ['/api', '/live'], to: 'http://127.0.0.1:18967' }`);
  // Where there are settings, they may say who answers.
  rmSync(workspace.path('backend.cjs'));
  expect((await adopt('--yes')).stdout).not.toContain('nothing here answers');
  const missing = await runProgram(workspace.root, ['check', '/api/tides']);
  expect([missing.code, missing.stderr]).toEqual([2, expect.stringContaining('vine-spark check --url /api/tides')]);
});

test('a page that something else put the script into, a backend, an old proxy and the environment become settings that work', async () => {
  workspace = Workspace.with({
    'package.json': '{ "name": "quay", "type": "module", "scripts": { "api": "node server/index.js" } }',
    'public/index.html': '<!doctype html><title>x</title><div id="root"></div>',
    'src/main.js': `document.getElementById('root').textContent = ['started', process.env.HARBOUR, import.meta.quay.MODE].join(' ');`,
    'server/index.js': `import { createServer } from 'node:http';\ncreateServer((request, response) => { if (request.url.startsWith('/api')) response.end('from the backend'); else response.end('?'); }).listen(18964, '127.0.0.1');`,
    'server/proxy.js': `export const table = { '/tides': { target: 'http://localhost:18965' } };`,
    '.env': 'HARBOUR=Saltmarsh\n',
  });
  expect((await adopt('--yes')).code).toBe(0);
  const text = readFileSync(workspace.path('vine-spark.config.js'), 'utf8');
  for (const part of [
    `script: 'src/main.js'`,
    `mount: 'root'`,
    `paths: ['/api'], to: 'http://127.0.0.1:18964'`,
    `paths: ['/tides'], to: 'http://localhost:18965'`,
    `command: 'node server/index.js'`,
    `expose: ['HARBOUR']`,
  ])
    expect(text).toContain(part);
  const program = await Program.serve(workspace.root, []);
  expect(await (await fetch(program.url)).text()).toContain('id="root"');
  await program.next('command', { where: ({ state }) => state === 'ready' });
  expect(await (await fetch(`${program.url}api/x`)).text()).toBe('from the backend');
  await program.stop();
  workspace.write({ 'vine-spark.config.js': `${text}// mine\n` });
  const undo = await adopt('--undo');
  expect([undo.code, undo.stderr]).toEqual([2, expect.stringContaining('vine-spark.config.js changed since')]);
  workspace.write({ 'vine-spark.config.js': text });
  expect((await adopt('--undo')).code).toBe(0);
  expect([existsSync(workspace.path('vine-spark.config.js')), description().scripts]).toEqual([
    false,
    { api: 'node server/index.js' },
  ]);
});
