import { spawnSync } from 'node:child_process';
import { mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import { Backend } from '../support/backend.js';
import { Program, runProgram } from '../support/program.js';
import { isLong } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

let workspace: Workspace;
beforeAll(() => {
  workspace = Workspace.with({ 'index.html': '<h1>Quay</h1>' });
});
afterAll(() => workspace.dispose());

describe('what is wrong on the command line or in the settings', () => {
  const cases: [string, string[], Record<string, string>, string][] = [
    ['an unknown option', ['serve', '--prot', '80'], {}, "Unknown option '--prot'."],
    ['a bad port', ['serve', '--port', 'eighty'], {}, 'A port is a whole number up to 65535.'],
    [
      'a forward without origin',
      ['serve', '--forward', '/api'],
      {},
      'Write a path and an origin, e.g. /api=http://127.0.0.1:8464.',
    ],
    ['a forward with a path', ['serve', '--forward', '/api=http://a:1/v2'], {}, "'http://a:1/v2' is no origin"],
    ['a page that is not there', ['serve', 'quay.html'], {}, 'There is no page quay.html.'],
    ['an unknown command', ['sail'], {}, "Unknown command 'sail'."],
    ['an unknown setting', ['serve'], { 'vine-spark.config.json': '{ "bass": "/" }' }, "There is no setting 'bass'."],
    [
      'settings that throw',
      ['serve'],
      { 'vine-spark.config.mjs': 'throw new Error("no tide table");' },
      'cannot be used: no tide table.',
    ],
    [
      'settings that are no JavaScript',
      ['serve'],
      { 'vine-spark.config.ts': 'export default {\n  base = 1\n};' },
      'vine-spark.config.ts:2',
    ],
  ];

  test.each(cases)('%s gives one clear sentence and exit code 2', async (_name, args, files, message) => {
    const folder = Workspace.with({ 'index.html': '<h1>Quay</h1>', ...files });
    const { code, stderr } = await runProgram(folder.root, args);
    expect(stderr).toContain(message);
    expect(stderr).not.toMatch(/^\s+at /m);
    expect(code).toBe(2);
    folder.dispose();
  });

  test('a near miss is pointed out', async () => {
    expect((await runProgram(workspace.root, ['serve', '--prot', '80'])).stderr).toContain('Did you mean --port?');
  });
});

describe('settings', () => {
  test.each([
    [
      'vine-spark.config.ts',
      `import { base } from './base.js';\nimport type { Settings } from 'vine-spark';\nexport default { base, pages: { '/': 'index.html' } } satisfies Settings;`,
    ],
    ['vine-spark.config.mjs', `export default { base: '/harbour/', pages: { '/': 'index.html' } };`],
    ['vine-spark.config.json', `{ "base": "/harbour/", "pages": { "/": "index.html" } }`],
  ])('are read from %s', async (name, text) => {
    const folder = Workspace.with({
      'index.html': '<h1>Quay</h1>',
      'base.ts': `export const base: string = '/harbour/';`,
      [name]: text,
    });
    const program = await Program.serve(folder.root, []);
    expect(new URL(program.url).pathname).toBe('/harbour/');
    expect(await (await fetch(program.url)).text()).toContain('<script src="/harbour/~spark/page.js"');
    await program.stop();
    folder.dispose();
  });

  test('give way to the command line', async () => {
    const folder = Workspace.with({ 'index.html': '<h1>Quay</h1>', 'vine-spark.config.json': '{ "base": "/harbour/" }' });
    const program = await Program.serve(folder.root, ['index.html', '--base', '/quay']);
    expect(new URL(program.url).pathname).toBe('/quay/');
    await program.stop();
    folder.dispose();
  });
});

test('help lists the options of serve', async () => {
  const { code, stdout } = await runProgram(workspace.root, ['serve', '--help']);
  expect(code).toBe(0);
  for (const option of ['--port', '--exact-port', '--host', '--open', '--base', '--forward', '--settings'])
    expect(stdout).toContain(option);
});

test('a folder without pages says so', async () => {
  const folder = Workspace.with({ 'notes.txt': 'nothing' });
  const { code, stderr } = await runProgram(folder.root, ['serve']);
  expect(code).toBe(2);
  expect(stderr).toContain('There is no HTML page in this folder.');
  folder.dispose();
});

test('check says who answers a path, and why', async () => {
  const backend = await Backend.start((_, response) => response.end());
  const rules = `export default { forward: [
    { paths: ['/api'], to: '${backend.origin}', path: { drop: '/api' } },
    { paths: ['/api'], to: 'http://127.0.0.1:8465', methods: ['POST'] },
    { paths: ['/**'], to: 'http://127.0.0.1:8466', when: 'missing' },
  ] };`;
  const workspace = Workspace.with({
    'index.html': '<!doctype html>',
    'gull.svg': '<svg/>',
    'vine-spark.config.js': rules,
  });
  const check = async (...args: string[]) => (await runProgram(workspace.root, ['check', 'index.html', '--url', ...args])).stdout;
  expect(await check('/api/x?y=1')).toMatch(
    /^GET \/api\/x {2}the backend http:\/\/127\.0\.0\.1:\d+, asked for \/x\?y=1, by the rule for \/api\n.*:\d+ {2}answers\n.*8465 {2}is not for it: its methods are POST\n.*8466 \(when missing\) {2}comes last/,
  );
  expect(await check('/api/x', '--method', 'post')).toContain('8465, asked for /api/x');
  expect(await check('/gull.svg')).toContain('the file');
  expect(await check('/berths/3')).toContain('the page index.html, for browsers that ask for HTML');
  expect(await check('/berths.json')).toContain('the backend http://127.0.0.1:8466');
  await backend.close();
  expect(await check('/api/x')).toContain('is the one for it, but does not answer (ECONNREFUSED)');
  workspace.dispose();
});

test('what reads sources by itself refuses those that are nested too deeply, or leaves them out', async () => {
  const deep = `${'if (a) { f() } else '.repeat(60_000)}g();`;
  const workspace = Workspace.with({
    'index.html': '<p>Quay</p>',
    'src/deep.tsx': `export function Deep() { ${deep} return <p /> }`,
    'src/card.tsx': 'export function Card() { return <p /> }',
    'quay.config.ts': `${deep}\nexport default {};`,
    'server.ts': deep,
  });
  const told = async (...args: string[]) => {
    const { code, stdout, stderr } = await runProgram(workspace.root, args);
    return [code, stdout + stderr];
  };
  const refused = [expect.any(Number), expect.stringMatching(/(?:deep\.tsx|quay\.config\.ts) is too deeply nested/)];
  expect(await told('serve', 'src/deep.tsx')).toEqual(refused);
  if (isLong) {
    expect(await told('settings', '--settings', 'quay.config.ts')).toEqual(refused);
    expect(await told('new', 'grown', '--from', 'src/deep.tsx', '--no-install')).toEqual(refused);
    expect(await told('graph', '--unused')).toEqual([0, expect.stringContaining('src/deep.tsx')]);
  }
  expect(await told('needs')).toEqual([0, expect.stringContaining('src/deep.tsx')]);
  const { code, signal } = spawnedNode(workspace.root, '--import', join(repository, 'dist/node/hook.js'), 'server.ts');
  expect([code, signal]).toEqual([1, null]);
  const program = await Program.serve(workspace.root, ['src', '--components']);
  expect(await (await fetch(program.url)).text()).toContain('Card');
  await program.stop();
  workspace.dispose();
}, 30_000);

function spawnedNode(cwd: string, ...args: string[]): { code: number | null; signal: string | null } {
  const { status, signal } = spawnSync(process.execPath, args, { cwd, stdio: 'ignore' });
  return { code: status, signal };
}

test.each<[args: string[], said: RegExp]>([
  [['graph', '--html', 'nowhere/graph.html'], /nowhere\/graph\.html cannot be opened: there is no such.*output-unwritable/],
  [['settings', '--write', 'nowhere/quay.config.ts'], /quay\.config\.ts cannot be opened.*output-unwritable/],
  [['build', '--report', 'nowhere/report.html'], /output-unwritable/],
  [['needs'], /package\.json is no JSON: .*syntax-error\n {2}package\.json:1:2\n/],
  [['check'], /package\.json is no JSON/],
  [['new', '.', '--adopt', '--yes'], /package\.json is no JSON/],
  [['new', 'grown', '--from', 'folder', '--no-install'], /folder holds no file\. file-missing/],
])('a place or a file that can not be used is a problem, and no failure of ours: %j', async (args, said) => {
  const workspace = Workspace.with({ 'index.html': '', 'package.json': '{quay}' });
  mkdirSync(workspace.path('folder'));
  const { code, stdout, stderr } = await runProgram(workspace.root, args);
  expect([code, stdout + stderr]).toEqual([1, expect.stringMatching(said)]);
  expect(stdout + stderr).not.toContain('internal-error');
  workspace.dispose();
});
