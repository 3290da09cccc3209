import { mkdirSync, symlinkSync } from 'node:fs';
import { Agent, request } from 'node:http';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import WebSocket from 'ws';
import { liveProtocol } from '../../src/core/live/messages.js';
import { Program } from '../support/program.js';
import { randomNumbers } from '../support/random-program.js';
import { full } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

/** What must never come out, wherever it stands. */
const canary = 'canary-5f1d';
const page = '<!doctype html><title>Quay</title><script type="module" src="src/main.js"></script>';
const sheet = (text: string) => `/* ${text} */ b { color: red; }\n`;

/** A folder with a project in it, and secrets beside and in the project. */
function harbour(files: Record<string, string> = {}): Workspace {
  const workspace = Workspace.with({
    'beside/secret.js': `export default '${canary}';\n`,
    'beside/secret.txt': canary,
    'beside/secret.json': `{ "key": "${canary}" }`,
    'beside/secret.css': sheet(canary),
    'beside/_secret.scss': `$key: "${canary}";\n`,
    'beside/secret.svg': `<svg xmlns="http://www.w3.org/2000/svg"><!-- ${canary} --></svg>`,
    'beside/secret.html': canary,
    'beside/package.json': '{ "name": "beside", "main": "secret.js" }',
    'quay/package.json': `{ "name": "quay", "private": true, "harbour": "${canary}", "dependencies": { "evil": "1" } }`,
    'quay/package-lock.json': `{ "name": "${canary}" }`,
    'quay/tsconfig.json': `{ "compilerOptions": {}, "harbour": "${canary}" }`,
    'quay/.env': `KEY=${canary}\n`,
    'quay/.git/config': canary,
    'quay/.npmrc': `//registry.example/:_authToken=${canary}\n`,
    'quay/.private/key.json': `{ "key": "${canary}" }`,
    'quay/src/.hidden.js': `export default '${canary}';\n`,
    'quay/index.html': page,
    'quay/src/main.js': `import './page.css';\nimport late from './late.txt';\nimport { berth } from './berth.js';\ndocument.title = berth + late;\nexport const later = () => import('./later.js');\n`,
    'quay/src/later.js': 'export const later = 1;\n',
    'quay/src/berth.js': 'export const berth = 4;\n',
    'quay/src/page.css': 'body { background: url(../img/gull.svg); }\n',
    'quay/src/late.txt': 'late',
    'quay/src/unused.js': `export default '${canary}';\n`,
    'quay/img/gull.svg': '<svg xmlns="http://www.w3.org/2000/svg"/>',
    'quay/data/hours.json': '{ "open": 6 }',
    'quay/data/notes.md': 'tide tables',
    'quay/public/tides.txt': 'high at six',
    'quay/public/.secret': canary,
    'quay/node_modules/evil/package.json': '{ "name": "evil", "main": "index.js" }',
    'quay/node_modules/evil/index.js': 'export default 1;\n',
    ...files,
  });
  for (const [link, target] of [
    ['quay/data/out', 'beside'],
    ['quay/data/out.json', 'beside/secret.json'],
    ['quay/data/env.txt', 'quay/.env'],
    ['quay/public/out', 'beside'],
    ['quay/public/env.txt', 'quay/.env'],
    ['quay/img/out.svg', 'beside/secret.svg'],
    ['quay/src/out', 'beside'],
    ['quay/node_modules/evil/out', 'beside'],
    ['quay/node_modules/leak', 'beside'],
  ] as const)
    symlinkSync(workspace.path(target), workspace.path(link));
  return workspace;
}

const agent = new Agent({ keepAlive: true, maxSockets: 32 });

/** The answer to a request whose target goes out as it is. */
function ask(port: number, target: string, headers: Record<string, string> = {}): Promise<{ status: number; text: string }> {
  return new Promise((resolve, reject) => {
    const asked = request({ agent, host: '127.0.0.1', port, path: target, headers }, (answer) => {
      const chunks: Buffer[] = [];
      answer.on('data', (chunk: Buffer) => chunks.push(chunk));
      answer.on('end', () => resolve({ status: answer.statusCode!, text: Buffer.concat(chunks).toString('latin1') }));
      answer.on('error', reject);
    });
    asked.on('error', reject);
    asked.end();
  });
}

