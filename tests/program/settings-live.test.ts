import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { problemText } from '../../src/cli/report/problem-text.js';
import type { Problem } from '../../src/core/problem/problem.js';
import { Backend } from '../support/backend.js';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

let workspace: Workspace;
let program: Program;
let backend: Backend;
const settings = (more: object) => JSON.stringify({ expose: ['TIDE'], pages: { '/': 'index.html' }, ...more });
beforeAll(async () => {
  backend = await Backend.start((request, response) => {
    response.write(`from the backend: ${request.url}`);
    if (request.url !== '/api/stream') response.end();
  });
  workspace = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.js"></script>',
    'main.js': 'document.title = process.env.TIDE;\n',
    'vine-spark.config.json': settings({}),
    '.env': 'TIDE=high',
  });
  program = await Program.serve(workspace.root, []);
});
afterAll(async () => {
  await program.stop();
  await backend.close();
  workspace.dispose();
});

const get = async (path: string) => {
  const reply = await fetch(new URL(path, program.url), { headers: { accept: 'text/html' } });
  return `${reply.status} ${await reply.text()}`;
};
const app = () => get('/~spark/piece/page/index.html/app.js');

test('a new rule and a new page apply while the server runs', async () => {
  expect(await get('/api/x')).toMatch(/^404/);
  const after = program.mark;
  workspace.write({
    'vine-spark.config.json': settings({
      forward: [{ paths: ['/api'], to: backend.origin }],
      pages: { '/': 'index.html', '/berths/*': 'index.html' },
    }),
  });
  expect(await program.next('settings', { after })).toMatchObject({ needsRestart: [] });
  expect(await get('/api/x')).toBe('200 from the backend: /api/x');
  expect(await get('/berths/4')).toMatch(/^200/);
});

test('files that the settings import are watched too', async () => {
  const other = Workspace.with({
    'index.html': '<!doctype html>',
    'rules.ts': `export const path: string = '/one';\n`,
    'vine-spark.config.ts': `import { path } from './rules';\nexport default { forward: [{ paths: [path], to: 'http://127.0.0.1:9' }] };\n`,
  });
  const serving = await Program.serve(other.root);
  const after = serving.mark;
  other.write({ 'rules.ts': `export const path: string = '/two';\n` });
  await serving.next('settings', { after });
  expect((await fetch(new URL('/two', serving.url))).status).toBe(502);
  // One that isn't there, then is wrong, then right, though the settings' own file stays as it is. They may import each other.
  const next = async (event: string, change: Record<string, string>) => {
    const mark = serving.mark;
    other.write(change);
    return serving.next(event, { after: mark });
  };
  const config = `import { path } from './rules';\nimport { to } from './hours';\nexport default { forward: [{ paths: [path], to }] };\n`;
  await next('problems', { 'vine-spark.config.ts': config });
  await next('problems', { 'hours.ts': 'export const to: = 1;' });
  await next('settings', {
    'hours.ts': `import { path } from './rules';\nexport const to = 'http://127.0.0.1:9';\nexport const at = () => path;\n`,
  });
  await next('settings', {
    'rules.ts': `import { to } from './hours';\nexport const path = '/three';\nexport const other = () => to;\n`,
  });
  expect((await fetch(new URL('/three', serving.url))).status).toBe(502);
  await serving.stop();
  other.dispose();
});

test('a stream to the backend goes on through a change, and updates are sent as before', async () => {
  const stream = (await fetch(new URL('/api/stream', program.url))).body!.getReader();
  await stream.read();
  const after = program.mark;
  workspace.write({ '.env': 'TIDE=low' });
  await program.next('settings', { after });
  expect(await app()).toContain('document.title = "low"');
  workspace.write({ 'main.js': 'document.title = "quay " + process.env.TIDE;\n' });
  expect(await program.next('update', { after })).toMatchObject({ changed: ['main.js'] });
  let isOver = false;
  void stream.read().then(
    () => {
      isOver = true;
    },
    () => {
      isOver = true;
    },
  );
  await get('/api/x');
  expect(isOver).toBe(false);
  await stream.cancel();
});

