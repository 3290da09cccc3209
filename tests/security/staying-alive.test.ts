import { spawn } from 'node:child_process';
import { closeSync, openSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { connect } from 'node:net';
import { join } from 'node:path';
import { afterAll, afterEach, beforeAll, describe, expect, test } from '@jest/globals';
import WebSocket from 'ws';
import { liveProtocol } from '../../src/core/live/messages.js';
import { Program, runProgram } from '../support/program.js';
import { RawBackend, readMessage, sendRaw } from '../support/raw-http.js';
import { full, isLong } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

const files = {
  'index.html': '<!doctype html><title>Quay</title><script type="module" src="main.js"></script>',
  'main.js': `document.title = 'open';\nexport const plan = import.meta.url;\n`,
};

let workspace: Workspace;
let program: Program;
afterEach(async () => {
  await program?.stop();
  workspace?.dispose();
});

const port = () => Number(new URL(program.url).port);
const isUp = async () => expect((await fetch(program.url)).status).toBe(200);
const wrong = (of = program) =>
  of.events.filter(({ event, problem }) => event === 'problem' && problem.code === 'internal-error');

describe('requests', () => {
  test('of every shape are answered or refused, as requests and as upgrades', async () => {
    workspace = Workspace.with({
      ...files,
      'vine-spark.config.json': '{ "forward": [{ "paths": ["/api"], "to": "http://127.0.0.1:9" }] }',
    });
    program = await Program.serve(workspace.root);
    const targets = [
      '//',
      '///',
      '/\\',
      '//[',
      '//[::1',
      '/%',
      '/%zz',
      '/\\..\\..',
      '*',
      'http://',
      'http://[',
      'http://x:99999999/',
      'http://localhost:99999/~spark/live',
      'https://[::1]:/x',
      '//~spark/live',
      '/~spark/live?key=%',
      '/~spark/live?%',
      '/~spark/%',
      '/~spark/piece/%zz.js',
      '/~spark/piece//',
      '/~spark/piece/page//app.js',
      '/~spark/map/%00',
      '/~spark/style/%c0%af',
      '/~spark/open?key=%&file=%',
      '/__proto__',
      '/~spark/constructor',
      '/~spark/__proto__',
      '/api//',
      '/api/\\',
      `/${'a'.repeat(9000)}`,
      `/${'%2e%2e/'.repeat(2000)}`,
      '/?',
      '/#',
      '/~spark/live#',
      '/~spark/piece/lazy/../../x.js',
    ];
    for (const target of targets) {
      for (const method of ['GET', 'HEAD', 'POST', 'OPTIONS', 'PROPFIND']) {
        const answer = await sendRaw(port(), `${method} ${target} HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n`);
        expect([target, method, readMessage(answer).start]).toEqual([
          target,
          method,
          expect.stringMatching(/^HTTP\/1\.1 [2345]\d\d /),
        ]);
        expect(answer.startsWith('HTTP/1.1 500')).toBe(false);
      }
      const upgrade = `GET ${target} HTTP/1.1\r\nHost: localhost\r\nConnection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: AAAAAAAAAAAAAAAAAAAAAA==\r\n\r\n`;
      expect([target, (await sendRaw(port(), upgrade)).slice(0, 10)]).toEqual([
        target,
        expect.stringMatching(/^HTTP\/1\.1 [45]/),
      ]);
    }
    await isUp();
    expect(wrong()).toEqual([]);
  });

  test('and messages that hold nonsense are nothing to it: errors of pages are any text of any length', async () => {
    workspace = Workspace.with(files);
    program = await Program.serve(workspace.root);
    const { key } = (await (await fetch(`${program.url}~spark/session`)).json()) as { key: string };
    const socket = new WebSocket(
      `${program.url.replace('http', 'ws')}~spark/live?key=${key}&page=index.html&session=x&revision=NaN`,
      liveProtocol,
    );
    await new Promise((resolve) => socket.on('open', resolve));
    const piece = `${program.url}~spark/piece/page/index.html/app.js`;
    const stacks = [
      'at %',
      `at x (${piece}?%zz:1:1)`,
      `at x (${program.url}~spark/piece/%E0%A4%A.js:1:1)`,
      `at x (${piece}:99999999999999999999:1)`,
      `at x (${piece}:0:0)`,
      `at ${'a'.repeat(200_000)}`,
      `at ${' ('.repeat(50_000)}`,
      `${'x@'.repeat(60_000)}:1:1`,
      `\u001b]0;owned\u0007 at \u202ex (${piece}:3:5)`,
      '\n'.repeat(100_000),
    ];
    const error = (message: string, stack: string) =>
      JSON.stringify({
        type: 'error',
        message,
        stack,
        during: 'life',
        pieces: { 'page/index.html/app': '__proto__', constructor: 'x' },
      });
    const odd = [
      '',
      '{',
      'null',
      '[]',
      '{"type":"__proto__"}',
      '{"type":"resume"}',
      '{"type":"applied","update":1e999}',
      JSON.stringify({
        type: 'resume',
        revision: -1,
        page: '__proto__',
        digest: 0,
        pieces: ['%', '/~spark/piece/%zz.js'],
        styles: { __proto__: 'x', constructor: 'y' },
        html: '',
        files: ['%', '/%zz', '//'],
        loadedAt: -1e308,
      }),
    ];
    for (const text of odd) socket.send(text);
    for (const stack of stacks) socket.send(error('broken', stack));
    socket.send(error('x'.repeat(300_000), ''));
    socket.send(error('last', ''));
    const last = await program.next('error', { where: ({ problem }) => problem.message === 'last' });
    expect(last.problem.code).toBe('run-error');
    // Each takes its own time to be looked up.
    const errors = () => program.events.filter(({ event }) => event === 'error').length;
    while (errors() < stacks.length + 2) await program.next('error', { after: program.mark });
    expect(errors()).toBe(stacks.length + 2);
    socket.close();
    await isUp();
    expect(wrong()).toEqual([]);
  });

  test('that are refused or half open are closed, also where the client keeps its side open', async () => {
    workspace = Workspace.with(files);
    program = await Program.serve(workspace.root);
    const sent = [
      'GET /nowhere HTTP/1.1\r\nHost: localhost\r\nConnection: Upgrade\r\nUpgrade: x\r\n\r\n',
      'GET /~spark/live HTTP/1.1\r\nHost: localhost\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n',
      'nonsense\r\n\r\n',
      'GET / HTTP/1.1\r\nHost: evil.example\r\nConnection: Upgrade\r\nUpgrade: x\r\n\r\n',
    ];
    for (const bytes of sent) {
      const socket = connect({ port: port(), host: '127.0.0.1', allowHalfOpen: true });
      socket.write(bytes);
      socket.resume();
      socket.on('error', () => {});
      await new Promise((resolve) => socket.once('end', resolve));
      // The other side is gone, so that what is written now is refused.
      await new Promise<void>((resolve) => {
        socket.once('close', () => resolve());
        const write = () => {
          if (!socket.destroyed) socket.write('x', () => setImmediate(write));
        };
        write();
      });
    }
    await isUp();
  });
});

describe('backends that answer oddly', () => {
  let backend: RawBackend;
  let quay: Workspace;
  let server: Program;
  beforeAll(async () => {
    backend = await RawBackend.start();
    quay = Workspace.with(files);
    server = await Program.serve(quay.root, ['index.html', '--forward', `/api=http://127.0.0.1:${backend.port}`]);
  });
  afterAll(async () => {
    await server.stop();
    quay.dispose();
    backend.close();
  });
  const ok = 'HTTP/1.1 200 OK\r\ncontent-length: 2\r\n\r\nok';

  test.each<[what: string, answer: string, method: string, version: string, expected: RegExp]>([
    [
      'several links in one early hint',
      `HTTP/1.1 103 Early Hints\r\nlink: </a.css>; rel=preload, </b.js>; rel=preload\r\nlink: <https://c.example/?a=1,2>; rel=preconnect\r\n\r\n${ok}`,
      'GET',
      '1.1',
      /^HTTP\/1\.1 103 Early Hints\r\nlink: <\/a\.css>; rel=preload, <\/b\.js>; rel=preload\r\nlink: .*\r\n\r\nHTTP\/1\.1 200 OK[\s\S]*ok$/i,
    ],
    ['an early hint without links', `HTTP/1.1 103 Early Hints\r\n\r\n${ok}`, 'GET', '1.1', /200 OK[\s\S]*ok$/],
    ['early hints for HTTP/1.0', `HTTP/1.1 103 Early Hints\r\nlink: </a.css>\r\n\r\n${ok}`, 'GET', '1.0', /^HTTP\/1\.1 200 OK/],
    [
      'a trailer with a length',
      'HTTP/1.1 200 OK\r\ntrailer: x-sum\r\ncontent-length: 2\r\n\r\nok',
      'GET',
      '1.1',
      /200 OK[\s\S]*ok$/,
    ],
    ['a trailer for HEAD', 'HTTP/1.1 200 OK\r\ntrailer: x-sum\r\ntransfer-encoding: chunked\r\n\r\n', 'HEAD', '1.1', /200 OK/],
    ['a trailer with 204', 'HTTP/1.1 204 No Content\r\ntrailer: x-sum\r\n\r\n', 'GET', '1.1', /204 No Content/],
    [
      'a trailer with 304',
      'HTTP/1.1 304 Not Modified\r\ntrailer: x-sum\r\ntransfer-encoding: chunked\r\n\r\n',
      'GET',
      '1.1',
      /304 Not Modified/,
    ],
    [
      'trailers for HTTP/1.0',
      'HTTP/1.1 200 OK\r\ntrailer: x-sum\r\ntransfer-encoding: chunked\r\n\r\n2\r\nok\r\n0\r\nx-sum: 1\r\n\r\n',
      'GET',
      '1.0',
      /200 OK[\s\S]*ok$/,
    ],
    [
      'trailers where they may be',
      'HTTP/1.1 200 OK\r\ntrailer: x-sum\r\ntransfer-encoding: chunked\r\n\r\n2\r\nok\r\n0\r\nx-sum: 1\r\n\r\n',
      'GET',
      '1.1',
      /200 OK[\s\S]*trailer: x-sum[\s\S]*x-sum: 1\r\n\r\n$/i,
    ],
    [
      'control bytes in the reason',
      'HTTP/1.1 200 O\u0001\u0007K\u00e4\r\ncontent-length: 2\r\n\r\nok',
      'GET',
      '1.1',
      /^HTTP\/1\.1 (?:200 OK\u00e4|502)/,
    ],
    ['no reason', 'HTTP/1.1 200\r\ncontent-length: 2\r\n\r\nok', 'GET', '1.1', /^HTTP\/1\.1 200/],
    [
      'a status below 100',
      'HTTP/1.1 099 Low\r\ncontent-length: 2\r\n\r\nok',
      'GET',
      '1.1',
      /^HTTP\/1\.1 502[\s\S]*backend-unreachable/,
    ],
    ['a status of 0', 'HTTP/1.1 000 None\r\n\r\n', 'GET', '1.1', /^HTTP\/1\.1 502/],
    ['a status that HTTP does not know', 'HTTP/1.1 799 Odd\r\ncontent-length: 2\r\n\r\nok', 'GET', '1.1', /^HTTP\/1\.1 799 Odd/],
    [
      'a 101 that nobody asked for',
      'HTTP/1.1 101 Switching Protocols\r\nconnection: upgrade\r\nupgrade: x\r\n\r\n',
      'GET',
      '1.1',
      /^HTTP\/1\.1 502/,
    ],
    ['a 101 without an upgrade', 'HTTP/1.1 101 Switching Protocols\r\n\r\n', 'GET', '1.1', /^HTTP\/1\.1 502/],
    [
      'a head of 64 KB',
      `HTTP/1.1 200 OK\r\n${`x-tide: ${'a'.repeat(1000)}\r\n`.repeat(64)}content-length: 2\r\n\r\nok`,
      'GET',
      '1.1',
      /^HTTP\/1\.1 200 OK[\s\S]*ok$/,
    ],
    [
      'a head of 200 KB',
      `HTTP/1.1 200 OK\r\n${`x-tide: ${'a'.repeat(1000)}\r\n`.repeat(200)}\r\nok`,
      'GET',
      '1.1',
      /^HTTP\/1\.1 502[\s\S]*128 kB/,
    ],
    ['no HTTP at all', 'tide tables\r\n\r\n', 'GET', '1.1', /^HTTP\/1\.1 502[\s\S]*no HTTP/],
    [
      'fields named like members of objects',
      'HTTP/1.1 200 OK\r\n__proto__: a\r\nconstructor: b\r\ntostring: c\r\nset-cookie: a=1; constructor=x; Path=/\r\ncontent-length: 2\r\n\r\nok',
      'GET',
      '1.1',
      /__proto__: a\r\nconstructor: b\r\ntostring: c\r\nset-cookie: a=1; constructor=x; Path=\/\r\n/,
    ],
  ])('%s', async (_, answer, method, version, expected) => {
    backend.answer = answer;
    expect(
      await sendRaw(
        Number(new URL(server.url).port),
        `${method} /api/x HTTP/${version}\r\nHost: localhost\r\n__proto__: x\r\nConstructor: y\r\nConnection: close\r\n\r\n`,
      ),
    ).toMatch(expected);
    expect(backend.received.at(-1)).toMatch(/__proto__: x\r\nConstructor: y/);
    backend.answer = ok;
    expect(await (await fetch(`${server.url}api/again`)).text()).toBe('ok');
    expect(wrong(server)).toEqual([]);
  });
});

describe('settings', () => {
  const rules: [key: string, rule: string][] = [
    ['path', `path: () => { throw new Error('aground'); }`],
    ['path', 'path: () => 42'],
    ['path', `path: () => '/x HTTP/1.1\\r\\nx: y'`],
    ['path', `path: () => 'http://elsewhere.example/'`],
    ['path', 'path: async () => "/x"'],
    ['requestHeaders', `requestHeaders: () => { throw 'aground'; }`],
    ['requestHeaders', 'requestHeaders: () => null'],
    ['requestHeaders', 'requestHeaders: async () => ({})'],
    ['requestHeaders', `requestHeaders: () => ({ 'x y': 'z' })`],
    ['requestHeaders', `requestHeaders: () => ({ x: 'a\\r\\nb: c' })`],
    ['requestHeaders', 'requestHeaders: () => ({ x: { toString() { throw new Error(); } } })'],
    ['requestHeaders', `requestHeaders: () => ({ get x() { throw new Error('aground'); } })`],
    ['requestHeaders', `requestHeaders: { x: 'a\\nb' }`],
  ];
  test('a rule that is wrong answers 500, refuses upgrades, and says which key', async () => {
    const all = rules.map(([, rule], n) => `{ paths: ['/api${n}'], to: 'http://127.0.0.1:9', ${rule} }`);
    workspace = Workspace.with({ ...files, 'vine-spark.config.mjs': `export default { forward: [${all.join()}] };` });
    program = await Program.serve(workspace.root);
    for (const [n, [key, rule]] of rules.entries()) {
      const after = program.mark;
      const answer = await fetch(`${program.url}api${n}/x`);
      expect([rule, answer.status, await answer.text()]).toEqual([rule, 500, expect.stringContaining(`'${key}'`)]);
      const { problem } = await program.next('problem', { after });
      expect([problem.code, problem.message]).toEqual([
        'rule-failed',
        expect.stringContaining(`'${key}' of the rule for /api${n}`),
      ]);
      const request = `GET /api${n}/x HTTP/1.1\r\nHost: localhost\r\nConnection: Upgrade\r\nUpgrade: x\r\n\r\n`;
      expect(await sendRaw(port(), request)).toMatch(/^HTTP\/1\.1 500/);
    }
    await isUp();
  });

  test('response fields that are wrong answer 500 too, after the backend did', async () => {
    const backend = await RawBackend.start();
    backend.answer = 'HTTP/1.1 200 OK\r\ncontent-length: 2\r\n\r\nok';
    workspace = Workspace.with({
      ...files,
      'vine-spark.config.mjs': `export default { forward: [{ paths: ['/api'], to: 'http://127.0.0.1:${backend.port}', responseHeaders: () => { throw new Error('aground'); } }] };`,
    });
    program = await Program.serve(workspace.root);
    expect((await fetch(`${program.url}api/x`)).status).toBe(500);
    expect((await program.next('problem')).problem.message).toContain("'responseHeaders'");
    await isUp();
    await backend.close();
  });

  const mistakes: [what: string, text: string, named: string][] = [
    [
      'a host with a line end',
      `export default { forward: [{ paths: ['/api'], to: 'http://127.0.0.1:9', host: 'a\\r\\nb: c' }] };`,
      'forward.0.host',
    ],
    ['a getter that throws', `export default { get base() { throw new Error('aground'); } };`, 'base'],
    ['a getter below', `export default { listen: { get port() { throw new Error('aground'); } } };`, 'listen.port'],
    ['a value that holds itself', `const listen = {}; listen.port = listen; export default { listen };`, 'listen.port'],
    ...(isLong
      ? ([
          [
            'a file that never ends',
            `await new Promise(() => setInterval(() => {}, 1000)); export default {};`,
            'has not finished',
          ],
        ] as [string, string, string][])
      : []),
  ];
  test('settings that are wrong keep the last good ones in force, with a problem that names it', async () => {
    workspace = Workspace.with({ ...files, 'vine-spark.config.mjs': 'export default {};' });
    program = await Program.serve(workspace.root);
    for (const [what, text, named] of mistakes) {
      const after = program.mark;
      workspace.write({ 'vine-spark.config.mjs': text });
      const { problems } = await program.next('problems', { after });
      expect([what, problems[0].message]).toEqual([what, expect.stringContaining(named)]);
      await isUp();
    }
    expect(wrong()).toEqual([]);
  }, 60_000);

  const adapters: [what: string, adapter: string, message: RegExp][] = [
    ['throws', `translate() { throw null; }`, /tide/],
    ['gives nothing', 'translate() {}', /must give the code/],
    ['gives nonsense', 'translate: () => ({ code: 4 })', /must give the code/],
    ['fails at no place', `translate() { throw Object.assign(new Error('aground'), { line: -1, column: NaN }); }`, /aground/],
    [
      'resolves by throwing',
      `translate: (text) => text, resolve(name) { if (name.endsWith('LOG')) throw new Error('aground'); }`,
      /resolve '\.\/tide\.log4'/,
    ],
    [
      'resolves to nonsense',
      `translate: (text) => text, resolve: (name) => name.endsWith('LOG') ? 4 : undefined`,
      /absolute path/,
    ],
    [
      'resolves to what is not ours',
      `translate: (text) => text, resolve: (name) => name.endsWith('LOG') ? '/etc/hostname' : undefined`,
      /leads out of the project/,
    ],
  ];
  test('an adapter that fails is a problem', async () => {
    // Each has files of its own.
    const all = adapters.map(
      ([, text], n) => `{ name: 'tide${n}', files: /\\.log${n}$/, ${text.replaceAll('LOG', `.log${n}`)} }`,
    );
    workspace = Workspace.with({
      ...files,
      ...Object.fromEntries(adapters.map((_, n) => [`tide.log${n}`, 'high'])),
      'main.js': adapters.map((_, n) => `import './tide.log${n}';\n`).join(''),
      'vine-spark.config.mjs': `export default { adapters: [${all.join()}] };`,
    });
    program = await Program.serve(workspace.root);
    const problems = (await program.next('problems')).problems as { message: string }[];
    const told = adapters.map(([what, , message]) => [what, problems.some((problem) => message.test(problem.message))]);
    expect(told).toEqual(adapters.map(([what]) => [what, true]));
    expect(problems).toHaveLength(adapters.length);
    await isUp();
  });
});

describe('sources', () => {
  const deep = (open: string, inner: string, close: string, count = 40_000) => open.repeat(count) + inner + close.repeat(count);
  const shapes: Record<string, string> = {
    'brackets.js': `export default ${deep('[', '', ']')};`,
    'types.ts': `export let x: ${deep('A<', 'B', '>')};`,
    'arrays.ts': `export let x: B${deep('[]', '', '', 200_000)};`,
    'elements.jsx': `export default ${deep('<a>', '', '</a>')};`,
    'open.js': deep('<a>;', '', '', 100_000),
    'open.tsx': deep('<a>;', '', '', 100_000),
    'ends.jsx': deep('<a b="/>">;', '', '', 100_000),
    'arrows.js': `export default ${deep('a=>', '1', '')};`,
    'conditions.js': `export default ${deep('a?1:', '1', '')};`,
    'common.cjs': `exports.x = ${deep('(', '1', ')')};`,
    'else.js': deep('if(a){f()}else ', 'g()', ''),
    'if.js': deep('if(a)', 'f()', ''),
    'for.js': deep('for(;;)', 'f()', ''),
    'not.js': deep('!', 'a', '', 100_000),
    'new.js': deep('new ', 'a', ''),
    'void.ts': deep('void ', '0', '', 100_000),
    'yield.js': `function* g() { ${deep('yield ', '0', '')} }`,
    'sums.js': `f(${deep('a+', 'a', '', 200_000)})`,
    'members.js': `a${deep('.b', '', '', 200_000)}`,
    'calls.js': `a${deep('.b(c)', '', '', 200_000)}`,
    'keys.ts': `type A = ${deep('keyof ', 'B', '')}; export {}`,
    'functions.js': `f(${deep('function(){}+', '1', '', 100_000)})`,
    'sheet.scss': deep('a{', 'b: c', '}', 20_000),
    'sheet.module.css': deep('a{', 'b: c', '}', 20_000),
  };
  test('that are nested too deeply are problems', async () => {
    const names = Object.keys(shapes);
    workspace = Workspace.with({ ...files, ...shapes, 'main.js': names.map((name) => `import './${name}';\n`).join('') });
    program = await Program.serve(workspace.root);
    const { problems } = await program.next('problems');
    const told = (problems as { file: string; code: string }[]).map(({ file, code }) => [
      file,
      /^(?:file-too-large|syntax-error)$/.test(code),
    ]);
    expect(Object.fromEntries(told)).toEqual(Object.fromEntries(names.map((name) => [name, true])));
    workspace.write(Object.fromEntries(names.map((name) => [name, name.endsWith('ss') ? 'b { color: red; }' : '0;\n'])));
    await program.next('solved');
    await isUp();
  }, 60_000);

  test('that repeat one thing are checked and built, in the time that their length takes', async () => {
    const words = [
      '\n',
      'process.env.',
      'url(',
      '<script',
      '<style',
      '<!--',
      'export{',
      'for (',
      'function ',
      '/*',
      'constructor(',
    ];
    const repeated = words.flatMap((word, at) => {
      const text = word.repeat(full(100_000, 300_000) / word.length);
      const comment = `/*${text.replaceAll('*/', '* /')}*/`;
      const code = `${word === '\n' ? text : comment} export const text = ${JSON.stringify(text)}, found = /x/.test(text)`;
      return [
        [`${at}.${at % 2 === 0 ? 'js' : 'ts'}`, `${code};\n`] as const,
        [`${at}.css`, `${comment} b { order: 1 }\n`] as const,
      ];
    });
    const main = repeated.map(([name]) =>
      name.endsWith('css') ? `import './${name}';` : `export * as x${Number.parseInt(name, 10)} from './${name}';`,
    );
    workspace = Workspace.with({ ...files, ...Object.fromEntries(repeated), 'main.js': `${main.join('\n')}\n` });
    for (const command of [['check'], ['build', '--no-cache']])
      expect(await runProgram(workspace.root, command)).toMatchObject({ code: 0, stderr: '' });
  }, 60_000);

  test('that lead to each other thousands deep, or over more ways than can be gone, are built or told', async () => {
    const deep = (folder: string, of: (at: number) => string, end: string, count: number) =>
      Object.fromEntries(Array.from({ length: count }, (_, at) => [`${folder}/${at}.js`, at < count - 1 ? of(at + 1) : end]));
    const layers = Array.from({ length: 30 }, (_, at) => ['a', 'b'].map((name) => [name, at] as const)).flat();
    const next = (at: number, of: (name: string) => string) => (at < 29 ? ['a', 'b'].map(of).join(' ') : '');
    workspace = Workspace.with({
      'package.json': '{}',
      'index.html': '<!doctype html><script type="module" src="main.js"></script>',
      'main.js': `import { tide } from './named/0.js'; import { level } from './stars/0.js'; import { berth } from './sums/0.js';
        import names from './a0.module.css'; window.all = [tide, level, berth, names];`,
      ...deep('named', (at) => `export { tide } from './${at}.js';`, 'export const tide = [];', isLong ? 1000 : 50),
      ...deep('stars', (at) => `export * from './${at}.js';`, 'export const level = [];', isLong ? 3000 : 50),
      ...deep(
        'sums',
        (at) => `import { berth as b } from './${at}.js'; export const berth = b + 1;`,
        'export const berth = 1;',
        1000,
      ),
      ...Object.fromEntries(
        layers.map(([name, at]) => [
          `${name}${at}.module.css`,
          `.row { ${next(at, (other) => `composes: row from './${other}${at + 1}.module.css';`)} order: ${at} }`,
        ]),
      ),
      ...Object.fromEntries(
        layers.map(([name, at]) => [
          `${name}${at}.css`,
          `${next(at, (other) => `@import './${other}${at + 1}.css';`)} .${name} { order: ${at} }`,
        ]),
      ),
    });
    expect(await runProgram(workspace.root, ['build', '--no-cache'])).toMatchObject({ code: 0 });
    const script = readdirSync(workspace.path('dist/assets')).find((name) => /^index-.*\.js$/.test(name));
    const built = readFileSync(workspace.path(`dist/assets/${script}`), 'utf8');
    expect(built.match(/row_\w+/g)!.length).toBeLessThan(5000);
    workspace.write({
      'main.js': `import { ebb } from './named/0.js'; window.ebb = ebb;`,
      [isLong ? 'named/999.js' : 'named/49.js']: '',
    });
    const { code, stderr } = await runProgram(workspace.root, ['build', '--no-cache']);
    expect([code, stderr]).toEqual([1, expect.stringMatching(/export-missing[\s\S]* → \(\d+ more\) → /)]);
    if (!isLong) return;
    workspace.write({ 'main.js': `import './a0.css';` });
    expect(await runProgram(workspace.root, ['build', '--no-cache'])).toMatchObject({
      code: 1,
      stderr: expect.stringContaining('most of it many times'),
    });
  }, 60_000);

  test('of a package whose list of files with effects would keep a build busy are built', async () => {
    const name = 'ab'.repeat(60);
    const patterns = ['**/*'.repeat(40), '+(a|b)*'.repeat(20), '*a'.repeat(30)].map((pattern) => `${pattern}c`);
    workspace = Workspace.with({
      ...files,
      'main.js': `import { tide } from 'tide'; console.log(tide);`,
      'node_modules/tide/package.json': JSON.stringify({ name: 'tide', type: 'module', main: 'index.js', sideEffects: patterns }),
      'node_modules/tide/index.js': `export { tide } from './${name}.js';`,
      [`node_modules/tide/${name}.js`]: 'export const tide = 4;',
    });
    expect(await runProgram(workspace.root, ['build', 'index.html', '--no-cache'])).toMatchObject({ code: 0, stderr: '' });
  });

  test('that are too long, pipes or deep pages are problems, and a start waits until they are mended', async () => {
    workspace = Workspace.with({
      ...files,
      'index.html': `${deep('<div>', '', '')}<script type="module" src="main.js"></script>`,
      'main.js': `import './long.js';\n`,
    });
    writeFileSync(workspace.path('long.js'), Buffer.alloc(70 << 20, 32));
    program = await Program.serve(workspace.root);
    expect(JSON.stringify((await program.next('problems')).problems)).toContain('file-too-large');
    workspace.write({ ...files, 'long.js': '' });
    await program.next('solved');
    expect(await (await fetch(`${program.url}~spark/piece/page/index.html/app.js`)).text()).toContain("'open'");
  }, 40_000);
});

describe('the process', () => {
  const main = join(repository, 'dist/cli/main.js');
  const args = [main, 'serve', 'index.html', '--port', '0'];
  const ended = (child: ReturnType<typeof spawn>) =>
    new Promise<[number | null, string | null]>((resolve) => child.once('exit', (code, signal) => resolve([code, signal])));

  test('ends cleanly when nobody takes its output, or nobody can', async () => {
    workspace = Workspace.with(files);
    const piped = spawn(process.execPath, [...args, '--json'], { cwd: workspace.root, stdio: ['ignore', 'pipe', 'pipe'] });
    let stderr = '';
    piped.stderr.on('data', (data) => {
      stderr += data;
    });
    piped.stdout.once('data', () => piped.stdout.destroy());
    const closed = ended(piped);
    workspace.write({ 'main.js': 'let aground = ;' });
    expect([await closed, stderr]).toEqual([[0, null], '']);
    const full = openSync('/dev/full', 'w');
    const child = spawn(process.execPath, args, { cwd: workspace.root, stdio: ['ignore', full, 'pipe'] });
    let said = '';
    child.stderr!.on('data', (data) => {
      said += data;
    });
    expect([await ended(child), said]).toEqual([[1, null], expect.stringContaining('The output cannot be written (ENOSPC)')]);
    closeSync(full);
  });

  test.each([
    ['while a settings file hangs', `while (true) {}`],
    ['while one waits forever', 'await new Promise(() => setInterval(() => {}, 1000)); export default {};'],
  ])('ends at once on SIGTERM %s', async (_, text) => {
    workspace = Workspace.with({ ...files, 'vine-spark.config.mjs': 'export default {};' });
    program = await Program.serve(workspace.root);
    workspace.write({
      'vine-spark.config.mjs': `import { writeFileSync } from 'node:fs';\nwriteFileSync(${JSON.stringify(workspace.path('begun'))}, '');\n${text}`,
    });
    await untilThere(workspace.path('begun'));
    const over = ended(program.child);
    program.child.kill('SIGTERM');
    await over;
  });

  test('says with a code why it can not start, and is never half alive', async () => {
    workspace = Workspace.with({ ...files, 'vine-spark.config.mjs': 'throw new Error("aground");' });
    const failed = await runProgram(workspace.root, ['serve']);
    expect([failed.code, failed.stderr]).toEqual([2, expect.stringContaining('settings-unreadable')]);
  });
});

async function untilThere(path: string): Promise<void> {
  const { watch, existsSync } = await import('node:fs');
  const { dirname } = await import('node:path');
  await new Promise<void>((resolve) => {
    const watcher = watch(dirname(path), () => look());
    const look = () => {
      if (!existsSync(path)) return;
      watcher.close();
      resolve();
    };
    look();
  });
}