describe('a project with secrets beside and in it', () => {
  let workspace: Workspace;
  let program: Program;
  let port: number;
  beforeAll(async () => {
    workspace = harbour();
    program = await Program.serve(workspace.path('quay'));
    port = Number(new URL(program.url).port);
  });
  afterAll(async () => {
    await program.stop();
    agent.destroy();
    workspace.dispose();
  });

  test.each([
    ['/', 'Quay'],
    ['/data/hours.json', '"open"'],
    ['/data/notes.md', 'tide tables'],
    ['/tides.txt', 'high at six'],
    ['/img/gull.svg', '<svg'],
    ['/src/late.txt', 'late'],
    ['/~spark/piece/lazy/src/later.js.js', 'later'],
    ['/~spark/style/src/page.css', 'background'],
  ])('gives %s', async (path, text) => {
    const answer = await ask(port, path);
    expect([answer.status, answer.text]).toEqual([200, expect.stringContaining(text)]);
  });

  test.each(['/package.json', '/package-lock.json', '/tsconfig.json', '/.env', '/.git/config', '/src/main.js', '/data/out.json'])(
    'gives nothing at %s',
    async (path) => {
      expect((await ask(port, path)).status).toBe(404);
    },
  );

  test(`gives none of them for ${full(1000, 100_000)} requests of every kind`, async () => {
    const numbers = randomNumbers(20_261_128);
    const random = () => numbers(1_000_000) / 1_000_000;
    const one = <T>(list: readonly T[]): T => list[Math.floor(random() * list.length)]!;
    const names = [
      'secret.js',
      'secret.txt',
      'secret.json',
      'secret.css',
      '_secret.scss',
      'secret.svg',
      'secret.html',
      'package.json',
    ];
    const inside = [
      '.env',
      '.git/config',
      '.npmrc',
      '.private/key.json',
      'src/.hidden.js',
      'src/unused.js',
      'package.json',
      'package-lock.json',
      'tsconfig.json',
      'data/out.json',
      'data/env.txt',
      'data/out/secret.txt',
      'public/.secret',
      'public/out/secret.txt',
      'public/env.txt',
      'out/secret.json',
      'env.txt',
      'img/out.svg',
      'src/out/secret.js',
      'node_modules/leak/secret.js',
      'node_modules/evil/out/secret.txt',
      'node_modules/evil/package.json',
    ];
    const ups = [
      '../',
      '~up/',
      '%2e%2e/',
      '..%2f',
      '%2e%2e%2f',
      '..\\',
      '..%5c',
      '~~up/',
      '%7eup/',
      './../',
      'src/../../',
      '....//',
      '%252e%252e/',
      '..;/',
    ];
    const kinds = [
      '',
      '~spark/',
      '~spark/piece/',
      '~spark/piece/lazy/',
      '~spark/piece/worker/',
      '~spark/piece/page/',
      '~spark/embed/',
      '~spark/piece/page/~spark/embed/',
      '~spark/style/',
      '~spark/file/',
      '~spark/map/',
      '~spark/map/style/',
      '~spark/open?file=',
      '~spark/error?worker=',
      '/',
      '//',
      'src/',
      'public/',
      'data/',
      '~spark/piece/update/',
    ];
    const ends = [
      '',
      '.js',
      '.json',
      '?text',
      '?bytes',
      '?url',
      '?v=0',
      '?of=',
      '%3ftext',
      '%3ftext.js',
      '#x',
      '/',
      '/app.js',
      '/packages.js',
      '/start-0.js',
      '%00',
      '%00.svg',
      '.map',
      '?key=',
    ];
    const encoded = (text: string) =>
      random() < 0.8
        ? text
        : [...text]
            .map((letter) => (random() < 0.2 ? `%${letter.charCodeAt(0).toString(16).padStart(2, '0')}` : letter))
            .join('');
    const target = () => {
      const id =
        random() < 0.5
          ? `${one(ups).repeat(1 + Math.floor(random() * 4))}beside/${one(names)}`
          : random() < 0.1
            ? workspace.path(`beside/${one(names)}`)
            : one(inside);
      return `/${one(kinds)}${encoded(id)}${one(ends)}`.replace(/[^\x21-\x7e]/g, '');
    };
    const found: string[] = [];
    let left = full(1000, 100_000);
    const headers = [
      {},
      { accept: 'text/html' },
      { accept: 'application/json', 'sec-fetch-site': 'same-origin' },
      { range: 'bytes=0-99' },
    ];
    const client = async () => {
      while (left-- > 0) {
        const path = target();
        const { text } = await ask(port, path, one(headers) as Record<string, string>);
        if (text.includes(canary)) found.push(path);
      }
    };
    await Promise.all(Array.from({ length: 16 }, client));
    expect(found).toEqual([]);
  });

  test('lets pages of backends start scripts of the project only, and those that no setting lists only at the word of a browser', async () => {
    const from = 'http://localhost:9';
    workspace.write({
      'quay/vine-spark.config.json': JSON.stringify({
        embed: { from: [from], entries: ['src/later.js'], urls: { '/static/b.css': 'src/page.css' } },
      }),
    });
    const embedding = await Program.serve(workspace.path('quay'), ['--settings', 'vine-spark.config.json', 'index.html']);
    const at = Number(new URL(embedding.url).port);
    const own = { 'sec-fetch-site': 'same-origin' };
    const trusted = { 'sec-fetch-site': 'same-site', origin: from };
    const stranger = { 'sec-fetch-site': 'same-site', origin: 'http://localhost:10' };
    const starts = async (id: string, headers: Record<string, string>) => {
      const { text } = await ask(at, `/~spark/embed/${id}.js`, headers);
      const piece = await ask(at, `/~spark/piece/page/~spark/embed/${id}/app.js`, headers);
      return text.includes('?.show(') && piece.status === 200;
    };
    for (const id of [
      '.env',
      'src/.hidden.js',
      'package.json',
      'vine-spark.config.json',
      'tsconfig.json',
      'data/hours.json',
      'img/gull.svg',
      'index.html',
    ])
      for (const headers of [own, trusted, {}]) expect([id, headers, await starts(id, headers)]).toEqual([id, headers, false]);
    for (const id of [
      '~up/beside/secret.js',
      'src/out/secret.js',
      'node_modules/evil/index.js',
      'node_modules/evil/out/secret.js',
      'src//unused.js',
      'src/./unused.js',
      '%2e%2e/beside/secret.js',
      'src/later.js,~up/beside/secret.js',
    ])
      for (const headers of [own, trusted, {}]) expect([id, headers, await starts(id, headers)]).toEqual([id, headers, false]);
    expect([
      await starts('src/unused.js', {}),
      await starts('src/unused.js', stranger),
      await starts('src/later.js', stranger),
    ]).toEqual([false, false, false]);
    expect([await starts('src/later.js', {}), await starts('src/later.js', trusted), await starts('src/berth.js', own)]).toEqual([
      true,
      true,
      true,
    ]);
    expect((await ask(at, '/static/b.css')).text).toContain('background');
    expect((await ask(at, '/static/b.css', stranger)).status).toBe(403);
    await embedding.stop();
    workspace.delete('quay/vine-spark.config.json');
  });

  test('gives none of them for messages of the live channel that name ids, and makes no module of one', async () => {
    const { key } = JSON.parse((await ask(port, '/~spark/session')).text) as { key: string };
    const socket = new WebSocket(
      `${program.url.replace('http', 'ws')}~spark/live?key=${key}&page=index.html&session=x&revision=0`,
      liveProtocol,
    );
    const said: string[] = [];
    await new Promise((resolve) => socket.on('open', resolve));
    const { modules } = program.events.find(({ event }) => event === 'ready')!;
    for (const id of [
      '../beside/secret.js',
      '.env?text',
      'src/unused.js',
      'package.json',
      '../../../etc/passwd?text',
      'src/.hidden.js',
    ]) {
      const lazy = id
        .split('/')
        .map((part) => (part === '..' ? '~up' : encodeURIComponent(part)))
        .join('/');
      const answered = new Promise((resolve) => socket.once('message', (data) => resolve(said.push(String(data)))));
      const resume = {
        type: 'resume',
        revision: 0,
        page: 'index.html',
        digest: 0,
        pieces: [`/~spark/piece/lazy/${lazy}.js`, '/~spark/piece/lazy/%zz.js'],
        styles: {},
        html: (await ask(port, '/')).text.match(/html&quot;:&quot;(\w+)/)![1]!,
        files: [`/${id}`, `/~up/${id}`],
        loadedAt: 0,
      };
      socket.send(JSON.stringify(resume));
      await answered;
      expect((await ask(port, `/~spark/piece/lazy/${lazy}.js`)).status).toBe(404);
      expect((await ask(port, `/~spark/file/${lazy}`)).status).toBe(404);
    }
    socket.close();
    expect(said.join()).not.toContain(canary);
    workspace.write({ 'quay/src/berth.js': 'export const berth = 5;\n' });
    await program.next('update');
    expect(modules).toBe(program.events.find(({ event }) => event === 'ready')!.modules);
    expect(program.events.filter(({ event }) => event === 'problems')).toEqual([]);
  });
});

