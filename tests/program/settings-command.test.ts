import { mkdirSync, readFileSync, symlinkSync } from 'node:fs';
import { afterEach, expect, test } from '@jest/globals';
import { runProgram } from '../support/program.js';
import { isLong } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

let workspace: Workspace;
afterEach(() => workspace.dispose());
const run = (...args: string[]) => runProgram(workspace.root, ['settings', ...args]);

test('settings are printed with where each comes from, and written to a file that changes nothing', async () => {
  workspace = Workspace.with({
    'index.html': '<title>Quay</title>',
    'quay.config.ts': `import type { Settings } from 'vine-spark';\nconst listen = {\n  names: ['harbour.test'],\n};\nexport default {\n  listen,\n  base: '/berths/',\n  forward: [{ paths: ['/api'], to: 'http://127.0.0.1:8464' }],\n} satisfies Settings;\n`,
  });
  const args = ['--settings', 'quay.config.ts', '--port', '9000', '--forward', '/live=http://127.0.0.1:8465'];
  const { stdout, code } = await run(...args);
  expect(code).toBe(0);
  const rows = Object.fromEntries(
    stdout
      .split('\n')
      .map((line) => line.trim().split(/ {2,}/))
      .map(([name, ...rest]) => [name, rest]),
  );
  expect(rows).toMatchObject({
    pages: [expect.stringContaining("'/': 'index.html'"), 'the HTML files of the folder'],
    base: ["'/berths/'", 'quay.config.ts:7'],
    'listen.port': ['9000', '--port'],
    'listen.names': ["['harbour.test']", 'quay.config.ts:3'],
    'listen.host': ["'localhost'", 'the default'],
    verbatim: ["['public']", 'the default'],
  });
  expect(rows.forward![1]).toBe('--forward, quay.config.ts:8');
  const before = JSON.parse((await run('--json', '--port', '9000')).stdout);
  expect(await run('--write', '--port', '9000')).toMatchObject({
    code: 0,
    stdout: expect.stringContaining('vine-spark.config.ts'),
  });
  const written = readFileSync(workspace.path('vine-spark.config.ts'), 'utf8');
  expect(written).toMatch(/\/\/ URL prefix of the whole front end.*\n {2}\/\/ base: '\/berths\/',\n/);
  const values = (list: { name: string; value: string }[]) => list.map(({ name, value }) => [name, value]);
  expect(values(JSON.parse((await run('--json')).stdout))).toEqual(values(before));
  expect(await run('--write')).toMatchObject({ code: 1, stderr: expect.stringContaining('output-clash') });
}, 30_000);

test('what package.json, files beside it and the environment say is named as where it comes from', async () => {
  workspace = Workspace.with({
    'index.html': '',
    'package.json': '{ "name": "quay", "browserslist": ["chrome 100", "safari 16"] }',
    'vine-spark.config.json': '{\n  "expose": ["TIDE", "PATH", "GULL", "MOON"]\n}',
    '.env': '\uFEFFTIDE=low\nmoored\n=\n# "tide\nexport   GULL=grey',
    '.env.local': 'GULL=white',
  });
  const found = JSON.parse((await run('--json')).stdout) as { name: string }[];
  const row = (name: string) => found.find((one) => one.name === name);
  expect(row('targets')).toMatchObject({ value: "'chrome 100, safari 16'", from: 'package.json' });
  expect(row('expose')).toMatchObject({
    from: 'vine-spark.config.json:2 (TIDE: .env, PATH: the environment, GULL: .env.local, MOON: nowhere)',
  });
});

test('settings for another version than the one that runs say so', async () => {
  workspace = Workspace.with({
    'index.html': '',
    'package.json': '{ "name": "quay", "devDependencies": { "vine-spark": "^99.1.0" } }',
    'vine-spark.config.json': '{ "moorings": true }',
    'yarn.lock': '',
  });
  const { code, stderr } = await run();
  expect([code, stderr]).toEqual([
    2,
    expect.stringMatching(/no setting 'moorings'.*wants vine-spark \^99\.1\.0, and this is \d.*Run yarn install/s),
  ]);
});

test('--schema prints what editors need', async () => {
  workspace = Workspace.with({ 'index.html': '' });
  const schema = JSON.parse((await run('--schema')).stdout);
  expect(schema.properties.listen.properties.port).toMatchObject({
    description: expect.stringContaining('port to listen on'),
    maximum: 65535,
  });
  expect(schema).toMatchObject({ additionalProperties: false, properties: { base: { pattern: expect.any(String) } } });
}, 30_000);

test('mistakes in TypeScript settings have places too', async () => {
  workspace = Workspace.with({
    'index.html': '',
    'vine-spark.config.ts': `const port: number = 1;\nexport default {\n  listen: { port, hosts: 'x' } as object,\n};\n`,
  });
  const { stderr } = await runProgram(workspace.root, ['serve']);
  expect(stderr).toMatch(/no setting 'listen\.hosts'.*vine-spark\.config\.ts:3:19.*Did you mean 'listen\.host'/s);
}, 30_000);

test('settings in code are found where they stand, whichever form they and their parts have', async () => {
  const parts = {
    'index.html': '<script type="module" src="main.ts"></script>',
    'main.ts': `import '@/berth';\nimport 'moorings';\n`,
    'src/berth.ts': `console.log('berth');\n`,
    'src/moorings.ts': `console.log('moorings');\n`,
    'config/names.cjs': `const { path } = require('./path');\nexports.folder = path;\n`,
    'config/path.js': `exports.path = require('node:path').join(__dirname, '..');\n`,
    'config/late/index.ts': `export const roots: string[] = [import.meta.resolve('../../src').slice('file://'.length)];\n`,
    'node_modules/slips/package.json': '{ "name": "slips", "type": "module", "exports": { "import": "./slips.js" } }',
    'node_modules/slips/slips.js': `export const base = '/slips/';\n`,
    'packages/yard/package.json': '{ "name": "@quay/yard", "main": "yard.ts", "imports": { "#berths": "./berths.ts" } }',
    'packages/yard/yard.ts': `export { alias } from '#berths';\n`,
    'packages/yard/berths.ts': `import { fileURLToPath } from 'node:url';\nexport const alias: Record<string, string> = { '@': fileURLToPath(new URL('../../src', import.meta.url)) };\n`,
  };
  const modern = `import { base } from 'slips';\nimport names, { folder } from './config/names.cjs';
import { alias } from '@quay/yard';\nconst { roots } = await import('./config/late');
if (names.folder !== folder || folder !== import.meta.dirname) throw new Error(folder);\nexport default { base, roots, alias };\n`;
  const old = `const { folder } = require('./config/names.cjs');\nmodule.exports = { base: '/slips/', roots: [folder + '/src'], alias: { '@': folder + '/src' } };\n`;
  for (const [name, text] of [
    ['vine-spark.config.ts', modern],
    ['vine-spark.config.js', old],
    ...(isLong ? ([['vine-spark.config.mjs', modern]] as const) : []),
  ] as const) {
    workspace?.dispose();
    workspace = Workspace.with({ ...parts, [name]: text });
    mkdirSync(workspace.path('node_modules/@quay'));
    symlinkSync('../../packages/yard', workspace.path('node_modules/@quay/yard'));
    const { code, stdout, stderr } = await runProgram(workspace.root, ['build', '--json']);
    expect([name, code, stderr]).toEqual([name, 0, '']);
    expect(JSON.parse(stdout)).toMatchObject({ manifest: { base: '/slips/' }, summary: { modules: 3 } });
  }
}, 30_000);
