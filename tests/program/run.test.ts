import { spawn } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { afterEach, expect, test } from '@jest/globals';
import WebSocket from 'ws';
import { freePort } from '../support/backend.js';
import { Program, runProgram } from '../support/program.js';
import { full } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

let workspace: Workspace;
let program: Program | undefined;
afterEach(async () => {
  await program?.stop();
  program = undefined;
  workspace.dispose();
});

const page = { 'index.html': '<!doctype html><title>Quay</title>' };
const state = (name: string, wanted: string) => ({
  where: (event: Record<string, unknown>) => event.name === name && event.state === wanted,
});
/** One that has ended, and that nobody asked how, counts as gone. */
const isThere = (pid: number) => {
  try {
    return !/^State:\tZ/m.test(readFileSync(`/proc/${pid}/status`, 'utf8'));
  } catch {
    return false;
  }
};

test('starts programs in order, with variables and what they print; over when their files change or they crash; pages are told', async () => {
  const port = await freePort();
  workspace = Workspace.with({
    ...page,
    '.env': 'TIDE=from the file\n',
    'first.mjs': `setTimeout(() => console.log('tide table \\u001b[32mread\\u001b[0m'), 200); setInterval(() => {}, 1000);`,
    'server/word.mjs': `export const word = 'one';`,
    'server/main.mjs': `import { createServer } from 'node:http'; import { word } from './word.mjs';
console.error('tide ' + process.env.TIDE + ' ' + process.env.OWN);
createServer((q, s) => { if (q.url === '/crash') process.exit(3); s.end(word); }).listen(${port}, '127.0.0.1');`,
    'vine-spark.config.json': JSON.stringify({
      forward: [{ paths: ['/api'], to: `http://127.0.0.1:${port}`, path: { drop: '/api' } }],
      run: [
        { command: 'node first.mjs', ready: 'read' },
        { name: 'backend', command: ['node', 'server/main.mjs'], env: { OWN: 'own' }, ready: port, restartOn: ['server/**'] },
      ],
    }),
  });
  program = await Program.serve(workspace.root);
  await program.next('command', state('backend', 'ready'));
  const names = program.events
    .filter(({ event, state: at }) => event === 'command' && at !== 'ended')
    .map((event) => `${event.name} ${event.state}`);
  expect(names).toEqual(['first starts', 'first ready', 'backend starts', 'backend ready']);
  expect(await program.next('output', { where: ({ name }) => name === 'backend' })).toMatchObject({
    stream: 'stderr',
    text: 'tide from the file own',
  });
  const get = async (path: string) => (await fetch(new URL(path, program!.url))).text();
  expect(await get('/api/x')).toBe('one');
  const { key } = JSON.parse(await get('/~spark/session')) as { key: string };
  const socket = new WebSocket(`${program.url.replace('http', 'ws')}~spark/live?key=${key}&page=index.html`, 'spark-live');
  const told: string[] = [];
  socket.on('message', (data) => told.push(JSON.parse(String(data)).text));
  await program.next('joined');
  let after = program.mark;
  workspace.write({ 'server/word.mjs': `export const word = 'two';` });
  expect(await program.next('command', { after, ...state('backend', 'starts') })).toMatchObject({
    why: 'server/word.mjs changed',
  });
  await program.next('command', { after, ...state('backend', 'ready') });
  expect(await get('/api/x')).toBe('two');
  after = program.mark;
  await get('/api/crash').catch(() => {});
  expect(await program.next('command', { after, ...state('backend', 'ended') })).toMatchObject({ code: 3, restartMs: 250 });
  await program.next('command', { after, ...state('backend', 'ready') });
  expect(await get('/api/x')).toBe('two');
  while (told.filter((text) => text === 'backend is back').length < 2)
    await new Promise((resolve) => socket.once('message', resolve));
  socket.terminate();
  // Other commands of the settings take the place of these.
  after = program.mark;
  workspace.write({ 'vine-spark.config.json': JSON.stringify({ run: [{ command: 'node first.mjs' }] }) });
  await program.next('command', { after, ...state('first', 'ready') });
  await expect(fetch(`http://127.0.0.1:${port}/`)).rejects.toThrow();
}, 60_000);

test.each((['SIGINT', 'SIGTERM', 'SIGHUP'] as const).slice(0, full(1, 3)))(
  '%s leaves nothing behind, not even what ignores it and what that started',
  async (signal) => {
    workspace = Workspace.with({
      ...page,
      'stubborn.mjs': `import { spawn } from 'node:child_process';
for (const name of ['SIGINT', 'SIGTERM', 'SIGHUP']) process.on(name, () => {});
const child = spawn(process.execPath, ['-e', 'process.on("SIGTERM", () => {}); setInterval(() => {}, 1000)'], { detached: process.argv[2] === 'apart' });
console.log('pids', process.pid, child.pid);
setInterval(() => {}, 1000);`,
    });
    program = await Program.serve(workspace.root, [
      '--run',
      'node stubborn.mjs',
      '--run',
      'node stubborn.mjs apart',
      'index.html',
    ]);
    const pids: number[] = [];
    for (const name of ['stubborn', 'stubborn-2']) {
      const { text } = await program.next('output', { where: (event) => event.name === name });
      pids.push(...text.split(' ').slice(1).map(Number));
    }
    expect(pids.every(isThere)).toBe(true);
    await program.stop(signal);
    expect(pids.filter(isThere)).toEqual([]);
  },
  30_000,
);