const evil = 'quay/node_modules/evil';
/** Ways in which a package could bring in what isn't its own: files of the package, and what the application imports of it. */
const ways: [way: string, files: Record<string, string>, specifier?: string][] = [
  ['import', { 'index.js': `import secret from '../../../beside/secret.js';\nexport default secret;\n` }],
  ['import of an absolute path', { 'index.js': `import secret from '@@/beside/secret.js';\nexport default secret;\n` }],
  ['text', { 'index.js': `import secret from '../../../beside/secret.txt' with { type: 'text' };\nexport default secret;\n` }],
  ['bytes', { 'index.js': `import secret from '../../../beside/secret.txt' with { type: 'bytes' };\nexport default secret;\n` }],
  ['JSON', { 'index.js': `import secret from '../../../beside/secret.json' with { type: 'json' };\nexport default secret;\n` }],
  ['the environment', { 'index.js': `import secret from '../../.env' with { type: 'text' };\nexport default secret;\n` }],
  [
    'a constructed sheet',
    { 'index.js': `import secret from '../../../beside/secret.css' with { type: 'css' };\nexport default secret;\n` },
  ],
  ['a sheet', { 'index.js': `import '../../../beside/secret.css';\n` }],
  ['URL', { 'index.js': `export default new URL('../../../beside/secret.svg', import.meta.url);\n` }],
  ['URL of the environment', { 'index.js': `export default new URL('../../.env', import.meta.url);\n` }],
  ['a worker', { 'index.js': `export default () => new Worker(new URL('../../../beside/secret.js', import.meta.url));\n` }],
  ['import()', { 'index.js': `export default () => import('../../../beside/secret.js');\n` }],
  ['import() of a pattern', { 'index.js': 'export default (name) => import(`../../../beside/${name}.js`);\n' }],
  ['require', { 'index.js': `module.exports = require('../../../beside/secret.js');\n` }],
  ['require that is tried', { 'index.js': `try { module.exports = require('../../../beside/secret.json'); } catch {}\n` }],
  [
    'url() in a sheet',
    { 'index.js': `import './evil.css';\n`, 'evil.css': 'b { background: url(../../../beside/secret.svg); }\n' },
  ],
  ['@import in a sheet', { 'index.js': `import './evil.css';\n`, 'evil.css': '@import "../../../beside/secret.css";\n' }],
  [
    '@use in Sass',
    { 'index.js': `import './evil.scss';\n`, 'evil.scss': '@use "../../../beside/secret";\nb { content: secret.$key; }\n' },
  ],
  [
    'composes',
    { 'index.js': `import './evil.module.css';\n`, 'evil.module.css': `.a { composes: b from '../../../beside/secret.css'; }\n` },
  ],
  ['exports', { 'package.json': '{ "name": "evil", "exports": { ".": "./../../../beside/secret.js" } }' }],
  ['main', { 'package.json': '{ "name": "evil", "main": "../../../beside/secret.js" }' }],
  [
    'browser',
    { 'package.json': '{ "name": "evil", "main": "index.js", "browser": { "./index.js": "../../../beside/secret.js" } }' },
  ],
  [
    'imports',
    {
      'package.json': '{ "name": "evil", "main": "index.js", "imports": { "#s": "./../../../beside/secret.js" } }',
      'index.js': `export { default } from '#s';\n`,
    },
  ],
  ['a link in the package', { 'index.js': `export { default } from './out/secret.js';\n` }],
  ['a link among packages', { 'index.js': `export { default } from 'leak/secret.js';\n` }],
  ['a link among packages, its main file', { 'index.js': `export { default } from 'leak';\n` }],
];

