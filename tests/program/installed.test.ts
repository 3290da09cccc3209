import { execFileSync, spawn } from 'node:child_process';
import { mkdirSync, readdirSync, symlinkSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { Program } from '../support/program.js';
import { repository, Workspace } from '../support/workspace.js';

/** A project with the packed program among its packages, as an install leaves it. */
let workspace: Workspace;
const main = () => workspace.path('node_modules/vine-spark/dist/cli/main.js');
beforeAll(() => {
  workspace = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.scss.js"></script>',
    'main.scss.js': `import './quay.scss';\n`,
    'quay.scss': '$sea: teal;\nb { color: $sea; }\n',
  });
  const packed = JSON.parse(
    execFileSync('npm', ['pack', '--json', '--ignore-scripts', '--pack-destination', workspace.root], {
      cwd: repository,
      encoding: 'utf8',
      stdio: ['ignore', 'pipe', 'ignore'],
    }),
  ) as { filename: string }[];
  mkdirSync(workspace.path('node_modules/vine-spark'), { recursive: true });
  execFileSync('tar', [
    '-xzf',
    workspace.path(packed[0]!.filename),
    '-C',
    workspace.path('node_modules/vine-spark'),
    '--strip-components=1',
  ]);
  // Everything but Sass, which is a part of the program.
  for (const name of readdirSync(join(repository, 'node_modules')))
    if (!name.startsWith('.') && name !== 'sass' && name !== 'immutable')
      symlinkSync(join(repository, 'node_modules', name), workspace.path(`node_modules/${name}`));
});
afterAll(() => workspace.dispose());

function start(args: readonly string[]): Program {
  return Program.of(
    spawn(process.execPath, [main(), ...args], { cwd: workspace.root, env: { ...process.env, NODE_OPTIONS: '', NO_COLOR: '1' } }),
  );
}

test('the packed and installed copy serves, with Sass of its own', async () => {
  const program = start(['serve', 'index.html', '--port', '0', '--json']);
  await program.next('ready');
  expect(program.events.filter(({ event }) => event === 'problems')).toEqual([]);
  expect(await (await fetch(new URL('~spark/style/quay.scss', program.url))).text()).toContain('color: teal');
  await program.stop();
});

test('it starts the demo', async () => {
  const program = start(['demo', 'board', '--port', '0', '--json']);
  const { modules } = await program.next('ready');
  expect(modules).toBeGreaterThan(40);
  expect(await (await fetch(program.url)).text()).toContain('Saltmarsh Ferries');
  expect((await fetch(new URL('api/departures', program.url))).status).toBe(200);
  await program.stop();
});

test.each([
  [['check', 'index.html', '--url', '/'], /the page index\.html/],
  [['build', 'index.html'], /2 modules in \d+ files/],
  [['settings', '--port', '9000'], /listen\.port +9000 +--port/],
  [['settings', '--schema'], /"listen"/],
  [['graph', 'index.html'], /main\.scss\.js/],
  [['needs'], /package\.json lists what the sources use/],
  [['new', 'fresh', '--kind', 'react', '--yes', '--no-install'], /src\/board/],
  [['--help'], /serve/],
  [['-h'], /serve/],
  [['--version'], /^\d+\.\d+\.\d+\n$/],
])('it runs %j', (args, said) => {
  expect(execFileSync(process.execPath, [main(), ...args], { cwd: workspace.root, encoding: 'utf8' })).toMatch(said);
});