test('a debugger finds Node.js at the same port after a restart; TypeScript runs with its own lines', async () => {
  workspace = Workspace.with({
    ...page,
    'tsconfig.json': '{}',
    'server/main.ts': `import { word, type Word } from './word';\nconst said: Word = word;\n\n\nsetInterval(() => {}, 1000);\nconsole.log(said, (() => { try { throw new Error('aground'); } catch (error) { return (error as Error).stack!.split('\\n')[1]; } })());\n`,
    'server/word.ts': `export interface Word { text: string }\nexport const word: Word = { text: 'one' };\n`,
    'vine-spark.config.json': JSON.stringify({
      run: [{ name: 'backend', command: 'node server/main.ts', ready: 'main.ts', inspect: true, restartOn: ['server/*.ts'] }],
    }),
  });
  program = await Program.serve(workspace.root);
  const { inspect } = await program.next('command', state('backend', 'ready'));
  expect((await program.next('output')).text).toMatch(/text: 'one'.*server\/main\.ts:6:/);
  const targets = async () => (await (await fetch(`http://${inspect}/json`)).json()) as { webSocketDebuggerUrl: string }[];
  const [first] = await targets();
  const after = program.mark;
  workspace.write({ 'server/word.ts': `export interface Word { text: string }\nexport const word: Word = { text: 'two' };\n` });
  expect(await program.next('command', { after, ...state('backend', 'ready') })).toMatchObject({ inspect });
  const [again] = await targets();
  expect(again!.webSocketDebuggerUrl).not.toBe(first!.webSocketDebuggerUrl);
  const alone = spawn(process.execPath, ['--import', `${repository}/dist/node/hook.js`, 'server/main.ts'], {
    cwd: workspace.root,
    env: { ...process.env, NODE_OPTIONS: '' },
  });
  expect(String(await new Promise((resolve) => alone.stdout.once('data', resolve)))).toContain('two');
  alone.kill();
}, 60_000);

test('commands that cannot run are told, and the page is served all the same', async () => {
  workspace = Workspace.with(page);
  program = await Program.serve(workspace.root, ['--run', 'no-such-program x', 'index.html']);
  expect(await program.next('command', state('x', 'failed'))).toMatchObject({ why: 'there is no program no-such-program' });
  expect((await fetch(program.url)).status).toBe(200);
  const refused = await runProgram(workspace.root, ['serve', '--run', 'node a.js && node b.js']);
  expect(refused).toMatchObject({ code: 2, stderr: expect.stringMatching(/holds '&&', which only a shell understands/) });
  await program.stop();
  workspace.write({
    'vine-spark.config.json': JSON.stringify({
      run: [
        { name: 'both', command: 'echo one && echo two', shell: true },
        { name: 'deep', command: 'true', inspect: true },
      ],
    }),
  });
  program = await Program.serve(workspace.root);
  await program.next('output', { where: ({ text }) => text === 'two' });
  expect(await program.next('command', state('both', 'ended'))).toMatchObject({ code: 0 });
  expect(await program.next('command', state('deep', 'failed'))).toMatchObject({
    why: expect.stringContaining('begins with node'),
  });
}, 30_000);

test('where something else answers in its place, a program is not said to be what is ready', async () => {
  const other = createServer((socket) => socket.end()).listen(0, '127.0.0.1');
  await new Promise((resolve) => other.once('listening', resolve));
  const { port } = other.address() as { port: number };
  const run = [{ name: 'backend', command: 'node backend.mjs', ready: port }];
  workspace = Workspace.with({
    ...page,
    'backend.mjs': 'setInterval(() => {}, 1000);',
    'vine-spark.config.json': JSON.stringify({ run }),
  });
  program = await Program.serve(workspace.root);
  expect(await program.next('command', state('backend', 'ready'))).toMatchObject({ isOther: true, ready: `port ${port}` });
  other.close();
}, 30_000);

test('files outside of the project make a program start over, too', async () => {
  const run = [{ name: 'backend', command: 'node ../server/main.mjs', restartOn: ['../server/**'] }];
  workspace = Workspace.with({
    'front/package.json': '{}',
    'front/index.html': page['index.html'],
    'front/vine-spark.config.json': JSON.stringify({ run }),
    'server/main.mjs': 'setInterval(() => {}, 1000);',
    'server/parts/word.mjs': '',
  });
  program = await Program.serve(workspace.path('front'));
  await program.next('command', state('backend', 'ready'));
  for (const file of ['server/parts/word.mjs', 'server/new/late.mjs']) {
    const after = program.mark;
    workspace.write({ [file]: `export const word = 'two';` });
    expect(await program.next('command', { after, ...state('backend', 'starts') })).toMatchObject({ why: `../${file} changed` });
  }
}, 30_000);