test('no package brings anything in from beside the project, in whatever way: a problem with the chain', async () => {
  const workspace = harbour({ 'quay/src/main.js': ways.map((_, n) => `import './way${n}.js';\n`).join('') });
  for (const [n, [, given]] of ways.entries()) {
    const texts = { 'package.json': '{ "name": "evil", "main": "index.js" }', 'index.js': 'export default 1;\n', ...given };
    workspace.write({
      [`quay/src/way${n}.js`]: `import * as evil from 'evil${n}';\nconsole.log(evil.default);\n`,
      ...Object.fromEntries(
        Object.entries(texts).map(([name, text]) => [`${evil}${n}/${name}`, text.replaceAll('@@', workspace.root)]),
      ),
    });
    symlinkSync(workspace.path('beside'), workspace.path(`${evil}${n}/out`));
  }
  const program = await Program.serve(workspace.path('quay'));
  const { problems } = (await program.next('problems')) as unknown as {
    problems: { code: string; file: string; chain?: string[] }[];
  };
  const told = ways.map(([way], n) => {
    const own = problems.filter(({ file, chain = [] }) => [file, ...chain].includes(`src/way${n}.js`));
    return [way, own.map(({ code }) => /^file-(?:outside|hidden)$|^import-unresolved$|^package-entry-missing$/.test(code))];
  });
  expect(told).toEqual(ways.map(([way]) => [way, [true]]));
  expect(problems).toHaveLength(ways.length);
  const paths = [
    '~spark/piece/page/index.html/packages.js',
    '~spark/piece/page/index.html/app.js',
    '',
    ...ways.map((_, n) => `~spark/style/node_modules/evil${n}/evil.css`),
    '~spark/file/~up/beside/secret.svg',
    '~spark/piece/lazy/~up/beside/secret.js.js',
    '~spark/piece/worker/~up/beside/secret.js.js',
  ];
  for (const path of paths) expect(await (await fetch(new URL(path, program.url))).text()).not.toContain(canary);
  expect(JSON.stringify(program.events)).not.toContain(canary);
  await program.stop();
  workspace.dispose();
});