/** A settings file, and what is said of it: place, sentence, remedy. */
const mistakes: [settings: string, said: RegExp[]][] = [
  ['{ "bse": "/x/" }', [/There is no setting 'bse'.*1:3.*Did you mean 'base'\?/s]],
  ['{ "base": "x" }', [/The setting 'base' is "x", but it must start and end with \/.*1:11.*For example: base: '\/berths\/'/s]],
  [
    '{\n  "listen": { "prt": 1,\n    "port": "80" }\n}',
    [
      /'listen\.port' is "80", but it must be a number.*3:13.*For example: listen: \{ port: 8463 \}/s,
      /There is no setting 'listen\.prt'.*2:15.*Did you mean 'listen\.port'/s,
    ],
  ],
  [
    '{ "forward": [{ "paths": ["api"], "to": "x" }] }',
    [
      /'forward\.0\.paths\.0' is "api", but it must start with \/.*1:27/s,
      /'forward\.0\.to' is "x", but it must be an origin.*1:41/s,
    ],
  ],
  ['{ "output": { "sourceMaps": "yes" } }', [/must be one of "on", "hidden", "off".*sourceMaps: 'hidden'/s]],
  ['{ "embed": { "from": ["localhost:8464"] } }', [/must be an origin such as/]],
  ['{ "pages": { "/": { "scripts": "a" } } }', [/'pages\.\/' is .*must be the path of an HTML file, or \{ script/]],
  ['{ "run": [{ "name": "a b", "command": "x" }] }', [/must be a short name.*1:21.*For example: run: \[/s]],
  ['[]', [/The settings must be an object/]],
  [
    '{ "verbatim": "public", "roots": 1, "expose": {} }',
    [/'verbatim' is "public".*1:15/s, /'roots' is 1.*1:34/s, /'expose' is \{\}.*1:47/s],
  ],
];
test.each(mistakes)('%s is explained, and the last good settings hold', async (text, said) => {
  const after = program.mark;
  workspace.write({ 'vine-spark.config.json': text });
  const { problems } = await program.next('problems', { after });
  expect(problems.map(({ code }: Problem) => code)).toEqual(said.map(() => 'unknown-setting'));
  for (const [index, problem] of problems.entries()) expect(problemText(problem)).toMatch(said[index]!);
  expect(await get('/api/x')).toBe('200 from the backend: /api/x');
});

test('settings that are right again apply', async () => {
  const after = program.mark;
  workspace.write({ 'vine-spark.config.json': settings({ listen: { port: 9 } }) });
  expect(await program.next('settings', { after })).toMatchObject({ needsRestart: [] });
  expect(await get('/api/x')).toMatch(/^404/);
});

test('parts of settings run again when they change, CommonJS too', async () => {
  const svelte = `export default { preprocess: [{ name: 'words', markup: ({ content }) => ({ code: content.replace('WORD', word) }) }] };\n`;
  const other = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.js"></script>',
    'main.js': `import Berth from './berth.svelte';\nconsole.log(Berth, process.env.TIDE);\n`,
    'berth.svelte': '<p>WORD</p>\n',
    'svelte.config.js': `import { word } from './config/word.js';\n${svelte}`,
    'config/word.js': `import words from './words.json' with { type: 'json' };\nexport const { word } = words;\n`,
    'config/words.json': '{ "word": "pontoon" }',
    'vine-spark.config.js': `module.exports = { constants: { 'process.env.TIDE': require('./config/tide') } };\n`,
    'config/tide.cjs': `module.exports = 'low';\n`,
    'config/tide.js': `module.exports = require('./tide.cjs');\n`,
  });
  other.linkPackages(['svelte']);
  const serving = await Program.serve(other.root);
  const served = async () => (await fetch(`${serving.url}~spark/piece/page/index.html/app.js`)).text();
  expect(await served()).toMatch(/pontoon[\s\S]*"low"/);
  let after = serving.mark;
  other.write({ 'config/words.json': '{ "word": "gangway" }' });
  await serving.next('update', { after });
  expect(await served()).toContain('gangway');
  after = serving.mark;
  other.write({ 'config/tide.cjs': `module.exports = 'high';\n` });
  await serving.next('settings', { after });
  expect(await served()).toMatch(/gangway[\s\S]*"high"/);
  await serving.stop();
  other.dispose();
}, 30_000);
