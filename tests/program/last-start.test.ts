import { readdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { get, type IncomingMessage } from 'node:http';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import WebSocket from 'ws';
import { liveProtocol } from '../../src/core/live/messages.js';
import { noTrace } from '../../src/core/trace.js';
import { Project } from '../../src/project/project.js';
import { Program } from '../support/program.js';
import { withoutRunKeys } from '../support/run-keys.js';
import { full, longTest } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

/** What a start answers before it has read its modules: what the last one did, as long as nothing has changed. */

/** More than connections hold while nobody reads. */
const long = 'x'.repeat(12 << 20);
const files = {
  'index.html':
    '<!doctype html><title>Quay</title><link rel="stylesheet" href="src/page.scss"><script type="module" src="src/main.ts"></script>',
  'src/page.scss': `@use 'tones';\nbody { color: tones.$sea; background: url('gull.svg'); }\n`,
  'src/_tones.scss': '$sea: teal;\n',
  'src/gull.svg': '<svg xmlns="http://www.w3.org/2000/svg"/>',
  'src/berth.css': 'b { order: 1; }\n',
  'src/main.ts': `import './berth.css';\nimport { tide } from './tide';\nimport mast from 'mast';\nimport { hull } from 'hull';\nimport gull from './gull.svg';
export class Quay { level = tide; }\ndocument.title = [new Quay().level, mast, hull, gull, process.env.HARBOUR].join();\nvoid import('./later');\n`,
  'src/tide.ts': `export const tide: string = 'low';\n`,
  'src/later.ts': `export const later = 'later';\n`,
  'tsconfig.json': '{ "extends": "./base.json" }',
  'base.json': '{ "compilerOptions": { "target": "esnext" } }',
  'vine-spark.config.json': `{ "constants": { "process.env.HARBOUR": "'Saltmarsh'" } }`,
  'node_modules/mast/package.json': '{ "name": "mast", "main": "one.js" }',
  'node_modules/mast/one.js': `module.exports = 'one';\n`,
  'node_modules/mast/two.js': `module.exports = 'two';\n`,
  'hulls/old/index.js': `export const hull = 'old';\n`,
  'hulls/new/index.js': `export const hull = 'new';\n`,
};

let workspace: Workspace;
beforeAll(() => {
  workspace = Workspace.with(files);
  symlinkSync('../hulls/old', workspace.path('node_modules/hull'));
});
afterAll(() => workspace.dispose());

/** Serves without waiting for modules. */
async function begin(args: readonly string[] = []): Promise<{ program: Program; url: string }> {
  const program = new Program(workspace.root, ['serve', 'index.html', '--port', '0', '--json', ...args]);
  return { program, url: (await program.next('listening')).url };
}

const text = async (url: string, path = '') => (await fetch(new URL(path, url))).text();

/** All that a page asks for. */
async function everything(url: string): Promise<string[]> {
  const html = withoutRunKeys(await text(url));
  const sheets = [...html.matchAll(/(?:href|data-spark-url)="([^"]*~spark\/style[^"]*)"/g)].map(([, href]) => href!);
  expect(sheets).toHaveLength(2);
  const pieces = ['page/index.html/packages', 'page/index.html/app', 'lazy/src/later.ts'].map(
    (name) => `~spark/piece/${name}.js`,
  );
  const texts = await Promise.all([...sheets, ...pieces].map((path) => text(url, path)));
  const maps = texts.map((piece) => /sourceMappingURL=(\S*)\s*(?:\*\/)?\s*$/.exec(piece)![1]!);
  return [html, ...texts.map(withoutRunKeys), ...(await Promise.all(maps.map((path) => text(url, path))))];
}

/** Whether the last start was found to hold. */
function held(): boolean {
  const trace = readFileSync(workspace.path('trace.json'), 'utf8');
  expect(trace).toMatch(/the last start (?:still holds|does not hold)/);
  return trace.includes('the last start still holds');
}

async function run(args: readonly string[]): Promise<string[]> {
  const { program, url } = await begin(args);
  const got = await everything(url);
  await program.next('ready');
  await program.stop();
  return got;
}

/** A start that may answer what the last one did. */
async function next(): Promise<{ got: string[]; held: boolean }> {
  const got = await run(['--trace', 'trace.json']);
  return { got, held: held() };
}

/** What a start gives that knows nothing. */
const plain = () => run(['--no-cache']);

const changes: [what: string, change: () => unknown][] = [
  ['a module', () => workspace.write({ 'src/tide.ts': `export const tide: string = 'ebb';\n` })],
  ['a file that is found first', () => workspace.write({ 'src/node_modules/mast/index.js': `module.exports = 'nearer';\n` })],
  ['a file that was found', () => workspace.delete('src/node_modules')],
  ['a partial of a sheet', () => workspace.write({ 'src/_tones.scss': '$sea: navy;\n' })],
  ['an image', () => workspace.write({ 'src/gull.svg': '<svg xmlns="http://www.w3.org/2000/svg" id="gull"/>' })],
  ['the page', () => workspace.write({ 'index.html': files['index.html'].replace('Quay', 'Pier') })],
  ['a package', () => workspace.write({ 'node_modules/mast/package.json': '{ "name": "mast", "main": "two.js" }' })],
  [
    'a linked package',
    () => {
      rmSync(workspace.path('node_modules/hull'));
      symlinkSync('../hulls/new', workspace.path('node_modules/hull'));
    },
  ],
  ['what tsconfig.json extends', () => workspace.write({ 'base.json': '{ "compilerOptions": { "target": "es2020" } }' })],
  ['a nearer tsconfig.json', () => workspace.write({ 'src/tsconfig.json': '{ "compilerOptions": { "target": "esnext" } }' })],
  ['a constant', () => ({ 'process.env.HARBOUR': `'Reed'` })],
  [
    'what is kept',
    () => {
      const folder = workspace.path('node_modules/.cache/vine-spark');
      for (const name of readdirSync(folder).filter((entry) => entry.startsWith('start-')))
        writeFileSync(join(folder, name, 'start.json'), '{ "fingerprint');
    },
  ],
];

describe('a start after', () => {
  test('the same answers the same', async () => {
    const first = await next();
    expect(first.held).toBe(false);
    expect(await next()).toEqual({ got: first.got, held: true });
    expect(await plain()).toEqual(first.got);
  });

  test('a change makes what it concerns anew', async () => {
    workspace.write({ 'src/tide.ts': `export const tide: string = 'high';\n` });
    const [made, expected] = await Promise.all([next(), plain()]);
    expect(made).toEqual({ got: expected, held: false });
  });

  longTest('changes that undo each other answers the same', async () => {
    const before = await next();
    const tide = readFileSync(workspace.path('src/tide.ts'));
    workspace.write({ 'src/tide.ts': 'something else', 'src/new.ts': '' });
    workspace.write({ 'src/tide.ts': tide });
    workspace.delete('src/new.ts');
    expect(await next()).toEqual({ got: before.got, held: true });
  });
});

/** A project of the workspace that was just begun. */
function begun(constants: Record<string, string> = {}): Project {
  const none = {
    pages: ['index.html'],
    base: '/',
    alias: {},
    roots: [],
    conditions: [],
    adapters: [],
    verbatim: [],
    generated: {},
    insert: { head: '', body: '' },
    embedded: [],
    noticed: [],
    ignored: [],
  };
  const cacheFolder = workspace.path('node_modules/.cache/vine-spark');
  const rest = {
    root: workspace.root,
    constants,
    cacheFolder,
    poll: false,
    mode: 'development' as const,
    settingsFiles: [],
    revision: 0,
    trace: noTrace,
  };
  const project = new Project({ ...none, ...rest });
  project.begin();
  return project;
}

/** Keeps a start, and tells whether the next ones find that it holds: before a change, which may return constants, and after it. */
async function holdsAfter(change: () => unknown): Promise<boolean[]> {
  const project = begun();
  await project.opened();
  expect(project.problems).toEqual([]);
  await project.keepStart({ pages: {}, pieces: [], sheets: {} });
  await project.close();
  const held: boolean[] = [];
  for (const constants of [() => ({}), () => change() ?? {}]) {
    const next = begun(constants() as Record<string, string>);
    held.push((await next.lastStart) !== undefined);
    await next.opened();
    await next.close();
  }
  return held;
}

describe('the last start', () => {
  test.each(changes)('holds, but not after a change of %s', async (_, change) => {
    expect(await holdsAfter(change)).toEqual([true, false]);
  });
});

describe('before modules are read', () => {
  /** A start with a request that keeps it from reading modules. */
  async function held(): Promise<{ program: Program; url: string; goOn(): void }> {
    workspace.write({ 'src/later.ts': `export const later = '${long}';\n` });
    await next();
    const { program, url } = await begin();
    const answer = await new Promise<IncomingMessage>((resolve) => get(`${url}~spark/piece/lazy/src/later.ts.js`, resolve));
    return { program, url, goOn: () => answer.resume() };
  }

  test('pages, pieces and sheets are answered', async () => {
    const { program, url, goOn } = await held();
    expect(await text(url)).toContain('app.js');
    expect(await text(url, '~spark/piece/page/index.html/app.js')).toContain('class Quay');
    expect(program.events.map(({ event }) => event)).not.toContain('ready');
    goOn();
    await program.next('ready');
    await program.stop();
  });

  longTest('a client that takes nothing does not hold up the rest', async () => {
    const names = Array.from({ length: full(300, 2500) }, (_, n) => `src/many/m${n}.ts`);
    workspace.write(Object.fromEntries(names.map((name, n) => [name, `export const m${n} = ${n};\n`])));
    workspace.write({
      'src/tide.ts': `${names.map((_, n) => `import './many/m${n}';\n`).join('')}export const tide = 'high';\n`,
    });
    const { program } = await held();
    expect((await program.next('ready')).modules).toBeGreaterThan(names.length);
    await program.stop();
    workspace.write({ 'src/tide.ts': `export const tide = 'high';\n` });
  });

  longTest('what changes then reloads the pages that were answered', async () => {
    const { program, url, goOn } = await held();
    const { key, session } = JSON.parse(await text(url, '~spark/session')) as { key: string; session: string };
    const query = new URLSearchParams({ key, session, page: 'index.html', revision: '0' });
    const socket = new WebSocket(`${url.replace('http', 'ws')}~spark/live?${query}`, liveProtocol);
    const messages: { type: string; reload?: object[] }[] = [];
    const told = new Promise<void>((resolve) =>
      socket.on('message', (data) => {
        messages.push(JSON.parse(String(data)));
        if (messages.at(-1)!.type === 'update') resolve();
      }),
    );
    workspace.write({ 'src/later.ts': `export const later = 'sooner';\n` });
    goOn();
    await told;
    expect(messages.at(-1)!.reload).toEqual([{ page: 'index.html', reason: 'files changed while the server was starting' }]);
    expect(await text(url, '~spark/piece/lazy/src/later.ts.js')).toContain('sooner');
    socket.close();
    await program.stop();
  });
});