test.each([
  ['the map itself', '../../../beside/secret.json', undefined],
  ['a source', 'index.js.map', ['../../../beside/secret.txt']],
  ['the environment as a source', 'index.js.map', ['../../.env']],
  ['a file of the project as a source', 'index.js.map', ['../../src/unused.js']],
  ['a source by link', 'index.js.map', ['out/secret.txt']],
])('a map that a package ships brings in nothing that is not its own: %s', async (_, reference, sources) => {
  const workspace = harbour({
    'quay/src/main.js': `import evil from 'evil';\ndocument.title = String(evil);\n`,
    [`${evil}/index.js`]: `export default 1;\n//# sourceMappingURL=${reference}\n`,
    ...(sources ? { [`${evil}/index.js.map`]: JSON.stringify({ version: 3, sources, names: [], mappings: 'AAAA' }) } : {}),
  });
  const program = await Program.serve(workspace.path('quay'));
  const piece = await (await fetch(new URL('~spark/piece/page/index.html/packages.js', program.url))).text();
  const map = await (await fetch(new URL(/sourceMappingURL=(\S+)\s*$/.exec(piece)![1]!, program.url))).text();
  expect(map).toContain('export default 1');
  expect(map).not.toContain(canary);
  await program.stop();
  workspace.dispose();
});

test('links are followed into the workspace, to listed packages and to installed ones', async () => {
  const workspace = Workspace.with({
    'package.json': '{ "name": "harbour", "workspaces": ["apps/*", "packages/*"] }',
    'apps/quay/package.json': '{ "name": "quay", "dependencies": { "listed": "*" } }',
    'apps/quay/index.html': page,
    'apps/quay/src/main.js': `import { ui } from 'ui';\nimport { shared } from './shared/index.js';\nimport { listed } from 'listed';\nimport { store } from 'store';\nimport { near } from '../../near.js';\ndocument.title = [ui, shared, listed, store, near].join();\n`,
    'apps/near.js': `export const near = 'near';\n`,
    'packages/ui/package.json': '{ "name": "ui", "main": "ui.js" }',
    'packages/ui/ui.js': `export const ui = 'ui';\n`,
    'packages/shared/index.js': `export const shared = 'shared';\n`,
  });
  const elsewhere = Workspace.with({
    'listed/package.json': '{ "name": "listed", "main": "listed.js" }',
    'listed/listed.js': `export const listed = 'listed';\n`,
    'store/node_modules/store/package.json': '{ "name": "store", "main": "store.js", "dependencies": { "deep": "1" } }',
    'store/node_modules/store/store.js': `export { store } from 'deep';\n`,
    'store/node_modules/deep/package.json': '{ "name": "deep", "main": "deep.js" }',
    'store/node_modules/deep/deep.js': `export const store = 'store';\n`,
  });
  mkdirSync(workspace.path('apps/quay/node_modules'));
  const links = {
    'apps/quay/node_modules/ui': workspace.path('packages/ui'),
    'apps/quay/src/shared': workspace.path('packages/shared'),
    'apps/quay/node_modules/listed': elsewhere.path('listed'),
    'apps/quay/node_modules/store': elsewhere.path('store/node_modules/store'),
  };
  for (const [link, target] of Object.entries(links)) symlinkSync(target, workspace.path(link));
  const program = await Program.serve(join(workspace.root, 'apps/quay'));
  const pieces = await Promise.all(
    ['packages', 'app'].map(async (part) =>
      (await fetch(new URL(`~spark/piece/page/index.html/${part}.js`, program.url))).text(),
    ),
  );
  for (const word of ['ui', 'shared', 'listed', 'store', 'near']) expect(pieces.join('')).toContain(`'${word}'`);
  expect(program.events.filter(({ event }) => event === 'problems')).toEqual([]);
  await program.stop();
  workspace.dispose();
  elsewhere.dispose();
});

test.each([
  ['a template', `<template src="../../../beside/secret.html"></template>\n`],
  ['a sheet with a scope', `<template><p /></template>\n<style scoped src="../../../beside/secret.css"></style>\n`],
  ['a template by its absolute path', `<template src="@@/beside/secret.html"></template>\n`],
  ['the environment', `<template src="../../.env"></template>\n`],
  [
    'a preprocessed sheet',
    `<template><p /></template>\n<style lang="scss">@use '../../../beside/secret';\np { content: secret.$key; }</style>\n`,
  ],
])('a component file of a package brings in nothing from beside the project: %s', async (_, text) => {
  const workspace = harbour({ 'quay/src/main.js': `import 'evil/berth.vue';\n` });
  workspace.write({ [`${evil}/berth.vue`]: text.replaceAll('@@', workspace.root) });
  for (const name of ['vue', '@vue'])
    symlinkSync(join(repository, 'node_modules', name), workspace.path(`quay/node_modules/${name}`));
  const program = await Program.serve(workspace.path('quay'));
  const { problems } = await program.next('problems');
  expect(problems.map(({ code }: { code: string }) => code)).toContain(
    text.includes('scss') ? 'file-outside' : 'component-invalid',
  );
  for (const path of [
    '~spark/piece/page/index.html/packages.js',
    '~spark/style/node_modules/evil/berth.vue%3Fpart.style0.scoped.css',
    '',
  ])
    expect(await (await fetch(new URL(path, program.url))).text()).not.toContain(canary);
  expect(JSON.stringify(program.events)).not.toContain(canary);
  await program.stop();
  workspace.dispose();
});
